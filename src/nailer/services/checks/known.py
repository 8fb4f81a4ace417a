"""What is known of a site: findings as cards, what a page needs, where the room went, what could go."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from nailer.core.files.entry import Entry, SideName
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.jobs.schedule import Every, checked_schedule
from nailer.core.site.findings import FindingCard, MendButton, SiteFinding, cards
from nailer.core.site.graph import RefersAt, Unreferenced
from nailer.core.site.links import Use
from nailer.core.site.read_files import by_program, made_smaller, twins
from nailer.core.site.room import Box, RoomTaken, Tile, grown, squarified, tiles, weights
from nailer.core.site.savings import Savings, enough, savings
from nailer.core.work.states import ScanState
from nailer.errors import FileMissing, InvalidInput, NotFound
from nailer.services.checks.ground import here_of, need_whole
from nailer.services.checks.scanner import ScanProgress, SiteLearned, SiteScanner
from nailer.services.files import Files
from nailer.store.checks.findings import FindingStore, StoredFinding
from nailer.store.checks.scans import ScanStore, ScanTime, StoredScan
from nailer.store.sites import Site
from nailer.store.stores import Stores

MAP = Box(0, 0, 1000, 560)
_ALONE = frozenset({FileKind.PICTURE, FileKind.SOUND, FileKind.FONT, FileKind.STYLE, FileKind.SCRIPT})


@dataclass(frozen=True, slots=True)
class SiteKnown:
    """What stands of a site. `scan` is the last one that was done, `standing` how far one is that is under way, `failed`
    a later one that was not done. `found` are the findings that count, in the order that `cards` speak of; `ignored` the
    others."""

    scan: StoredScan | None
    standing: ScanProgress | None
    failed: StoredScan | None
    cards: tuple[FindingCard, ...]
    found: tuple[StoredFinding, ...]
    ignored: tuple[StoredFinding, ...]
    time: ScanTime | None

    @property
    def since(self) -> list[datetime]:
        """Since when each card's oldest finding has stood, in the order of the cards."""
        return [min(self.found[number].first_at for number in card.about) for card in self.cards]


@dataclass(frozen=True, slots=True)
class Needed:
    """Something a page refers to: what for, as it is written, and what is there; `other` is what it is really
    called. `is_known`: False where the folder it would lie in was not read whole."""

    place: RefersAt
    path: SitePath
    entry: Entry | None
    entry_here: Entry | None
    other: SitePath | None
    is_known: bool


@dataclass(frozen=True, slots=True)
class PageKnown:
    """A page with what it needs itself, and everything that belongs to it."""

    page: SitePath
    needs: tuple[Needed, ...]
    elsewhere: tuple[tuple[str, Use], ...]
    referrers: tuple[RefersAt, ...]
    belongs: tuple[SitePath, ...]


@dataclass(frozen=True, slots=True)
class RoomKnown:
    """A folder's room: what lies in it, each with its box on the map; `grown` since the scan before."""

    scan: StoredScan
    top: SitePath
    folder: SitePath
    weight: RoomTaken
    tiles: tuple[tuple[Tile, Box], ...]
    grown: tuple[tuple[SitePath, int], ...]
    total: RoomTaken


@dataclass(frozen=True, slots=True)
class SavingsKnown:
    """What could go. `by_program`: pages are made by programs, so what nothing refers to is not known and left out."""

    savings: tuple[Savings, ...]
    chosen: frozenset[str]
    by_program: bool


class Knowledge:
    def __init__(self, stores: Stores, files: Files, reader: SiteScanner) -> None:
        self._scans: ScanStore = stores.scans
        self._findings: FindingStore = stores.findings
        self._keeping = files.keeping
        self._reader = reader

    async def overview(self, site: Site) -> SiteKnown:
        """What stands of a site. Raises NotAllowed where whoever acts does not see all of it."""
        need_whole(site)
        last, stored, time = await asyncio.gather(
            self._scans.last(site.id), self._findings.of(site.id), self._scans.time_of(site.id)
        )
        done = next((one for one in last if one.state is ScanState.DONE), None)
        failed = last[0] if last and last[0].state is not ScanState.DONE else None
        found = tuple(one for one in stored if one.ignored_at is None)
        return SiteKnown(
            done,
            self._reader.standing(site.id),
            failed,
            tuple(cards([one.finding for one in found])),
            found,
            tuple(one for one in stored if one.ignored_at is not None),
            time,
        )

    async def about(
        self, site: Site, card_sort: str, mend: str, first: int | None = None
    ) -> tuple[MendButton, list[SiteFinding]]:
        """The findings that a button of a card is about. `first` tells cards of one sort apart by their first finding.
        Raises NotFound where they are gone."""
        known = await self.overview(site)
        for card in known.cards:
            if card.sort != card_sort or (first is not None and known.found[card.about[0]].id != first):
                continue
            for action in card.actions:
                if action.mend.value == mend:
                    return action, [known.found[number].finding for number in action.about]
        raise NotFound("This finding no longer exists. Scan the site again.")

    async def ignore(self, account_id: int, site: Site, numbers: Sequence[int], why: str) -> None:
        """Let findings be. Raises InvalidInput where nobody says why."""
        need_whole(site)
        if not why.strip():
            raise InvalidInput(
                "Give a reason, so that others understand why it is ignored.", fields={"why": "Say why."}
            )
        for number in numbers:
            await self._findings.ignore(site.id, number, account_id, why.strip())

    async def unignore(self, site: Site, number: int) -> None:
        """Count a finding again."""
        need_whole(site)
        await self._findings.unignore(site.id, number)

    async def set_time(self, account_id: int, site: Site, at: str, zone: str) -> None:
        """Read a site each day at a time, or ('') only when somebody asks. Raises InvalidInput."""
        need_whole(site)
        if at:
            schedule = checked_schedule(Every.DAILY, at, zone)
            await self._scans.set_time(site.id, account_id, schedule)
        else:
            await self._scans.drop_time(site.id)

    async def learned(self, site: Site) -> tuple[StoredScan, SiteLearned]:
        """The last scan with all that it has. Raises NotFound where the site was never read."""
        need_whole(site)
        found = await self._reader.learned(site)
        if found is None:
            raise NotFound("This site has not been scanned yet. Open Checks and choose “Scan the site”.")
        return found

    async def page(self, site: Site, page: SitePath) -> PageKnown:
        """What a page refers to, who refers to it, and what belongs to it. Raises FileMissing where it was not read."""
        _, learned = await self.learned(site)
        if page not in learned.graph.leads:
            raise FileMissing(f"{page} is not a page, or it did not exist at the last scan.")
        needs, elsewhere = [], []
        for place, target, _ in learned.graph.leads[page]:
            if target.path is not None:
                path, there = target.path, learned.there
                here, other = learned.here.entry(path), there.other_writing(path)
                needs.append(Needed(place, path, there.entry(path), here, other, there.known(path)))
            else:
                elsewhere.append((target.address, place.use))
        belongs = await asyncio.to_thread(learned.graph.needs, page, learned.there, follow=True)
        return PageKnown(page, tuple(needs), tuple(elsewhere), learned.graph.referrers(page), (page, *belongs))

    async def belongs(self, site: Site, page: SitePath) -> list[tuple[SitePath, SitePath, list[bytes]]]:
        """A page and everything that belongs to it, by folder: the folder here, the one there, names. Raises InvalidInput
        where none of it lies in folders that the pair maps to each other."""
        folders: dict[SitePath, list[bytes]] = defaultdict(list)
        for path in (await self.page(site, page)).belongs:
            folders[path.parent].append(path.name)
        found = [(here, there, names) for there, names in folders.items() if (here := here_of(site, there)) is not None]
        if not found:
            raise InvalidInput("None of these files are in the folders of the pair.")
        return found

    async def pages(self, site: Site) -> list[tuple[SitePath, int, int]]:
        """Every page and style that was read, with how many references it has and how many of them lead to nothing."""
        _, learned = await self.learned(site)
        found = []
        for page, led in learned.graph.leads.items():
            gone = sum(
                target.path is not None
                and learned.there.entry(target.path) is None
                and learned.there.known(target.path)
                for _, target, _ in led
            )
            found.append((page, len(led), gone))
        return sorted(found, key=lambda one: (-one[2], one[0]))

    async def unreferenced(self, site: Site) -> tuple[list[Unreferenced], bool]:
        """Files that nothing refers to, and whether programs make pages, so that this is not sure."""
        _, learned = await self.learned(site)
        return await asyncio.to_thread(learned.graph.unreferenced, learned.there, learned.roots), by_program(
            learned.files
        )

    async def room(self, site: Site, folder: SitePath | None) -> RoomKnown:
        """Where the room of an account went, seen from a folder. Raises NotFound where that was not read."""
        scan, learned = await self.learned(site)
        trees = learned.there.trees
        top = next((one for one in trees if folder is None or folder.below(one) is not None), None)
        if top is None or (below := (folder or top).below(top)) is None or below not in trees[top].folders:
            raise NotFound("This folder was not scanned. Scan the whole account to see all of it.")
        return await asyncio.to_thread(_room, scan, trees[top], top, below, await self._before(scan, top))

    async def _before(self, scan: StoredScan, top: SitePath) -> Mapping[RelativePath, RoomTaken]:
        last = await self._scans.last(scan.site_id)
        earlier = next((one for one in last if one.state is ScanState.DONE and one.id < scan.id), None)
        if earlier is None or earlier.is_account != scan.is_account:
            return {}
        trees = await self._scans.trees(earlier.id)
        return await asyncio.to_thread(weights, trees[top]) if top in trees else {}

    async def savings(self, site: Site, needed: int) -> SavingsKnown:
        """What could go, and what of it makes the room that is needed (0: nothing is chosen)."""
        _, learned = await self.learned(site)
        keeps = await self._keeping.of_site(site.id)

        def _kept(path: SitePath) -> bool:
            return keeps.over(SideName.THERE, path) is not None

        is_made = by_program(learned.files)

        def _find() -> list[Savings]:
            alone = [] if is_made else learned.graph.unreferenced(learned.there, learned.roots)
            return savings(
                learned.there,
                wanted=learned.graph.targets,
                twins=twins(learned.files),
                unreferenced=[one.path for one in alone if not one.keeps and kind_by_name(one.path.name) in _ALONE],
                smaller=made_smaller(learned.files, learned.graph.widths()),
                kept=_kept,
            )

        found = await asyncio.to_thread(_find)
        return SavingsKnown(tuple(found), frozenset(one.value for one in enough(found, needed)), is_made)


def _room(
    scan: StoredScan, tree: Tree, top: SitePath, below: RelativePath, before: Mapping[RelativePath, RoomTaken]
) -> RoomKnown:
    found = weights(tree)
    shown = [one for one in tiles(tree, below, found) if one.weight.size or one.weight.names]
    boxes = squarified([one.weight.size for one in shown], MAP)
    changed = grown(before, found) if before else []
    return RoomKnown(
        scan,
        top,
        top.join(below),
        found.get(below, RoomTaken(complete=False)),
        tuple(zip(shown, boxes, strict=True)),
        tuple((top.join(folder), change) for folder, change in changed),
        found.get((), RoomTaken(complete=False)),
    )
