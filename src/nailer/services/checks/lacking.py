"""What pages of an upload refer to, and what is neither there nor among what comes: found before anybody misses it."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import AsyncIterator, Iterable, Sequence
from dataclasses import dataclass

from nailer.bounded import bounded
from nailer.core.files.completeness import Incomplete
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.plan import Action
from nailer.core.site.graph import Graph, RefersAt, lacking
from nailer.core.site.links import FileLinks, links_in
from nailer.core.site.names import Names
from nailer.core.site.read_files import refers
from nailer.errors import InvalidInput, TransferError, Unreadable
from nailer.services.checks.content import AT_ONCE
from nailer.services.checks.ground import here_of
from nailer.services.files import Browse, Files
from nailer.services.plans import FromFolder, Item, Job, PlanMaker, Plans
from nailer.sides.side import Side
from nailer.store.jobs import JobStore
from nailer.store.sites import Site
from nailer.store.stores import Stores

_MOST_PAGES = 400
_MOST_BYTES = 20_000_000


@dataclass(frozen=True, slots=True)
class LackingKnown:
    """What an upload lacks: each with where its pages refer to it. `pages` is how many of them were read, `more` how many
    were not; `graph` is of those that were."""

    lacking: dict[SitePath, tuple[RefersAt, ...]]
    pages: int
    more: int
    graph: Graph


class Lacking:
    def __init__(self, stores: Stores, files: Files, plans: Plans) -> None:
        self._jobs: JobStore = stores.jobs
        self._browse: Browse = files.browse
        self._make: PlanMaker = plans.make

    @staticmethod
    def asks(site: Site, job: Job) -> bool:
        """True for a plan whose pages are read: it carries from here to what is on the web."""
        return job.kind is JobKind.TRANSFER and job.to_side is SideName.THERE and bool(site.document_roots)

    async def of_plan(self, site: Site, job: Job) -> LackingKnown:
        """What the pages of a plan refer to that lies here, and is neither there nor in the plan. Raises TransferError."""
        pages: list[Item] = []
        more, left = 0, _MOST_BYTES
        async for one in self._carried(job.id):
            if refers(one.entry):
                if len(pages) < _MOST_PAGES and one.entry.size <= left:
                    pages.append(one)
                    left -= one.entry.size
                else:
                    more += 1
        async with self._browse.side(site, SideName.HERE) as side:
            links = await _read(side, pages)
        graph = await asyncio.to_thread(Graph.of, links, site.document_roots)
        paths = graph.targets
        there, here = await asyncio.gather(
            self._names(site, SideName.THERE, paths), self._names(site, SideName.HERE, paths)
        )
        coming = {one.target async for one in self._carried(job.id) if one.target in paths}
        found = lacking(graph, list(links), here, there, coming)
        return LackingKnown(found, len(links), more, graph)

    async def add(self, account_id: int, site: Site, job: Job) -> int:
        """The same plan with what it lacks; return its job, the one without is forgotten. Raises InvalidInput where it lacks
        nothing any more."""
        found = await self.of_plan(site, job)
        if not found.lacking:
            raise InvalidInput("No files are missing any longer.")
        folders: dict[tuple[SitePath, SitePath], list[bytes]] = defaultdict(list)
        async for one in self._carried(job.id):
            folders[one.source.parent, one.target.parent].append(one.source.name)
        for path in found.lacking:
            here = here_of(site, path.parent)
            if here is not None:
                folders[here, path.parent].append(path.name)
        places = [FromFolder(source, target, tuple(names)) for (source, target), names in folders.items()]
        job_id = await self._make.transfer_places(account_id, site, SideName.THERE, places)
        await self._jobs.discard(job.id)
        return job_id

    async def _carried(self, job_id: int) -> AsyncIterator[Item]:
        """The files of a plan, a window at a time: the memory that takes does not grow with the plan."""
        async for window in self._jobs.all_items(job_id):
            for one in window:
                if one.action is Action.TRANSFER:
                    yield one

    async def _names(self, site: Site, name: SideName, paths: Iterable[SitePath]) -> Names:
        """The folders on the way to paths, as a side has them; the names are those there in any case."""
        trees = {}
        for root in site.document_roots:
            below = [one for path in paths if (one := path.below(root.folder)) is not None]
            top = root.folder if name is SideName.THERE else here_of(site, root.folder)
            if top is not None:
                trees[root.folder] = await self._tree(site, name, top, below)
        return Names(trees)

    async def _tree(self, site: Site, name: SideName, top: SitePath, belows: Sequence[RelativePath]) -> Tree:
        folders: dict[RelativePath, Sequence[Entry]] = {}
        lacks: dict[RelativePath, Incomplete] = {}
        for folder in sorted({below[:depth] for below in belows for depth in range(len(below))}, key=len):
            if folder and not any(one.name == folder[-1] and one.is_folder for one in folders.get(folder[:-1], ())):
                continue  # it is not there, or a link: nothing below it is looked at
            listing = await self._browse.listing(site, name, top.join(folder), max_age_s=60)
            if listing.problem is not None:
                continue
            folders[folder] = listing.entries
            if listing.lack is not None:
                lacks[folder] = listing.lack
        return Tree(folders, lacks=lacks)


async def _read(side: Side, pages: Sequence[Item]) -> dict[SitePath, FileLinks]:
    """What pages refer to, by where they will lie."""
    gate = asyncio.Semaphore(AT_ONCE)

    async def _one(item: Item) -> tuple[SitePath, FileLinks] | None:
        try:
            async with gate:
                _, data = await side.read_all(item.source)
        except TransferError:
            return None  # the job will say so
        try:
            return item.target, await bounded(links_in, item.target.name, data)
        except Unreadable:
            return None  # the scan of the site says so

    found = await asyncio.gather(*(_one(one) for one in pages))
    return dict(one for one in found if one is not None)
