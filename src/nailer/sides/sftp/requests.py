"""Small things that reading and writing by SFTP share."""

from __future__ import annotations

import contextlib

import asyncssh
from asyncssh.packet import String

from nailer.core.files.entry import NS, Stamp
from nailer.sides.sftp.open_file import Block, OpenFile, SentLook
from nailer.sides.sftp.pipeline import ATTRIBUTES, STATUS, Answer

# draft-ietf-secsh-filexfer-02, 3; the extension is OpenSSH's.
_LOOK_AT_NAME, _REMOVE, _REMOVE_FOLDER, _RENAME = 7, 13, 15, 18
_RENAME_OVER = b"posix-rename@openssh.com"


def sent_look(client: asyncssh.SFTPClient, path: bytes) -> SentLook:
    """Ask what stands under a name, links not followed (SSH_FXP_LSTAT)."""
    return SentLook(Answer(client._handler, ATTRIBUTES, _LOOK_AT_NAME, String(path)))


def sent_rename(client: asyncssh.SFTPClient, old: bytes, new: bytes, *, over: bool) -> Answer:
    """Ask for a renaming; `over`: one that replaces a taken name in one step, where the server offers that."""
    return Answer(client._handler, STATUS, _RENAME_OVER if over else _RENAME, String(old), String(new))


def sent_removal(client: asyncssh.SFTPClient, path: bytes, *, folder: bool = False) -> Answer:
    """Ask for the removal of a file or link (SSH_FXP_REMOVE), or of an empty folder (SSH_FXP_RMDIR)."""
    return Answer(client._handler, STATUS, _REMOVE_FOLDER if folder else _REMOVE, String(path))


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
