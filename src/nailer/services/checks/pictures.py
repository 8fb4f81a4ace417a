"""Smaller copies of pictures, made here: looked at beside the original, then put in its place by a plan."""

from __future__ import annotations

import asyncio

from nailer.bounded import bounded
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.site.picture_files import Smaller, pixels_of, smaller_copy
from nailer.core.site.pictures import PictureKnown
from nailer.core.words import size_text
from nailer.errors import InvalidInput
from nailer.services.checks.known import Knowledge
from nailer.services.files import Browse, Files
from nailer.services.plans import Plans, PreparedFiles, Write
from nailer.store.sites import Site

_MOST_BYTES = 60_000_000
_THERE = SideName.THERE


class Pictures:
    def __init__(self, files: Files, plans: Plans, known: Knowledge) -> None:
        self._browse: Browse = files.browse
        self._prepared: PreparedFiles = plans.prepared
        self._known = known
        self._gate = asyncio.Semaphore(1)  # one at a time: a large picture takes much memory

    async def look(self, site: Site, path: SitePath) -> PictureKnown:
        """What is known of a picture there. Raises InvalidInput where it is none that can be read."""
        _, data = await self._original(site, path)
        width, height, places = await bounded(pixels_of, data)
        if width is None or height is None:
            raise InvalidInput(f"{path} is not a picture that Nailer can read.")
        _, learned = await self._known.learned(site)
        return PictureKnown(width, height, len(data), learned.graph.widths().get(path, ()), places)

    async def smaller(self, site: Site, path: SitePath, width: int, quality: int) -> Smaller:
        """A copy of a width, upright, without what was written into it beside the picture. Raises InvalidInput."""
        _, data = await self._original(site, path)
        async with self._gate:
            return await bounded(smaller_copy, data, width, quality)

    async def plan(self, account_id: int, site: Site, path: SitePath, width: int, quality: int) -> int:
        """Plan to put a smaller copy in a picture's place; return the job. What is replaced is kept."""
        entry, data = await self._original(site, path)
        async with self._gate:
            made = await bounded(smaller_copy, data, width, quality)
        if len(made.content) >= len(data):
            raise InvalidInput("The copy is not smaller than the original. Choose a smaller width or a lower quality.")
        reason = f"{made.width} pixels wide, {size_text(len(made.content))} instead of {size_text(len(data))}"
        title = f"A smaller copy of {shown_name(path.name)}"
        return await self._prepared.add(account_id, site, _THERE, title, [Write(path, made.content, entry, reason)])

    async def _original(self, site: Site, path: SitePath) -> tuple[Entry, bytes]:
        async with self._browse.side(site, _THERE) as side:
            entry = await side.stat(path)
            if not entry.is_file or entry.size > _MOST_BYTES:
                raise InvalidInput(f"{path} is not a file, or is larger than {size_text(_MOST_BYTES)}.")
            return await side.read_all(path)
