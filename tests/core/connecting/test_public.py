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
    "::127.0.0.1",
    "::10.0.0.7",
    "::ffff:0:127.0.0.1",
    "::ffff:0:a00:7",
    "64:ff9b:1::7f00:1",
    "64:ff9b::7f00:1",
    "fec0::1",
    "192.0.0.8",
    "192.0.0.170",
    "192.88.99.1",
    "192.31.196.1",
    "3fff::1",
    "3fff:fff::1",
    "2001:2::1",
    "2001:10::1",
    "2001:20::1",
    "2001:db8::1",
    "2620:4f:8000::1",
    "2002:5db8:d822::1",
    "5f00::1",
    "100::1",
    "100:0:0:1::1",
    "4000::1",
    "::",
    "255.255.255.255",
    "0177.0.0.1",
    "2130706433",
]


def test_ranges_end_where_the_registry_says() -> None:
    """One address on either side of a border: a range that is one bit too long or short shows."""
    borders = {
        "9.255.255.255": True,
        "11.0.0.0": True,
        "100.63.255.255": True,
        "100.64.0.0": False,
        "100.128.0.0": True,
        "172.15.255.255": True,
        "172.31.255.255": False,
        "172.32.0.0": True,
        "192.0.1.0": True,
        "198.17.255.255": True,
        "198.20.0.0": True,
        "223.255.255.255": True,
        "2001:1ff:ffff::1": False,
        "2001:200::1": True,
        "2001:db9::1": True,
        "2003::1": True,
        "3ffe:ffff::1": True,
        "3fff:1000::1": True,
    }

    assert {one: may_be_fetched(one) for one in borders} == borders


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
