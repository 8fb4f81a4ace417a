"""What there is to say of an upload before it goes: pictures that could be smaller, media that a site will not know."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass

from nailer.bounded import bounded
from nailer.core.files.entry import SideName
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.sitepath import SitePath, address_of
from nailer.core.plans.plan import Action
from nailer.core.site.graph import Graph
from nailer.core.site.media import in_dated_folder, is_managed
from nailer.core.site.picture_files import pixels_of
from nailer.core.site.pictures import PictureKnown, advice
from nailer.errors import TransferError, Unreadable
from nailer.services.checks.content import AT_ONCE, HEAD_BYTES, PARSED_AT_ONCE
from nailer.services.checks.scanner import SiteScanner
from nailer.services.files import Browse, Files
from nailer.services.plans import Item, Job
from nailer.sides.side import Side
from nailer.store.jobs import JobStore
from nailer.store.sites import Site
from nailer.store.stores import Stores

_MOST_PICTURES = 60
_FROM_BYTES = 60_000
_MOST_DATED = 200


@dataclass(frozen=True, slots=True)
class UploadNotes:
    """`pictures` are those that speak for a smaller copy, each with why; `more` were not looked at. `dated` are media that
    the site's own library will not know, with the addresses they will have."""

    pictures: dict[SitePath, list[str]]
    more: int
    dated: dict[SitePath, str]


class UploadAdvice:
    def __init__(self, stores: Stores, files: Files, reader: SiteScanner) -> None:
        self._jobs: JobStore = stores.jobs
        self._browse: Browse = files.browse
        self._reader = reader

    async def of_plan(self, site: Site, job: Job, graph: Graph) -> UploadNotes:
        """What there is to say of a plan; `graph` is of the pages in it. Raises TransferError."""
        pictures: list[Item] = []
        dated: dict[SitePath, str] = {}
        more = 0
        async for window in self._jobs.all_items(job.id):
            for one in window:
                if one.action is not Action.TRANSFER:
                    continue
                if kind_by_name(one.target.name) is FileKind.PICTURE and one.entry.size >= _FROM_BYTES:
                    more += len(pictures) >= _MOST_PICTURES
                    pictures += [one] if len(pictures) < _MOST_PICTURES else []
                if in_dated_folder(one.target) and len(dated) < _MOST_DATED:
                    dated[one.target] = address_of(one.target, site.document_roots) or ""
        if dated and not await self._is_managed(site):
            dated = {}
        shown = {**self._reader.widths_at_hand(site.id), **graph.widths()}
        found = await self._looked_at(site, pictures, shown) if pictures else {}
        return UploadNotes(found, more, dated)

    async def _is_managed(self, site: Site) -> bool:
        listings = [
            await self._browse.listing(site, SideName.THERE, root.folder, max_age_s=60) for root in site.document_roots
        ]
        return any(is_managed([entry.name for entry in listing.entries]) for listing in listings)

    async def _looked_at(
        self, site: Site, pictures: list[Item], shown: Mapping[SitePath, tuple[int, ...]]
    ) -> dict[SitePath, list[str]]:
        gate, parsing = asyncio.Semaphore(AT_ONCE), asyncio.Semaphore(PARSED_AT_ONCE)

        async def _one(side: Side, item: Item) -> tuple[SitePath, list[str]]:
            try:
                async with gate:
                    head = await _head(side, item.source)
            except TransferError:
                return item.target, []  # the job will say so
            async with parsing:
                try:
                    width, height, places = await bounded(pixels_of, head)
                except Unreadable:
                    return item.target, []
            if width is None or height is None:
                return item.target, []
            known = PictureKnown(width, height, item.entry.size, shown.get(item.target, ()), places)
            return item.target, advice(known)

        async with self._browse.side(site, SideName.HERE) as side:
            found = await asyncio.gather(*(_one(side, one) for one in pictures))
        return {path: said for path, said in found if said}


async def _head(side: Side, path: SitePath) -> bytes:
    head = bytearray()
    async for chunk in side.read(path):
        head += chunk
        if len(head) >= HEAD_BYTES:
            break
    return bytes(head)
