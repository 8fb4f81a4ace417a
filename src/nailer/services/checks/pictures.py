"""Smaller copies of pictures, made here: looked at beside the original, then put in its place by a plan."""

from __future__ import annotations

import asyncio
import io
from dataclasses import dataclass

from PIL import Image, ImageOps

from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.site.pictures import PictureKnown
from nailer.core.words import size_text
from nailer.errors import InvalidInput
from nailer.services.checks.content import UNREADABLE, pixels_of
from nailer.services.checks.known import Knowledge
from nailer.services.files import Browse, Files
from nailer.services.plans import Plans, PreparedFiles, Write
from nailer.store.sites import Site

_MOST_BYTES = 60_000_000
_MOST_PIXELS = 120_000_000
_FORMATS = {"JPEG": "image/jpeg", "PNG": "image/png", "WEBP": "image/webp"}
_THERE = SideName.THERE


@dataclass(frozen=True, slots=True)
class Smaller:
    """A smaller copy: its bytes and pixels, in the format of the original."""

    content: bytes
    media_type: str
    width: int
    height: int


class Pictures:
    def __init__(self, files: Files, plans: Plans, known: Knowledge) -> None:
        self._browse: Browse = files.browse
        self._prepared: PreparedFiles = plans.prepared
        self._known = known
        self._gate = asyncio.Semaphore(1)  # one at a time: a large picture takes much memory

    async def look(self, site: Site, path: SitePath) -> PictureKnown:
        """What is known of a picture there. Raises InvalidInput where it is none that can be read."""
        _, data = await self._original(site, path)
        width, height, places = await asyncio.to_thread(pixels_of, data)
        if width is None or height is None:
            raise InvalidInput(f"{path} is no picture that can be read here.")
        _, learned = await self._known.learned(site)
        return PictureKnown(width, height, len(data), learned.graph.widths().get(path, ()), places)

    async def smaller(self, site: Site, path: SitePath, width: int, quality: int) -> Smaller:
        """A copy of a width, upright, without what was written into it beside the picture. Raises InvalidInput."""
        _, data = await self._original(site, path)
        async with self._gate:
            return await asyncio.to_thread(_smaller, data, width, quality)

    async def plan(self, account_id: int, site: Site, path: SitePath, width: int, quality: int) -> int:
        """Plan to put a smaller copy in a picture's place; return the job. What is replaced is kept."""
        entry, data = await self._original(site, path)
        async with self._gate:
            made = await asyncio.to_thread(_smaller, data, width, quality)
        if len(made.content) >= len(data):
            raise InvalidInput("The copy is no smaller than the original: choose fewer pixels, or a lower quality.")
        reason = f"{made.width} pixels wide, {size_text(len(made.content))} instead of {size_text(len(data))}"
        title = f"A smaller copy of {shown_name(path.name)}"
        return await self._prepared.add(account_id, site, _THERE, title, [Write(path, made.content, entry, reason)])

    async def _original(self, site: Site, path: SitePath) -> tuple[Entry, bytes]:
        async with self._browse.side(site, _THERE) as side:
            entry = await side.stat(path)
            if not entry.is_file or entry.size > _MOST_BYTES:
                raise InvalidInput(f"{path} is no file, or larger than {size_text(_MOST_BYTES)}.")
            return await side.whole(path)


def _smaller(data: bytes, width: int, quality: int) -> Smaller:
    try:
        with Image.open(io.BytesIO(data)) as picture:
            kind = picture.format or ""
            if kind not in _FORMATS:
                raise InvalidInput(f"A smaller copy is made of JPEG, PNG and WebP; this is {kind or 'none of them'}.")
            if picture.width * picture.height > _MOST_PIXELS:
                raise InvalidInput("This picture has too many pixels to be worked on here.")
            if getattr(picture, "n_frames", 1) > 1:
                raise InvalidInput("This picture moves: a smaller copy would stand still.")
            profile = picture.info.get("icc_profile")
            upright = ImageOps.exif_transpose(picture)
            wanted = min(width, upright.width)
            height = max(1, round(upright.height * wanted / upright.width))
            made = upright.resize((wanted, height), Image.Resampling.LANCZOS)
            kept = io.BytesIO()
            more = {"icc_profile": profile} if profile else {}
            if kind == "PNG":
                made.save(kept, kind, optimize=True, **more)
            else:
                made.convert("RGB" if kind == "JPEG" else made.mode).save(kept, kind, quality=quality, **more)
    except UNREADABLE as error:
        raise InvalidInput("This picture cannot be read: it is cut, or of a kind that is not known here.") from error
    return Smaller(kept.getvalue(), _FORMATS[kind], wanted, height)
