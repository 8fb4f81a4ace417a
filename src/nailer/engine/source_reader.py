"""Reading what is to be carried, still as the plan saw it."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncGenerator, AsyncIterator

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry
from nailer.core.jobs.kinds import JobKind
from nailer.engine.context import JobContext, both
from nailer.errors import (
    Conflict,
)
from nailer.sides.side import CHUNK_BYTES, once
from nailer.store.jobs import Item


class SourceReader:
    """Reads the sources of one job's items."""

    def __init__(self, context: JobContext) -> None:
        self.context = context

    async def source_of(self, item: Item) -> tuple[Entry, Entry | None, AsyncIterator[bytes]]:
        """What is at the source, still as the plan saw it, what is at the target, and the source's bytes. A small file
        is read in one go; a larger one is looked at again once it was read."""
        if self.context.job.kind is JobKind.COPY and self.context.source is self.context.target:
            source, there = await both(self.context.source.stat(item.source), self.context.look_first(item))
            content = self.read_still(item, 0)
        elif item.entry.size <= CHUNK_BYTES and self.context.ahead is None:
            if self.context.looks_first(item):
                (source, data), there = await both(
                    self.context.source.read_all(item.source), self.context.look(self.context.target, item.target)
                )
            else:
                (source, data), there = await self.context.source.read_all(item.source), None
            content = once(data)
        else:
            source, there = await both(self.context.source.stat(item.source), self.context.look_first(item))
            content = self.read_still(item, 0)
        if not still_as(source, item.entry):
            raise Conflict(f"{item.source} was changed after the plan was made.")
        return source, there, content

    async def read_still(self, item: Item, start: int) -> AsyncGenerator[bytes, None]:
        """The bytes of the source; raises Conflict at their end where it changed while they were read."""
        reading = self.context.source.read(item.source, start=start, ahead=self.context.ahead)
        async with contextlib.aclosing(reading) as chunks:
            async for chunk in chunks:
                yield chunk
        await self._check_source_still(item)

    async def _check_source_still(self, item: Item) -> None:
        now = await self.context.source.stat(item.source)
        if not still_as(now, item.entry):
            raise Conflict(f"{item.source} changed while Nailer was reading it.")
