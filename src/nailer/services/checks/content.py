"""Reading files of a site: what they refer to, and what else must be known of a content, its hash and its pixels."""

from __future__ import annotations

import asyncio
import io
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import aclosing

from blake3 import blake3
from PIL import Image, UnidentifiedImageError

from nailer.bounded import bounded
from nailer.core.site.links import FileLinks, links_in
from nailer.core.site.reading import ReadFile, ToRead
from nailer.errors import TransferError, Unreadable
from nailer.sides.side import CHUNK_BYTES, Side
from nailer.store.database import utc_now

AT_ONCE = 32
PARSED_AT_ONCE = 2  # parsing takes a thread of those that database and files share
HEAD_BYTES = 256 * 1024
# What Pillow raises of a content that it cannot read, also where it would only warn.
UNREADABLE = (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError, Warning)
_GPS = 0x8825  # the tag of places in EXIF


async def read_files(
    side: Side, wanted: Sequence[ToRead], problems: list[str], heard: Callable[[int], None]
) -> AsyncIterator[ReadFile]:
    """Each file as it was read, many at a time, in no order; what could not be read is added to `problems`. `heard` is told
    how many are done. Raises what ends the connection."""
    waiting, parsing = list(reversed(wanted)), asyncio.Semaphore(PARSED_AT_ONCE)
    running: set[asyncio.Task[ReadFile | None]] = set()
    done = 0
    try:
        while waiting or running:
            while waiting and len(running) < AT_ONCE:
                running.add(asyncio.create_task(_one(side, waiting.pop(), problems, parsing)))
            ended, running = await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
            for task in ended:
                done += 1
                if (read := task.result()) is not None:
                    yield read
            heard(done)
    finally:
        for task in running:
            task.cancel()
        await asyncio.gather(*running, return_exceptions=True)


async def _one(side: Side, wanted: ToRead, problems: list[str], parsing: asyncio.Semaphore) -> ReadFile | None:
    try:
        if wanted.links:
            entry, data = await side.whole(wanted.path)
            try:
                links: FileLinks | None = await bounded(links_in, wanted.path.name, data)
            except Unreadable as error:
                problems.append(f"{wanted.path} cannot be read for what it refers to. {error.what}")
                links = None
            return ReadFile(wanted.path, len(data), entry.stamp, utc_now(), blake3(data).digest(), links=links)
        return await _measured(side, wanted, parsing)
    except TransferError as error:
        if error.heals:
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
            width, height, places = await asyncio.to_thread(pixels_of, bytes(head))
        width, height = width or 0, height or 0  # looked for: a picture that does not say is not read again for it
    whole = digest.digest() if wanted.digest and size == wanted.entry.size else None
    entry = wanted.entry
    return ReadFile(wanted.path, entry.size, entry.stamp, utc_now(), whole, width, height, places)


def pixels_of(head: bytes) -> tuple[int | None, int | None, bool | None]:
    """A picture's width and height, and whether it says where it was taken, by its first bytes; None: they do not say."""
    try:
        with Image.open(io.BytesIO(head)) as picture:
            width, height = picture.size
            try:
                places = bool(picture.getexif().get_ifd(_GPS))
            except (OSError, ValueError, SyntaxError, KeyError):
                places = None
            return width, height, places
    except UNREADABLE:
        return None, None, None
