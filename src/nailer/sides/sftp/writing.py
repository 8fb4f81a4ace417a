"""Writing files by SFTP: many blocks on their way at once, then permissions, time and a look together."""

from __future__ import annotations

import asyncio
import contextlib
from collections import deque
from collections.abc import AsyncGenerator, AsyncIterator
from functools import partial
from typing import TYPE_CHECKING, TypeGuard

from nailer.core.files.entry import Entry, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.words import size_text
from nailer.errors import AlreadyThere, FileMissing, PermissionRefused, ServerFailed
from nailer.sides.seen import see_landed
from nailer.sides.sftp.open_file import CHANGING, WRITING, OpenFile, SentLook
from nailer.sides.sftp.pipeline import (
    Answer,
)
from nailer.sides.sftp.requests import abandon, closed, seconds
from nailer.sides.side import look, tolerated

if TYPE_CHECKING:
    from nailer.sides.sftp.side import SftpSide

_WRITING = "while it wrote"


class Writing:
    """Writes files of one side."""

    def __init__(self, side: SftpSide) -> None:
        self._side = side

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        """As `Side.write`: a window of blocks is on its way, and each is awaited."""
        async with self._writing(path, chunks, start) as (file, window, written):
            while window:
                await self._side.landed(window[0], path, _WRITING)
                window.popleft()
            # A server may report a full disk only when the file is closed.
            await self._side.landed(file.close(), path, _closing(written))
        return written

    async def land(
        self,
        path: SitePath,
        chunks: AsyncIterator[bytes],
        *,
        start: int = 0,
        permissions: int | None = None,
        at_most: int | None = None,
        stamp: Stamp | None = None,
        free: SitePath | None = None,
    ) -> Entry:
        """As `Side.land`: what can leave together does."""
        mode = permissions if permissions is not None else at_most
        async with self._writing(path, chunks, start, mode) as (file, window, written):
            # The last blocks, permissions and time, the close and a look leave together. Requests for one file are carried
            # out in the order they came (draft-ietf-secsh-filexfer-02, 3). The look is by name and comes last: what
            # becomes of a file when it is closed counts, too.
            setting = file.set(permissions, seconds(stamp) if stamp is not None else None)
            closing, looking = file.close(), self._side.sent_look(path)
            free_still = asyncio.create_task(self._check_free(free)) if self._must_look(free) else None
            try:
                while window:
                    await self._side.landed(window[0], path, _WRITING)
                    window.popleft()
                await self._side.landed(closing, path, _closing(written))
                landed = await self._looked(looking, path, start + written)
                was_set = await tolerated(self._side.ask(setting, path))
                if free_still is not None:
                    await free_still
            finally:
                abandon(setting, looking, closing)
                if free_still is not None:
                    free_still.cancel()
                    await asyncio.gather(free_still, return_exceptions=True)
        if not was_set:
            # Some servers set these by the path only.
            await tolerated(self._side.set_attributes(path, permissions=permissions, stamp=stamp))
        return landed if was_set else await self._side.stat(path)

    async def _looked(self, looking: SentLook, path: SitePath, size: int) -> Entry:
        """What landed, once it has the size that was sent. The look may have overtaken the close: then it is made again."""
        try:
            landed = await self._side.ask(looking.entry(path.name), path)
        except (FileMissing, PermissionRefused, ServerFailed):
            return await see_landed(partial(look, self._side), path, size)
        return landed if landed.size == size else await see_landed(partial(look, self._side), path, size)

    @contextlib.asynccontextmanager
    async def _writing(
        self, path: SitePath, chunks: AsyncIterator[bytes], start: int, mode: int | None = None
    ) -> AsyncIterator[tuple[OpenFile, deque[Answer], int]]:
        """A file that all chunks were sent to, the last ones not answered yet, and how many bytes that were. Closed
        here where anything fails."""
        self._side.log.out(f"open to write {path}")
        file = await self._side.open(path, CHANGING if start else WRITING, mode)
        window: deque[Answer] = deque()
        written = 0
        self._side.active += 1
        try:
            async for block in _blocks(chunks, self._side.write_bytes):
                while len(window) >= self._side.window(self._side.write_bytes):
                    await self._side.landed(window[0], path, _WRITING)
                    window.popleft()
                window.append(file.write(block, start + written))
                written += len(block)
            yield file, window, written
        except BaseException:
            abandon(*window)
            await closed(file)
            raise
        finally:
            self._side.active -= 1

    async def _check_free(self, path: SitePath) -> None:
        if await self._side.taken(path):
            raise AlreadyThere("{path} exists already.", path=path)

    def _must_look(self, free: SitePath | None) -> TypeGuard[SitePath]:
        """Whether it takes a look to know that a name is free: servers differ in what renaming onto one does."""
        return free is not None and not self._side.rename_refuses


def _closing(count: int) -> str:
    return f"as it closed the file, with all {size_text(count)} taken"


async def _blocks(chunks: AsyncIterator[bytes], most: int) -> AsyncGenerator[bytes, None]:
    """Chunks cut into what one request takes. What a large chunk has too much goes with the next one; small ones, as they
    come where the speed is limited, are not held back."""
    rest = b""
    async for chunk in chunks:
        large = len(chunk) > most
        chunk = rest + chunk if rest else chunk
        at = 0
        while len(chunk) - at >= most:
            yield chunk[at : at + most]
            at += most
        rest = chunk[at:]
        if rest and not large:
            yield rest
            rest = b""
    if rest:
        yield rest
