"""Two contents laid beside each other: text line by line, with what it was read as."""

from __future__ import annotations

from nailer.bounded import bounded
from nailer.core.compare.contents import Compared, compared
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.plan import Action
from nailer.errors import FileMissing, InvalidInput
from nailer.services.files.browse import Browse
from nailer.sides.side import Side
from nailer.store.jobs import Item, Job
from nailer.store.sites import Site

_LARGEST_BYTES = 1_000_000


class ContentsShown:
    def __init__(self, browse: Browse, spool: Side) -> None:
        self._browse = browse
        self._spool = spool

    async def item(self, job: Job, site: Site, item: Item) -> Compared:
        """What a step of a plan would change in what is there now."""
        if item.action is not Action.TRANSFER or job.kind is JobKind.DROP:
            raise InvalidInput("There is nothing to compare for this step.")
        if max(item.entry.size, item.seen.size if item.seen else 0) > _LARGEST_BYTES:
            return Compared((), "They are too large to be compared here.")
        async with self._browse.side(site, job.to_side) as target:
            old = await _content(target, item.target)
            if job.kind in (JobKind.WRITE, JobKind.UNPACK):
                new = await _content(self._spool, item.source)
            else:
                side = job.to_side if job.kind is JobKind.COPY else job.to_side.other
                async with self._browse.side(site, side) as source:
                    new = await _content(source, item.source)
        return await bounded(compared, old, new)

    async def sides(self, site: Site, here: SitePath, there: SitePath) -> Compared:
        """One name's two sides: there is the old, here the new."""
        async with self._browse.side(site, SideName.HERE) as near, self._browse.side(site, SideName.THERE) as far:
            return await bounded(compared, await _content(far, there), await _content(near, here))


async def _content(side: Side, path: SitePath) -> bytes:
    """A file's bytes; nothing where it is not there yet."""
    try:
        entry, data = await side.read_all(path) if (await side.stat(path)).size <= _LARGEST_BYTES else (None, b"")
    except FileMissing:
        return b""
    if entry is None:
        raise InvalidInput("It is too large to be compared here.")
    return data
