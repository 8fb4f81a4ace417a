"""Which addresses a check may fetch from."""

from __future__ import annotations

from ipaddress import ip_network

import pytest

from nailer.core.connecting.public import may_be_fetched

PUBLIC = ["93.184.216.34", "1.1.1.1", "2606:2800:220:1::1", "64:ff9b::5db8:d822", "::ffff:93.184.216.34"]
INSIDE = [
    "127.0.0.1",
    "127.9.9.9",
    "10.0.0.7",
    "172.16.0.1",
    "192.168.1.1",
    "169.254.169.254",
    "100.64.0.1",
    "0.0.0.0",
    "255.255.255.255",
    "224.0.0.1",
    "192.0.2.1",
    "198.18.0.1",
    "::",
    "::1",
    "fe80::1",
    "fe80::1%eth0",
    "fd00::1",
    "ff02::1",
    "::ffff:127.0.0.1",
    "::ffff:169.254.169.254",
    "64:ff9b::a00:7",
    "2002:7f00:1::",
    "2002:a00:7::1",
    "mosslane.example",
    "",
]


@pytest.mark.parametrize("address", PUBLIC)
def test_public_addresses_are_fetched(address: str) -> None:
    assert may_be_fetched(address)


@pytest.mark.parametrize("address", INSIDE)
def test_nothing_inside_is_fetched(address: str) -> None:
    assert not may_be_fetched(address)


def test_the_settings_allow_a_network_and_no_other() -> None:
    allowed = [ip_network("10.20.0.0/16"), ip_network("fd00::/8")]

    assert may_be_fetched("10.20.3.4", allowed)
    assert may_be_fetched("::ffff:10.20.3.4", allowed)
    assert may_be_fetched("fd12::1", allowed)
    assert not may_be_fetched("10.21.0.1", allowed)
