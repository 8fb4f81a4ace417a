"""Reading files of a site: what they refer to, and what else must be known of a content, its hash and its pixels."""

from __future__ import annotations

import asyncio
import io
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import aclosing
from dataclasses import dataclass

from blake3 import blake3
from PIL import Image, UnidentifiedImageError

from nailer.core.files.entry import Entry
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.sitepath import SitePath
from nailer.core.site.links import LARGEST_BYTES, links_in, reading_of
from nailer.errors import TransferError
from nailer.sides.side import CHUNK_BYTES, Side
from nailer.store.checks.readings import ReadFile
from nailer.store.database import utc_now

AT_ONCE = 32
_HEAD_BYTES = 256 * 1024
_GPS = 0x8825  # the tag of places in EXIF
_MEASURED = (b".jpg", b".jpeg", b".png", b".webp", b".gif", b".avif", b".bmp", b".tif", b".tiff")


@dataclass(frozen=True, slots=True)
class ToRead:
    """A file to be read, and why: for what it refers to, for its hash, for its pixels."""

    path: SitePath
    entry: Entry
    links: bool = False
    digest: bool = False
    pixels: bool = False


def refers(entry: Entry) -> bool:
    """True for a file that is read for what it refers to."""
    return entry.is_file and 0 < entry.size <= LARGEST_BYTES and bool(reading_of(entry.name))


def is_measured(entry: Entry) -> bool:
    """True for a picture whose pixels are counted."""
    return entry.is_file and entry.size > 0 and entry.name.lower().endswith(_MEASURED)


async def read_files(
    side: Side, wanted: Sequence[ToRead], problems: list[str], heard: Callable[[int], None]
) -> AsyncIterator[ReadFile]:
    """Each file as it was read, many at a time, in no order; what could not be read is added to `problems`. `heard` is told
    how many are done. Raises what ends the connection."""
    waiting = list(reversed(wanted))
    running: set[asyncio.Task[ReadFile | None]] = set()
    done = 0
    try:
        while waiting or running:
            while waiting and len(running) < AT_ONCE:
                running.add(asyncio.create_task(_one(side, waiting.pop(), problems)))
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


async def _one(side: Side, wanted: ToRead, problems: list[str]) -> ReadFile | None:
    try:
        if wanted.links:
            entry, data = await side.whole(wanted.path)
            links = await asyncio.to_thread(links_in, wanted.path.name, data)
            return ReadFile(wanted.path, len(data), entry.stamp, utc_now(), blake3(data).digest(), links=links)
        return await _measured(side, wanted)
    except TransferError as error:
        if error.heals:
            raise
        problems.append(error.what)
        return None


async def _measured(side: Side, wanted: ToRead) -> ReadFile:
    """Pixels from the head of a picture, and a hash only where the whole content is asked for."""
    head = bytearray()
    digest, size = blake3(), 0
    ahead = None if wanted.digest else CHUNK_BYTES
    async with aclosing(side.read(wanted.path, ahead=ahead)) as chunks:
        async for chunk in chunks:
            if len(head) < _HEAD_BYTES:
                head += chunk
            if not wanted.digest and len(head) >= _HEAD_BYTES:
                break
            if wanted.digest:
                digest.update(chunk)
                size += len(chunk)
    width = height = places = None
    if wanted.pixels:
        width, height, places = await asyncio.to_thread(pixels_of, bytes(head))
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
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return None, None, None


def is_picture(name: bytes) -> bool:
    """True for a name that is a picture's."""
    return kind_by_name(name) is FileKind.PICTURE
