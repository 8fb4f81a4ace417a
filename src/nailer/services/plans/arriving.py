"""Large files that come from a browser in parts: what has come is kept here until the whole file is, however often the line
or the page goes away. Offsets as in the IETF draft on resumable uploads (draft-ietf-httpbis-resumable-upload)."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import AsyncGenerator, AsyncIterator
from pathlib import Path

from blake3 import blake3

from nailer.errors import Conflict, own_disk
from nailer.private import own_folder
from nailer.store.jobs import Item, Job
from nailer.unbroken import in_thread

_READ_BYTES = 1024 * 1024
_KEPT_S = 7 * 86_400


class Arriving:
    """Parts by what they are parts of: whose, of which file (its size and time) and for which place. The same file that is
    dropped again meets what came of it before."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._locks: dict[str, asyncio.Lock] = {}
        self._senders: dict[str, int] = {}

    def key(self, job: Job, item: Item) -> str:
        """What names the part of a file that a drop awaits."""
        stamp = item.entry.stamp
        parts = (job.account_id, job.site_id, job.to_side, item.entry.size, stamp.at_ns if stamp else 0)
        return blake3("|".join(map(str, parts)).encode() + b"|" + item.target.raw).hexdigest(length=16)

    async def offset(self, key: str) -> int:
        """How many bytes have come. Who asks goes on from there: whoever sent until now, perhaps over a line that was cut
        without anybody's notice, adds nothing more."""
        async with self._locks.setdefault(key, asyncio.Lock()):
            self._next_sender(key)
            return await in_thread(self._size, key)

    async def append(self, key: str, at: int, size: int, chunks: AsyncIterator[bytes]) -> int:
        """Take in what follows the first `at` bytes; return how many there are then. What came before a cut stays.

        Raises Conflict where another part is awaited, somebody else sends it by now, or more comes than the file has;
        OwnDiskFull.
        """
        lock = self._locks.setdefault(key, asyncio.Lock())
        async with lock:
            now = await in_thread(self._size, key)
            if at != now:
                raise Conflict(f"Expected the part that begins at byte {now}, not at byte {at}.")
            own = self._next_sender(key)
        # A chunk is awaited without the lock: a line that was cut may hold it back for minutes.
        async for chunk in chunks:
            now += len(chunk)
            if now > size:
                raise Conflict("More data arrived than the file contains.")
            async with lock:
                if self._senders.get(key) != own:
                    raise Conflict("Another page is now uploading this file.")
                await in_thread(self._write, key, chunk)
        return now

    def _next_sender(self, key: str) -> int:
        self._senders[key] = self._senders.get(key, 0) + 1
        return self._senders[key]

    async def content(self, key: str) -> AsyncGenerator[bytes, None]:
        """The bytes of a file that has come whole."""
        at = 0
        while chunk := await in_thread(self._read, key, at):
            at += len(chunk)
            yield chunk

    async def forget(self, key: str) -> None:
        """Let go of a part: its file has landed."""
        self._locks.pop(key, None)
        self._senders.pop(key, None)
        await in_thread(lambda: (self._folder / key).unlink(missing_ok=True))

    async def tidy(self) -> None:
        """Let go of parts that nobody came back to within a week."""
        await in_thread(self._tidy)

    def _size(self, key: str) -> int:
        try:
            return (self._folder / key).stat().st_size
        except FileNotFoundError:
            return 0

    def _write(self, key: str, chunk: bytes) -> None:
        with own_disk():
            own_folder(self._folder)
            with os.fdopen(os.open(self._folder / key, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600), "ab") as file:
                file.write(chunk)

    def _read(self, key: str, at: int) -> bytes:
        with (self._folder / key).open("rb") as file:
            file.seek(at)
            return file.read(_READ_BYTES)

    def _tidy(self) -> None:
        oldest = time.time() - _KEPT_S
        for part in self._folder.glob("*") if self._folder.is_dir() else ():
            if part.stat().st_mtime < oldest:
                part.unlink(missing_ok=True)
