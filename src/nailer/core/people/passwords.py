"""Which passwords Nailer takes: long enough, and not among those that everybody tries first. There is no other rule."""

from __future__ import annotations

import hashlib
import string

from nailer.errors import InvalidInput

SHORTEST = 10
LONGEST = 1000
HASH_BYTES = 8


def check_password(password: str, common: frozenset[bytes]) -> None:
    """Raises InvalidInput for a password that is too short, too long, or common. `common` are hashes as `hashed` makes."""
    if not SHORTEST <= len(password) <= LONGEST:
        raise InvalidInput(f"The password needs at least {SHORTEST} characters.")
    folded = password.casefold()
    bare = folded.rstrip(string.digits + string.punctuation)
    if hashed(folded) in common or (bare and hashed(bare) in common) or len(set(folded)) < 4:
        raise InvalidInput(
            "This password is too common and easy to guess. Choose another one, for example three unrelated words."
        )


def hashed(password: str) -> bytes:
    """The first bytes of a password's SHA-256: as the list that ships with Nailer holds them."""
    return hashlib.sha256(password.encode("utf-8", "replace")).digest()[:HASH_BYTES]
