"""Keeping what is about to be replaced or removed, without fetching what is kept already."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncGenerator, AsyncIterator

from nailer.core.compare.joint import same_content, seen
from nailer.core.files.entry import Entry
from nailer.engine.context import JobContext
from nailer.engine.kept import KeptContent
from nailer.errors import (
    Conflict,
)
from nailer.store.changes import Level
from nailer.store.jobs import Item


class Keeper:
    """Keeps old contents of one job's targets."""

    def __init__(self, context: JobContext) -> None:
        self.context = context

    async def keep(self, item: Item, there: Entry | None, level: Level | None = None) -> KeptContent | None:
        """Keep what is at the target, unless the store is known to have it. None: there is nothing, or it is too large
        to keep, as the plan said."""
        if there is None or not there.is_file or there.size > self.context.keep_largest_bytes:
            return None
        known = await self._known_content(there, level)
        if known is not None:
            return known
        async with contextlib.aclosing(self.context.target.read(item.target)) as chunks:
            kept = await self.context.kept.put(self._moving(item, chunks))
        if kept.size != there.size:
            raise Conflict(f"{item.target} changed while it was being kept.")
        return kept

    async def _moving(self, item: Item, chunks: AsyncIterator[bytes]) -> AsyncGenerator[bytes, None]:
        """Chunks that count as a sign of life of their item, though not as progress."""
        async for chunk in chunks:
            self.context.live.sent(item.id, 0)
            yield chunk

    async def _known_content(self, there: Entry, level: Level | None) -> KeptContent | None:
        """What the target holds, where the baseline proves it and the store has it: no byte is fetched then."""
        known = level.content(self.context.job.changes_end) if level is not None else None
        if known is None:
            return None
        was, digest = known
        if same_content(seen(there), was) and await self.context.changes.is_kept(digest):
            return KeptContent(digest, there.size)
        return None
