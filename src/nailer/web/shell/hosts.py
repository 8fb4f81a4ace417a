"""Under which names Nailer answers: a page of another name that leads here is not ours (RFC 9110, 7.2)."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import ip_address
from urllib.parse import urlsplit


def answers_to(given: str, names: Iterable[str]) -> bool:
    """True for a `Host` that is one of Nailer's names, or a bare address: no foreign page can have that one.

    >>> [answers_to(host, ["nailer.example"]) for host in ("nailer.example:443", "127.0.0.1:8642", "[::1]", "LOCALHOST:1")]
    [True, True, True, True]
    >>> [answers_to(host, ["nailer.example"]) for host in ("evil.example", "", "[x", "nailer.example.evil.example", "a@b")]
    [False, False, False, False, False]
    """
    try:
        parts = urlsplit(f"//{given}")
        name, _ = parts.hostname, parts.port
    except ValueError:
        return False
    if not name or parts.netloc != given or "@" in given:
        return False
    if name in {"localhost", *(one.lower() for one in names)}:
        return True
    try:
        ip_address(name)
    except ValueError:
        return False
    return True
