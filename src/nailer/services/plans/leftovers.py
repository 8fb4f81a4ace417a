"""Half files that no job will continue: they are removed at once.
Half files without an owner are shown to a person, who decides.

A part belongs to an item until it is known to be gone (`store/running/parts.py`). Where its server cannot be reached it
waits here and is tried again; nothing says that no half file is left before that was seen.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import groupby

import structlog

from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import aside_name, aside_of
from nailer.core.files.sitepath import SitePath
from nailer.core.words import count_text, size_text, span_text
from nailer.engine.parts import cleared
from nailer.engine.swap import settled
from nailer.engine.tasks import Often
from nailer.errors import NailerError, TransferError
from nailer.services.files import Browse
from nailer.sides.connection import Lane
from nailer.sides.side import Side, is_there
from nailer.store.running.parts import Part, PartStore
from nailer.store.sites import Site, SiteStore

_log = structlog.get_logger()

_EVERY_S = 600.0
_SOON_S = 0.2  # jobs often end together


@dataclass(frozen=True, slots=True)
class LeftOver:
    """Temporary files in one folder that belong to nobody."""

    folder: SitePath
    parts: tuple[Entry, ...]

    @property
    def sentence(self) -> str:
        """What they are, how large and how old.

        >>> LeftOver(SitePath(), ()).sentence
        ''
        """
        if not self.parts:
            return ""
        size = sum(one.size for one in self.parts)
        stamps = [one.stamp for one in self.parts if one.stamp is not None]
        oldest = min(stamps, key=lambda one: one.at_ns, default=None)
        age = f", the oldest {span_text(datetime.now(UTC).timestamp() - oldest.at_s)} old" if oldest is not None else ""
        many = count_text(len(self.parts), "partial file")
        belong = "belongs" if len(self.parts) == 1 else "belong"
        return f"{many} in this folder {belong} to no job: {size_text(size)}{age}."


class Leftovers:
    """Removes half files that no job will continue, in the background."""

    def __init__(self, parts: PartStore, sites: SiteStore, browse: Browse) -> None:
        self._parts = parts
        self._sites = sites
        self._browse = browse
        self._often = Often("partial files that no job will continue", self._clear_soon, every_s=_EVERY_S)

    def start(self) -> None:
        """Begin to clear half files that nobody will go on with."""
        self._often.start()

    def wake(self) -> None:
        """A job has ended, or something was left out: there may be something to clear."""
        self._often.wake()

    async def stop(self) -> None:
        """End clearing."""
        await self._often.stop()

    async def clear(self) -> int:
        """Clear all that nobody will go on with; return how many could not be cleared yet."""
        unwanted = sorted(await self._parts.unwanted(), key=lambda one: (one.site_id, one.side))
        left = 0
        for (site_id, side_name), some in groupby(unwanted, key=lambda one: (one.site_id, one.side)):
            parts = list(some)
            try:
                site = await self._sites.get(site_id)
                async with self._browse.side(site, side_name, Lane.TRANSFER) as side:
                    gone = [one.item_id for one in parts if await _cleared(side, one)]
            except NailerError as error:
                _log.info("half files wait to be cleared", site=site_id, parts=len(parts), why=error.what)
                left += len(parts)
                continue
            await self._parts.gone(gone)
            left += len(parts) - len(gone)
        return left

    async def found(self, site: Site, side: SideName, folder: SitePath, parts: Sequence[Entry]) -> LeftOver:
        """Of the temporary files that were seen in a folder those that belong to nobody."""
        if not parts:
            return LeftOver(folder, ())
        owned = await self._parts.owned(site.id, side)
        names = {path.name for path in owned if path.parent == folder}
        names |= {aside_of(name) for name in names}
        return LeftOver(folder, tuple(one for one in parts if one.name not in names))

    async def remove(self, site: Site, side_name: SideName, folder: SitePath) -> int:
        """Remove what is left over in a folder and belongs to nobody; return how many that were. Raises what removing
        raises."""
        async with self._browse.side(site, side_name) as side:
            listing = await side.list(folder)
            found = await self.found(site, side_name, folder, listing.parts)
            files = [one for one in found.parts if one.is_file]
            for one in files:
                await side.remove_file(folder.child(one.name))
        self._browse.forget(site.id, side_name, folder)
        return len(files)

    async def _clear_soon(self) -> None:
        """A moment after what it is woken for: whoever ends writes down what it leaves first."""
        await asyncio.sleep(_SOON_S)
        try:
            await self.clear()
        except NailerError as error:
            _log.warning("half files could not be cleared", why=error.what)


async def _cleared(side: Side, part: Part) -> bool:
    """Remove a temporary file, and put back or remove an old file that was set aside for it; True where all is gone."""
    folder = part.path.parent
    if not await cleared(side, folder, part.job_id, part.item_id):
        return False
    try:
        for hidden in (True, False):
            aside = folder.child(aside_name(part.job_id, part.item_id, hidden=hidden))
            if not await is_there(side, aside):
                continue
            target = part.target
            if target is None:
                return False  # whose it was nobody knows any more; it is offered where it lies
            landed = await is_there(side, target)
            await settled(side, target, aside, landed=landed)
            if landed and await is_there(side, aside):
                return False
    except TransferError:
        return False
    return True
