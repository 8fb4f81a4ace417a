"""Protocols, their ports, and what a greeting tells about who really answers (RFC 959, 4217, 4253)."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Protocol(StrEnum):
    """How a site is reached. The order is the order of preference: safest first."""

    SFTP = "sftp"
    FTP_TLS = "ftps"
    FTP_IMPLICIT = "ftps-implicit"
    FTP = "ftp"

    @property
    def traits(self) -> Traits:
        """What holds of every server of this protocol."""
        return _TRAITS[self]

    @property
    def port(self) -> int:
        """The port that servers of this protocol usually have."""
        return self.traits.port

    @property
    def word(self) -> str:
        """How the protocol is called on a page."""
        return self.traits.word


@dataclass(frozen=True, slots=True)
class Traits:
    """What holds of a protocol before anybody is connected; what a server can do is learned from its connection. It
    `makes_links` (symbolic ones), may run `commands` where the account has a shell, has `data_channels` beside its line, and
    says of the `accounts_room` how much is free, not of the disk's."""

    word: str
    port: int
    speaker: Speaker
    is_encrypted: bool
    makes_links: bool = False
    commands: bool = False
    data_channels: bool = False
    accounts_room: bool = False


class Speaker(StrEnum):
    """The kind of server that answers at a port."""

    SSH = "SSH"
    FTP = "FTP"
    TLS = "TLS"
    WEB = "a web server"
    MAIL = "a mail server"
    SILENT = "nobody"
    STRANGER = "something else"


@dataclass(frozen=True, slots=True)
class Greeting:
    """What a server said first. `line` is its first line, readable; empty where it said nothing."""

    speaker: Speaker
    line: str


def greeting_of(first: bytes) -> Greeting:
    """Who a server's first bytes show it to be. Nothing at all is silence: a web server, or TLS from the first byte.

    >>> greeting_of(b"SSH-2.0-made-up\\r\\n").speaker, greeting_of(b"220 ready").speaker, greeting_of(b"").speaker
    (<Speaker.SSH: 'SSH'>, <Speaker.FTP: 'FTP'>, <Speaker.SILENT: 'nobody'>)
    """
    line = first.split(b"\n")[0].decode("utf-8", "replace").strip()[:200]
    shown = "".join(one if one.isprintable() else "·" for one in line)
    return Greeting(_speaker(first), shown)


def _speaker(first: bytes) -> Speaker:
    # RFC 4253, 4.2: a server may send other lines before its version.
    if first.startswith(b"SSH-") or b"\nSSH-" in first:
        return Speaker.SSH
    if first[:3] in (b"220", b"120", b"421", b"530"):
        mail = b"SMTP" in first.upper()
        return Speaker.MAIL if mail else Speaker.FTP
    if first.startswith((b"* OK", b"+OK")):
        return Speaker.MAIL
    if first.startswith(b"HTTP/") or first.lstrip()[:5].lower() in (b"<html", b"<!doc"):
        return Speaker.WEB
    if first[:2] in (b"\x15\x03", b"\x16\x03"):
        return Speaker.TLS
    return Speaker.SILENT if not first else Speaker.STRANGER


_TRAITS: dict[Protocol, Traits] = {
    Protocol.SFTP: Traits("SFTP", 22, Speaker.SSH, is_encrypted=True, makes_links=True, commands=True),
    Protocol.FTP_TLS: Traits(
        "FTP, explicit TLS", 21, Speaker.FTP, is_encrypted=True, data_channels=True, accounts_room=True
    ),
    Protocol.FTP_IMPLICIT: Traits(
        "FTP, implicit TLS", 990, Speaker.TLS, is_encrypted=True, data_channels=True, accounts_room=True
    ),
    Protocol.FTP: Traits(
        "FTP without encryption", 21, Speaker.FTP, is_encrypted=False, data_channels=True, accounts_room=True
    ),
}


def wanted_speaker(protocol: Protocol) -> Speaker:
    """The kind of server that a protocol needs."""
    return protocol.traits.speaker


def better_than(protocol: Protocol, offered: frozenset[Protocol]) -> Protocol | None:
    """The safest protocol on offer that is safer than the one in use; None where there is none.

    >>> better_than(Protocol.FTP, frozenset({Protocol.FTP_TLS, Protocol.FTP}))
    <Protocol.FTP_TLS: 'ftps'>
    """
    order = list(Protocol)
    safer = [one for one in order[: order.index(protocol)] if one in offered]
    return safer[0] if safer else None
