"""Reading files by SFTP: a window of blocks asked for ahead."""

from __future__ import annotations

from collections import deque
from collections.abc import AsyncGenerator
from typing import TYPE_CHECKING

from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath
from nailer.errors import NotSupported, ServerFailed
from nailer.sides.sftp.open_file import READING, Block, OpenFile
from nailer.sides.sftp.requests import abandon
from nailer.sides.side import agreed, read_all_by_steps

if TYPE_CHECKING:
    from nailer.sides.sftp.side import SftpSide


class FileReading:
    """Reads files of one side."""

    def __init__(self, side: SftpSide) -> None:
        self._side = side
        self._looks = True  # FSTAT works

    async def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        """A file's bytes, a window of blocks asked for ahead (SSH_FXP_READ)."""
        self._side.log.out(f"open to read {path}")
        file = await self._side.open(path, READING)
        block = self._side.read_bytes if ahead is None else max(1024, min(self._side.read_bytes, ahead))
        window: deque[Block] = deque()
        self._side.active += 1
        try:
            # The first block and the size are asked for together: a small file takes two round trips.
            window.append(file.block(start, block))
            size = await self._size(file, path)
            at = start + block
            while True:
                while at < size and len(window) < (self._side.window(block) if ahead is None else 1):
                    window.append(file.block(at, block))
                    at += block
                # A block leaves the window only once it has been heard: a cancelled caller still abandons it.
                chunk = await self._side.ask(window[0].data(), path)
                window.popleft()
                if chunk:
                    yield chunk
                if len(chunk) < block:
                    return
                if not window:
                    window.append(file.block(at, block))
                    at += block
        finally:
            self._side.active -= 1
            abandon(*window)
            file.close().abandon()

    async def _size(self, file: OpenFile, path: SitePath) -> int:
        """The size of an open file; by its name where the server does not say it of open ones."""
        if self._looks:
            try:
                return await self._side.ask(file.look().size(), path)
            except (NotSupported, ServerFailed):
                self._looks = False
        return (await self._side.stat(path)).size

    async def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        """A small file's entry and bytes: open, look, read and close leave together."""
        self._side.log.out(f"read all of {path}")
        if not self._looks:
            return await read_all_by_steps(self._side, path)
        file = await self._side.open(path, READING)
        asked = looking, block, looking_again = file.look(), file.block(0, self._side.read_bytes), file.look()
        try:
            try:
                before = await self._side.ask(looking.entry(path.name), path)
            except (NotSupported, ServerFailed):
                self._looks = False
                return await read_all_by_steps(self._side, path)
            content = await self._side.ask(block.data(), path)
            after = await self._side.ask(looking_again.entry(path.name), path)
        finally:
            abandon(*asked)
            file.close().abandon()
        if len(content) < before.size:
            return await read_all_by_steps(self._side, path)  # more than one block
        return agreed(before, after, content)
