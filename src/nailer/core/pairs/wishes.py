"""What a person may want of a pair, and what may be done with a row."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Direction(StrEnum):
    """Which way a pair is brought into sync."""

    PUBLISH = "publish"
    FETCH = "fetch"
    LEVEL = "level"


class Removals(StrEnum):
    """What becomes of a name that one side has lost."""

    FOLLOW = "follow"
    KEEP = "keep"
    ASK = "ask"


class Doing(StrEnum):
    """What will be done with one row. `DECIDE` waits for a person; `STAYS` is held back by a sieve; `ALONG` goes with the
    renaming of another row."""

    UPLOAD = "upload"
    DOWNLOAD = "download"
    REMOVE_THERE = "remove-there"
    REMOVE_HERE = "remove-here"
    RENAME_THERE = "rename-there"
    RENAME_HERE = "rename-here"
    BOTH = "both"
    DECIDE = "decide"
    LEAVE = "leave"
    STAYS = "stays"
    ALONG = "along"


ACTING = frozenset(
    {
        Doing.UPLOAD,
        Doing.DOWNLOAD,
        Doing.REMOVE_THERE,
        Doing.REMOVE_HERE,
        Doing.RENAME_THERE,
        Doing.RENAME_HERE,
        Doing.BOTH,
    }
)


@dataclass(frozen=True, slots=True)
class SyncWish:
    direction: Direction = Direction.LEVEL
    removals: Removals = Removals.ASK
