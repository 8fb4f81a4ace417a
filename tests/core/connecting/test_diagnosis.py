"""Why a connection fails, and what to change."""

from __future__ import annotations

import pytest

from nailer.core.connecting.diagnosis import (
    like_names,
    likely_start_folders,
    of_data_channel,
    of_no_encryption,
    of_other_name,
    of_refusal,
    of_speaker,
    of_unreached,
    of_weak,
)
from nailer.core.connecting.protocol import Greeting, Protocol, Speaker
from nailer.errors import Unreached


def test_another_protocol_at_the_port_is_named_with_its_fix() -> None:
    found = of_speaker(Protocol.FTP_TLS, 2222, Greeting(Speaker.SSH, "SSH-2.0-x"))

    assert found is not None
    assert found.sentence == "Port 2222 uses SSH, but you chose FTP, explicit TLS."
    assert found.fixes[0].changes == (("protocol", "sftp"), ("port", "2222"))
    assert of_speaker(Protocol.SFTP, 22, Greeting(Speaker.SSH, "")) is None


def test_a_server_that_is_no_file_server_gets_no_fix() -> None:
    found = of_speaker(Protocol.SFTP, 80, Greeting(Speaker.WEB, "HTTP/1.1"))

    assert found is not None
    assert found.fixes == ()


def test_a_closed_port_points_to_the_open_ones() -> None:
    others = {22: Greeting(Speaker.SSH, ""), 990: Greeting(Speaker.TLS, ""), 21: Greeting(Speaker.STRANGER, "")}

    found = of_unreached(Unreached.REFUSED, "a.example", 2022, others)

    assert [fix.label for fix in found.fixes] == ["Use SFTP on port 22", "Use FTP, implicit TLS on port 990"]


def test_plain_ftp_is_offered_last_and_says_what_it_means() -> None:
    found = of_no_encryption("a.example", {22: Greeting(Speaker.SSH, "")})

    assert [dict(fix.changes)["protocol"] for fix in found.fixes] == ["sftp", "ftp"]
    assert "without encryption" in found.fixes[-1].label


@pytest.mark.parametrize(
    ("user", "host", "labels"),
    [
        ("seedlib", "ftp.mosslane.example", ["Try seedlib@mosslane.example"]),
        ("web@quay.example", "ftp.quay.example", ["Try web"]),
        ("Maren", "192.0.2.7", ["Try maren"]),
    ],
)
def test_variants_of_a_user_are_offered(user: str, host: str, labels: list[str]) -> None:
    assert [fix.label for fix in of_refusal(user, host, "right", has_key=False).fixes] == labels


@pytest.mark.parametrize("password", [" x", "x\u00a0", "\u200bx", "x\t"])
def test_a_blank_round_the_password_is_the_first_suspect(password: str) -> None:
    found = of_refusal("u", "a.example", password, has_key=False)

    assert "most likely cause" in found.sentence
    assert found.fixes[0].changes == (("trim_password", "yes"),)


def test_a_locked_account_is_not_tried_in_variants() -> None:
    found = of_refusal("Maren", "a.example", "x ", has_key=False, said="530 Account locked for 30 minutes")

    assert found.fixes == ()
    assert "locked" in found.sentence


def test_a_certificates_own_name_is_offered_only_where_it_leads_to_the_same_place() -> None:
    names = ["hosting.a.example", "other.example"]

    found = of_other_name("ftp.a.example", names, ["hosting.a.example"])

    assert found is not None
    assert [fix.changes for fix in found.fixes] == [(("host", "hosting.a.example"),)]
    assert of_other_name("ftp.a.example", names, []) is None


def test_old_algorithms_are_allowed_by_a_button_that_names_them() -> None:
    found = of_weak(("3des-cbc",))

    assert "3des-cbc" in found.sentence
    assert found.fixes[0].changes == (("old_allowed", "yes"),)
    assert of_data_channel(passive=True).fixes[0].changes == (("passive", ""),)


def test_start_folders_are_proposed_by_custom_and_by_domain() -> None:
    assert likely_start_folders(["mail", "HTDOCS", "logs"]) == ["/HTDOCS"]
    assert likely_start_folders(["www.a.example", "web"], "a.example") == ["/www.a.example", "/web"]
    assert like_names("ftp.a.example") == ["a.example", "www.a.example"]
