"""What a job is for."""

from __future__ import annotations

from enum import StrEnum


class JobKind(StrEnum):
    """What a job does: carries between the sides, takes what a browser sends, removes, takes changes back, copies
    within a side or from one site to another, moves within a side, unpacks an archive, writes what was prepared
    here (e.g. in the editor), sets permissions, brings one end of a pair into sync with the other, or builds a version of a
    package under a hidden name, which whoever exchanges the two takes back."""

    TRANSFER = "transfer"
    DROP = "drop"
    REMOVE = "remove"
    TAKE_BACK = "take-back"
    COPY = "copy"
    MOVE = "move"
    UNPACK = "unpack"
    WRITE = "write"
    PERMISSIONS = "permissions"
    SYNC = "sync"
    BUILD = "build"
