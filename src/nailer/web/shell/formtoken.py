"""The token of a session's forms, as pages show it: another text each time, so that the length of a compressed page tells
nobody a part of it."""

from __future__ import annotations

import hmac
import secrets
from base64 import urlsafe_b64decode, urlsafe_b64encode
from binascii import Error


def shown(token: str) -> str:
    """The token under a fresh mask, which stands before it."""
    raw = token.encode()
    mask = secrets.token_bytes(len(raw))
    return urlsafe_b64encode(mask + _under(mask, raw)).decode()


def is_same(given: str, token: str) -> bool:
    """True where `given` is what `shown` made of this token."""
    try:
        raw = urlsafe_b64decode(given.encode("ascii"))
    except (Error, UnicodeEncodeError):
        return False
    half = len(raw) // 2
    return hmac.compare_digest(_under(raw[:half], raw[half:]), token.encode())


def _under(mask: bytes, raw: bytes) -> bytes:
    return bytes(one ^ other for one, other in zip(mask, raw, strict=False))
