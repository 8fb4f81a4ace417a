"""Small things that reading and writing by SFTP share."""

from __future__ import annotations

import contextlib

import asyncssh

from nailer.core.files.entry import NS, Stamp
from nailer.sides.sftp.open_file import Block, OpenFile, SentLook
from nailer.sides.sftp.pipeline import (
    Answer,
)


async def closed(file: OpenFile) -> None:
    # The line may be gone by now, and with it the handle.
    """Close a file of the server; that it failed is told by what was written, not by this."""
    with contextlib.suppress(asyncssh.Error, OSError):
        await file.close()


def abandon(*asked: Answer | Block | SentLook) -> None:
    """Nobody will hear these any more."""
    for one in asked:
        one.abandon()


def seconds(stamp: Stamp) -> int:
    """As version 3 has times: from 1970 to 2106."""
    return min(max(0, stamp.at_ns // NS), 2**32 - 1)
