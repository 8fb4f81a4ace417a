"""An open file of an SFTP server (draft-ietf-secsh-filexfer-02, 6). A request is sent when it is made and heard when it is
awaited: many are under way for many files at once, and none costs a task of its own."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

import asyncssh
from asyncssh.packet import String, UInt32, UInt64

from nailer.core.files.entry import Entry
from nailer.sides.sftp.names import MODE, TIMES, entry_in, size_in
from nailer.sides.sftp.pipeline import ATTRIBUTES, DATA, HANDLE, STATUS, Answer

READING, WRITING, CHANGING = 0x01, 0x1A, 0x03  # what is written anew is made and emptied; what is changed is there
_OPEN, _CLOSE, _READ, _WRITE, _LOOK, _SET = 3, 4, 5, 6, 8, 10
_COPY = b"copy-data"


class OpenFile:
    """What a request is answered is raised as the library raises it, when the request is awaited."""

    def __init__(self, handler: Any, handle: bytes) -> None:
        self._handler = handler
        self._handle = String(handle)
        self._closing: Answer | None = None
        self.when_closed: Callable[[], None] | None = None

    def write(self, block: bytes, at: int) -> Answer:
        """Send a block to a place of the file (SSH_FXP_WRITE)."""
        return Answer(self._handler, STATUS, _WRITE, self._handle, UInt64(at), String(block))

    def set(self, permissions: int | None, changed_s: int | None) -> Answer:
        """Set permissions and time on the open file (SSH_FXP_FSETSTAT)."""
        mode = UInt32(permissions) if permissions is not None else b""
        times = 2 * UInt32(changed_s) if changed_s is not None else b""
        flags = UInt32((MODE if mode else 0) | (TIMES if times else 0))
        return Answer(self._handler, STATUS, _SET, self._handle, flags + mode + times)

    def copy_to(self, other: OpenFile) -> Answer:
        """All of it, by the server itself (draft-ietf-secsh-filexfer-extensions-00, 6)."""
        whole = UInt64(0) + UInt64(0)
        return Answer(self._handler, STATUS, _COPY, self._handle, whole, other._handle, UInt64(0))

    def close(self) -> Answer:
        """Asked for once, however often it is called: the server may have given the handle to another file by then."""
        if self._closing is None:
            self._closing = Answer(self._handler, STATUS, _CLOSE, self._handle)
            if self.when_closed is not None:
                self._closing.when_heard(self.when_closed)
        return self._closing

    def look(self) -> SentLook:
        """Ask how the open file stands (SSH_FXP_FSTAT)."""
        return SentLook(Answer(self._handler, ATTRIBUTES, _LOOK, self._handle))

    def block(self, at: int, size: int) -> Block:
        """A block of the file, asked for now and awaited later."""
        return Block(self, at, size)

    def bytes_at(self, at: int, size: int) -> Answer:
        """Ask for bytes at a place (SSH_FXP_READ)."""
        return Answer(self._handler, DATA, _READ, self._handle, UInt64(at), UInt32(size))


class SentLook:
    """How a file stands, asked for."""

    def __init__(self, answer: Answer) -> None:
        self._answer = answer

    async def entry(self, name: bytes) -> Entry:
        """The answer as an entry of this name."""
        return entry_in((await self._answer).get_remaining_payload(), name)

    async def size(self) -> int:
        """The size out of the answer; None where the server says none."""
        return size_in((await self._answer).get_remaining_payload())

    def abandon(self) -> None:
        """Nobody waits for the answer any more."""
        self._answer.abandon()


class Block:
    """A part of a file, asked for."""

    def __init__(self, file: OpenFile, at: int, size: int) -> None:
        self._file = file
        self._at = at
        self._size = size
        self._answer = file.bytes_at(at, size)

    async def data(self) -> bytes:
        """Its bytes, fewer only at the end of the file: a server may answer with less than was asked."""
        data = b""
        try:
            while len(data) < self._size:
                more = (await self._answer).get_string()
                data += more
                if not more or len(data) == self._size:
                    break
                self._answer = self._file.bytes_at(self._at + len(data), self._size - len(data))
        except asyncssh.SFTPEOFError:
            pass  # there is no more
        return data

    def abandon(self) -> None:
        """Nobody waits for the block any more."""
        self._answer.abandon()


async def open_file(client: asyncssh.SFTPClient, path: bytes, how: int, mode: int | None = None) -> OpenFile:
    """With `mode` a file that is made gets those permissions, less what the server's umask takes. Cancelled while the server
    opens it, it is closed as soon as it is open. Raises what the library raises."""
    handler: Any = client._handler
    attributes = UInt32(0) if mode is None else UInt32(MODE) + UInt32(mode)
    answer = Answer(handler, HANDLE, _OPEN, String(path), UInt32(how), attributes)
    try:
        return OpenFile(handler, (await answer).get_string())
    except asyncio.CancelledError:
        answer.when_late(lambda packet: OpenFile(handler, packet.get_string()).close().abandon())
        raise
