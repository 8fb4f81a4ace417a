"""What a greeting tells, and which protocol is proposed."""

from __future__ import annotations

import pytest

from nailer.core.connecting.protocol import Protocol, Speaker, better_than, greeting_of


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
