"""Reading files of a site: what they refer to, and what else must be known of a content, its hash and its pixels."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import aclosing

from blake3 import blake3

from nailer.bounded import bounded
from nailer.core.site.links import FileLinks, links_in
from nailer.core.site.picture_files import pixels_of
from nailer.core.site.read_files import ReadFile, ToRead
from nailer.engine.tasks import at_once
from nailer.errors import TransferError, Unreadable
from nailer.sides.side import CHUNK_BYTES, Side
from nailer.store.database import utc_now

AT_ONCE = 32
PARSED_AT_ONCE = 2  # parsing takes a thread of those that database and files share
HEAD_BYTES = 256 * 1024


async def read_files(
    side: Side, wanted: Sequence[ToRead], problems: list[str], heard: Callable[[int], None]
) -> AsyncIterator[ReadFile]:
    """Each file as it was read, many at a time, in no order; what could not be read is added to `problems`. `heard` is told
    how many are done. Raises what ends the connection."""
    parsing, done = asyncio.Semaphore(PARSED_AT_ONCE), 0
    steps = (_one(side, one, problems, parsing) for one in wanted)
    async with aclosing(at_once(steps, AT_ONCE)) as ended:
        async for read in ended:
            done += 1
            if read is not None:
                yield read
            heard(done)


async def _one(side: Side, wanted: ToRead, problems: list[str], parsing: asyncio.Semaphore) -> ReadFile | None:
    try:
        if wanted.links:
            entry, data = await side.read_all(wanted.path)
            try:
                links: FileLinks | None = await bounded(links_in, wanted.path.name, data)
            except Unreadable as error:
                problems.append(f"{wanted.path} cannot be read for links. {error.what}")
                links = None
            return ReadFile(wanted.path, len(data), entry.stamp, utc_now(), blake3(data).digest(), links=links)
        return await _measured(side, wanted, parsing)
    except TransferError as error:
        if error.retryable:
            raise
        problems.append(error.what)
        return None


async def _measured(side: Side, wanted: ToRead, parsing: asyncio.Semaphore) -> ReadFile:
    """Pixels from the head of a picture, and a hash only where the whole content is asked for."""
    head = bytearray()
    digest, size = blake3(), 0
    ahead = None if wanted.digest else CHUNK_BYTES
    async with aclosing(side.read(wanted.path, ahead=ahead)) as chunks:
        async for chunk in chunks:
            if len(head) < HEAD_BYTES:
                head += chunk
            if not wanted.digest and len(head) >= HEAD_BYTES:
                break
            if wanted.digest:
                digest.update(chunk)
                size += len(chunk)
    width = height = places = None
    if wanted.pixels:
        async with parsing:
            try:
                width, height, places = await bounded(pixels_of, bytes(head))
            except Unreadable:
                pass  # as of any picture that does not say
        width, height = width or 0, height or 0  # looked for: a picture that does not say is not read again for it
    whole = digest.digest() if wanted.digest and size == wanted.entry.size else None
    entry = wanted.entry
    return ReadFile(wanted.path, entry.size, entry.stamp, utc_now(), whole, width, height, places)
