"""Which files of a pair are unequal only in how their lines end: the same text, carried in text mode or saved elsewhere.

Few bytes are read for it: here what may be text, and there only what has just the size that other line ends would give.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from contextlib import aclosing

from nailer.core.compare.differences import only_line_ends, sizes_by_line_ends
from nailer.core.files.entry import Entry
from nailer.core.files.search import SearchWanted
from nailer.core.files.tree import RelativePath
from nailer.core.pairs.rows import SyncRow
from nailer.errors import TransferError
from nailer.services.files import ComparedEnd
from nailer.sides.side import CHUNK_BYTES

_LARGEST_BYTES = 256 * 1024
_MOST_NEAR = 2000
_MOST_FAR = 60
_AT_ONCE = 24


async def unequal_in_line_ends(near: ComparedEnd, far: ComparedEnd, rows: Iterable[SyncRow]) -> set[RelativePath]:
    """Of rows that differ, those whose two files hold the same lines, ended another way. What cannot be read is left out."""
    likely: list[tuple[RelativePath, bytes]] = []
    for row in _may_be(rows):
        content = await _content(near, row.below)
        if content is not None and row.there is not None and row.there.size in sizes_by_line_ends(content):
            likely.append((row.below, content))
            if len(likely) == _MOST_FAR:
                break
    gate = asyncio.Semaphore(_AT_ONCE)

    async def _same(below: RelativePath, content: bytes) -> RelativePath | None:
        async with gate:
            other = await _content(far, below)
        return below if other is not None and only_line_ends(content, other) else None

    found = await asyncio.gather(*(_same(*one) for one in likely))
    return {below for below in found if below is not None}


def _may_be(rows: Iterable[SyncRow]) -> list[SyncRow]:
    wanted = SearchWanted()

    def _is_text(entry: Entry | None) -> bool:
        return entry is not None and wanted.may_hold_text(entry) and entry.size <= _LARGEST_BYTES

    differ = (row for row in rows if _is_text(row.here) and _is_text(row.there) and not row.held)
    return [row for row in differ if row.here and row.there and row.here.size != row.there.size][:_MOST_NEAR]


async def _content(end: ComparedEnd, below: RelativePath) -> bytes | None:
    try:
        async with aclosing(end.side.read(end.top.join(below), ahead=CHUNK_BYTES)) as chunks:
            return b"".join([chunk async for chunk in chunks])
    except TransferError:
        return None
