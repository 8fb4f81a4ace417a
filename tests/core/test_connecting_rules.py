"""The small rules of getting connected: who answers, what to change, character sets, abilities, ssh configuration."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.abilities import Abilities, in_words
from nailer.core.charset import CHARSETS, candidates, from_wire, to_wire
from nailer.core.diagnosis import (
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
from nailer.core.protocol import Greeting, Protocol, Speaker, better_than, greeting_of
from nailer.core.room import Room, room_of_quota
from nailer.core.sshconfig import read_config
from nailer.errors import Unreached


@pytest.mark.parametrize(
    ("first", "speaker"),
    [
        (b"SSH-2.0-made-up\r\n", Speaker.SSH),
        (b"Welcome to the harbour\r\nSSH-2.0-made-up\r\n", Speaker.SSH),
        (b"220 files ready\r\n", Speaker.FTP),
        (b"220-Long greeting\r\n220 done\r\n", Speaker.FTP),
        (b"421 Come back later\r\n", Speaker.FTP),
        (b"220 mail.example ESMTP\r\n", Speaker.MAIL),
        (b"* OK IMAP ready\r\n", Speaker.MAIL),
        (b"HTTP/1.1 400 Bad Request\r\n", Speaker.WEB),
        (b"<!DOCTYPE html>", Speaker.WEB),
        (b"\x15\x03\x01\x00\x02", Speaker.TLS),
        (b"\x00\x01\x02", Speaker.STRANGER),
        (b"", Speaker.SILENT),
    ],
)
def test_a_greeting_tells_who_answers(first: bytes, speaker: Speaker) -> None:
    assert greeting_of(first).speaker is speaker


def test_a_greeting_is_shown_readably() -> None:
    assert greeting_of(b"220 \x1b[31mred\x07\r\nmore").line == "220 ·[31mred·"


def test_the_safest_offer_is_proposed_and_nothing_less_safe() -> None:
    assert better_than(Protocol.FTP, frozenset({Protocol.FTP_TLS, Protocol.SFTP})) is Protocol.SFTP
    assert better_than(Protocol.FTP_TLS, frozenset({Protocol.FTP})) is None


def test_another_protocol_at_the_port_is_named_with_its_fix() -> None:
    found = of_speaker(Protocol.FTP_TLS, 2222, Greeting(Speaker.SSH, "SSH-2.0-x"))

    assert found is not None
    assert found.sentence == "Port 2222 speaks SSH; you asked for FTP, explicit TLS."
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
    assert "unencrypted" in found.fixes[-1].label


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

    assert "first suspect" in found.sentence
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


@pytest.mark.parametrize("charset", CHARSETS)
def test_every_set_can_be_used(charset: str) -> None:
    assert from_wire(to_wire(b"index.html", charset), charset) == b"index.html"


@given(
    st.binary(min_size=1, max_size=40).filter(lambda name: b"/" not in name),
    st.sampled_from(["iso-8859-1", "cp1252", "koi8-r"]),
)
def test_a_name_of_the_server_survives_whatever_it_holds(name: bytes, charset: str) -> None:
    assert to_wire(from_wire(name, charset), charset) == name


@pytest.mark.parametrize(
    ("text", "charset"),
    [
        ("Öffnungszeiten.html", "iso-8859-1"),
        ("расписание.html", "cp1251"),
        ("расписание.html", "koi8-r"),
        ("船.html", "shift_jis"),
    ],
)
def test_the_right_set_is_among_the_first(text: str, charset: str) -> None:
    first = [one for one in candidates([text.encode(charset)]) if one.samples == (text,)]

    assert first
    assert candidates([text.encode(charset)]).index(first[0]) < 4
    assert candidates([text.encode()])[0].charset == "utf-8"


def test_abilities_are_said_with_what_they_mean() -> None:
    said = {one.what: one for one in in_words(Abilities(access=True, times=False))}

    assert said["Permissions"].can is True
    assert "time of their upload" in said["Times"].meaning
    assert said["Space left"].meaning == "not tried yet"


@pytest.mark.parametrize(
    ("lines", "room"),
    [
        (["Uploaded Mb:\t38.50/40.00"], Room(41_943_040, 1_572_864)),
        (["Files: 3/10", "Disk usage: 512 kB of 1024 kB"], Room(1_048_576, 524_288)),
        (["Bytes used: 1,000 / 2,000 bytes"], Room(2000, 1000)),
        (["You have no quota."], None),
        (["Files: 3/10"], None),
    ],
)
def test_the_room_is_read_out_of_a_quota(lines: list[str], room: Room | None) -> None:
    assert room_of_quota(lines) == room


CONFIG = """
# the studio's hosts
Host skerry skerry-live
    HostName ftp.skerryferries.example
    User maren
    Port 2222
    IdentityFile ~/.ssh/studio
Host jump
    HostName %h.example
    ProxyJump gate
Host *.example !secret.example
    User everybody
Match user root
    Port 1
Host *
    User fallback
    Port 22
"""


def test_a_client_configuration_is_read_as_ssh_reads_it() -> None:
    hosts = {one.alias: one for one in read_config(CONFIG)}

    assert list(hosts) == ["skerry", "skerry-live", "jump"]
    assert (hosts["skerry"].host, hosts["skerry"].port) == ("ftp.skerryferries.example", 2222)
    assert hosts["skerry"].key_file == "~/.ssh/studio"
    assert (hosts["jump"].host, hosts["jump"].user, hosts["jump"].unread) == (
        "jump.example",
        "fallback",
        ("proxyjump",),
    )


@given(st.text(max_size=300))
def test_any_text_can_be_read_as_a_configuration(text: str) -> None:
    assert all(one.alias for one in read_config(text))
