"""Where the password of a site is kept."""

from __future__ import annotations

from enum import StrEnum


class PasswordKept(StrEnum):
    """Where a password is kept: sealed in the database, in memory until Nailer stops, or only while connected."""

    STORED = "stored"
    SESSION = "session"
    ASKED = "asked"
