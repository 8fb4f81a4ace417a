"""The side here: folders of this machine under the allowed roots, and nothing else.

Confinement does not compare strings: every step from the root down opens the next folder relative to the one before,
refusing links (openat with O_NOFOLLOW), so that nothing that changes meanwhile can lead out. A link met on the way is
read and followed by hand, and only where it stays under the same root.

The root of this side lists the allowed roots by their labels: `/studio/skerry` is `skerry` under the root `studio`.
"""

from __future__ import annotations

import asyncio
import os
from collections.abc import AsyncGenerator, AsyncIterator, Callable, Mapping
from copy import copy
from functools import partial
from pathlib import Path
from typing import Any, ParamSpec

from nailer.core.files.completeness import Listing, listing_of
from nailer.core.files.entry import Entry, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.plans.room import Room
from nailer.errors import TransferError
from nailer.sides.disk import _R, NEW_FILE, Disk, finish, write_all
from nailer.sides.side import CHUNK_BYTES, Digest, Names, refused
from nailer.sides.translate import from_os
from nailer.unbroken import in_thread, unbroken

_P = ParamSpec("_P")
_PART_BYTES = 4 * CHUNK_BYTES  # of a large file in one step: each goes through a thread


class HereSide:
    """Folders of this machine under allowed roots, by label."""

    def __init__(self, roots: Mapping[bytes, Path]) -> None:
        self._disk = Disk({label: os.fsencode(os.path.realpath(path)) for label, path in roots.items()})

    def below(self, top: SitePath) -> HereSide:
        """The same side, which ends at a folder: what leads out of it is refused in the very walk that opens it."""
        narrower = copy(self)
        narrower._disk = self._disk.below(top)
        return narrower

    def on_disk(self, path: SitePath) -> Path:
        """Where a path lies on this machine's disk, for what must watch it. Raises FileMissing outside every root."""
        return self._disk.on_disk(path)

    async def list(self, folder: SitePath, *, careful: bool = False) -> Listing:
        """A folder's names, in one step in a thread. What a disk lists is whole."""
        return listing_of(await self._call(folder, self._disk.list, folder))

    async def stat(self, path: SitePath) -> Entry:
        """What stands under a name, links not followed."""
        return await self._call(path, self._disk.stat, path)

    async def resolve(self, path: SitePath) -> SitePath:
        """Where a path leads once its links are followed, still under its root."""
        return await self._call(path, self._disk.resolve, path)

    holes_bytes = 0
    renames: bool | None = True

    async def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        # One step for a small file: open, read to its end, close. Of a large one the next part is read meanwhile.
        """A file's bytes. Of a large one the next part is read while this one is used."""
        file, part = await self._begun(path, start)
        at, size = start + len(part), CHUNK_BYTES if ahead is not None else _PART_BYTES
        reading: asyncio.Task[bytes] | None = None
        try:
            if len(part) == CHUNK_BYTES:
                reading = asyncio.create_task(self._call(path, os.pread, file, size, at))
            while part:
                for begin in range(0, len(part), CHUNK_BYTES):
                    yield part[begin : begin + CHUNK_BYTES]
                if reading is None:
                    return
                part = await asyncio.shield(reading)
                at += len(part)
                more = len(part) == size
                reading = asyncio.create_task(self._call(path, os.pread, file, size, at)) if more else None
        finally:
            # Nothing may be reading from the descriptor when it is closed.
            if reading is not None:
                await unbroken(_ended(reading))
            os.close(file)

    async def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        """A small file's entry and bytes in one step."""
        return await self._call(path, self._disk.read_all, path)

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        """Write a file's bytes; chunks that come while others are written go together."""
        file, written = await self._opened(path, lambda one: self._disk.open_to_write(one, start)), _PART_BYTES
        try:
            written = await self._call_for_each(path, chunks, partial(write_all, file))
            return written
        finally:
            await _closed(file, written)

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
        """As `write`, then permissions and time on the open file, and how it stands."""
        mode = permissions if permissions is not None else at_most if at_most is not None else NEW_FILE
        file, written = await self._opened(path, lambda one: self._disk.open_to_write(one, start, mode)), _PART_BYTES
        try:
            written = await self._call_for_each(path, chunks, partial(write_all, file))
            return await self._call(path, finish, file, path.name, permissions, stamp)
        finally:
            await _closed(file, written)

    async def make_folder(self, path: SitePath) -> None:
        """Make a folder (mkdirat)."""
        await self._call(path, self._disk.at, path, lambda folder, name: os.mkdir(name, dir_fd=folder))

    async def remove_file(self, path: SitePath) -> None:
        """Remove a file or a link (unlinkat)."""
        await self._call(path, self._disk.at, path, lambda folder, name: os.unlink(name, dir_fd=folder))

    async def remove_folder(self, path: SitePath) -> None:
        """Remove an empty folder (unlinkat)."""
        await self._call(path, self._disk.at, path, lambda folder, name: os.rmdir(name, dir_fd=folder))

    async def rename(
        self,
        old: SitePath,
        new: SitePath,
        *,
        replace: bool = False,
        looked: bool = False,
        landed: Entry | None = None,
    ) -> None:
        """Rename in one step; a taken name is left, unless `replace`."""
        await self._call(new, self._disk.rename, old, new, replace)

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        """One after the other: a disk is quick."""
        return await refused(self.rename(*first)), await refused(self.rename(*second))

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        """Copying here goes through Nailer as well: False."""
        return False

    async def make_link(self, path: SitePath, target: bytes) -> None:
        """Make a symbolic link (symlinkat)."""
        await self._call(path, self._disk.at, path, lambda folder, name: os.symlink(target, name, dir_fd=folder))

    async def set_attributes(
        self, path: SitePath, *, permissions: int | None = None, stamp: Stamp | None = None
    ) -> None:
        """Set permissions and time, never through a link."""
        await self._call(path, self._disk.set_attributes, path, permissions, stamp)

    async def own_hash(self, path: SitePath) -> Digest | None:
        """A disk has no hashes: reading is as good. None."""
        return None  # reading is as good

    async def home(self) -> SitePath:
        """The root: this side has no account."""
        return SitePath()

    async def room(self, folder: SitePath) -> Room | None:
        """The space on the folder's disk."""
        return None if folder.is_root else await self._call(folder, self._disk.room, folder)

    async def _call(self, path: SitePath, function: Callable[_P, _R], *args: _P.args, **kwargs: _P.kwargs) -> _R:
        try:
            return await in_thread(function, *args, **kwargs)
        except OSError as error:
            raise from_os(error, path.shown) from error

    async def _call_for_each(self, path: SitePath, chunks: AsyncIterator[bytes], write: Callable[[bytes], None]) -> int:
        """Write all chunks, those that come while others are written together; return the number of bytes."""
        written, writing = 0, None
        waiting: list[bytes] = []
        try:
            async for chunk in chunks:
                waiting.append(chunk)
                written += len(chunk)
                if writing is not None and not writing.done() and sum(map(len, waiting)) < _PART_BYTES:
                    continue
                if writing is not None:
                    await asyncio.shield(writing)
                data, waiting = b"".join(waiting), []
                writing = asyncio.create_task(self._call(path, write, data))
            if writing is not None:
                await asyncio.shield(writing)
            if waiting:
                writing = asyncio.create_task(self._call(path, write, b"".join(waiting)))
                await asyncio.shield(writing)
        finally:
            # The descriptor is closed next: nothing may be writing to it then.
            if writing is not None and not writing.done():
                await unbroken(_ended(writing))
        return written

    async def _begun(self, path: SitePath, start: int) -> tuple[int, bytes]:
        """An open file and its first chunk."""

        def _begin() -> tuple[int, bytes]:
            file = self._disk.open_to_read(path)
            try:
                return file, os.pread(file, CHUNK_BYTES, start)
            except OSError:
                os.close(file)
                raise

        try:
            return await unbroken(asyncio.to_thread(_begin), undo=lambda begun: os.close(begun[0]))
        except OSError as error:
            raise from_os(error, path.shown) from error

    async def _opened(self, path: SitePath, open_it: Callable[[SitePath], int]) -> int:
        try:
            return await unbroken(asyncio.to_thread(open_it, path), undo=os.close)
        except OSError as error:
            raise from_os(error, path.shown) from error


async def _closed(file: int, written: int) -> None:
    """The close of a file that much was written to may wait for the disk."""
    if written < _PART_BYTES:
        os.close(file)
    else:
        await unbroken(asyncio.to_thread(os.close, file))


async def _ended(task: asyncio.Task[Any]) -> None:
    """Wait for a task whose result is not used any more, even where it fails."""
    await asyncio.wait({task})
    if not task.cancelled():
        task.exception()
