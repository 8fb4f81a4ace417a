"""Seeing both sides: folders are read once, remembered for a while, and laid side by side as a ledger or a tree."""

from __future__ import annotations

import asyncio
import time
from collections import OrderedDict
from collections.abc import AsyncIterator, Collection, Mapping
from contextlib import asynccontextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, tzinfo

from nailer.acting import grant_on
from nailer.core.compare.joint import Baseline, Joint
from nailer.core.compare.ledger import Inside, LedgerRow, View, build_rows, joint_counts, not_compared, visible
from nailer.core.files.bound import Bound, belong, counterpart
from nailer.core.files.completeness import Incomplete, Listing
from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.standing import last_standing
from nailer.core.plans.sieve import Sieves
from nailer.core.words import aware, when_text
from nailer.engine.tasks import Background
from nailer.errors import ConnectionDropped, FileMissing, OutsideRoot, TransferError
from nailer.services.files.folder_pair import FolderPair, place_in_pair
from nailer.services.files.folding import folded, respelled
from nailer.services.files.roll_up import RolledSoFar, RollUp
from nailer.services.files.second_look import looked_again
from nailer.sides.confined import confined
from nailer.sides.connection import Lane
from nailer.sides.here import HereSide
from nailer.sides.pool import Pool
from nailer.sides.side import Side
from nailer.store.changes import ChangeStore, pair_key
from nailer.store.marks import MarkStore
from nailer.store.pairs import Pair, PairStore
from nailer.store.sieves import SieveStore
from nailer.store.sites import Site

FRESH_S = 20.0
_MOST_FOLDERS = 4000
_MOST_NAMES = 600_000
_MOST_LEDGERS = 8


@dataclass(frozen=True, slots=True)
class FolderRead:
    """One folder of one side as it was read. `problem` says why it could not be; then `entries` is empty. `lack` says why
    there may be more in it; `parts` are temporary files of Nailer's own, `ruled_out` names that were asked for by themselves
    and are not there."""

    entries: tuple[Entry, ...]
    read_at: datetime
    read_at_s: float
    problem: TransferError | None = None
    lack: Incomplete | None = None
    parts: tuple[Entry, ...] = ()
    ruled_out: frozenset[bytes] = frozenset()

    def may_hide(self, name: bytes) -> str:
        """Why a name that is not in it may be there all the same; '' where it is known not to be."""
        unsure = self.lack is not None and name not in self.ruled_out and self.lack.may_hide(name)
        return self.lack.sentence if unsure and self.lack is not None else ""

    @property
    def is_whole(self) -> bool:
        """Everything in the folder is known."""
        return self.problem is None and self.lack is None

    @property
    def is_missing(self) -> bool:
        """The folder is not there: nothing is wrong, it could be made."""
        return isinstance(self.problem, FileMissing)

    @property
    def inside(self) -> Inside | None:
        """What a row says of this folder: how many names, or why that is not known."""
        return self.counted() if self.problem is None else None

    def counted(self, held: Collection[bytes] = ()) -> Inside:
        """How many files and folders were read, and how many names beside them are `held` back."""
        counted = [entry for entry in self.entries if entry.name not in held]
        folders = sum(entry.is_folder for entry in counted)
        return Inside(len(counted) - folders, folders, len(held))


@dataclass(frozen=True, slots=True)
class Ledger:
    """Both sides of one folder pair. `rows` is everything, `shown` what the view lets through. `together` is False where
    nobody has said that these two folders belong together: then nothing is compared."""

    here: SitePath
    there: SitePath
    here_listing: FolderRead
    there_listing: FolderRead
    rows: list[LedgerRow]
    shown: list[LedgerRow]
    counts: dict[Joint, int]
    rolled: RolledSoFar | None
    together: bool = True

    @property
    def out_of_sight(self) -> int:
        """How many names are not shown because they begin with a dot, or a sieve keeps them out of sight."""
        return len(self.rows) - sum(self.counts.values())

    @property
    def is_nowhere(self) -> bool:
        """Neither side has this folder."""
        return self.here_listing.is_missing and self.there_listing.is_missing


@dataclass(frozen=True, slots=True)
class TreeNode:
    """A folder in the tree of both sides."""

    name: bytes
    here: SitePath
    there: SitePath
    on_here: bool
    on_there: bool
    link: bytes | None
    guarded: bool


@dataclass(slots=True)
class _Memory:
    """What was read of one site: listings in the order of use, readings under way, and rolled-up folders."""

    listings: OrderedDict[tuple[SideName, SitePath], FolderRead] = field(default_factory=OrderedDict)
    reading: Background = field(default_factory=Background)
    rolled: dict[FolderPair, RolledSoFar] = field(default_factory=dict)
    ledgers: OrderedDict[tuple[SitePath, SitePath, View], Ledger] = field(default_factory=OrderedDict)
    names: int = 0


async def _strangers(here: SitePath, there: SitePath, ours: FolderRead, theirs: FolderRead, view: View) -> Ledger:
    """Two folders that do not belong together: their names side by side, and nothing said of how they stand."""
    rows = await asyncio.to_thread(build_rows, ours.entries, theirs.entries, {}, {})
    rows = not_compared(rows, "the two folders are not a pair, so nothing is compared")
    return Ledger(
        here, there, ours, theirs, rows, visible(rows, view), joint_counts(rows, hidden=view.hidden), None, False
    )


class Browse:
    def __init__(
        self,
        here: HereSide,
        pool: Pool,
        changes: ChangeStore,
        pairs: PairStore,
        sieves: SieveStore,
        marks: MarkStore,
        zone: tzinfo,
    ) -> None:
        self._here = here
        self._pool = pool
        self.changes = changes
        self._pairs = pairs
        self._sieves = sieves
        self._marks = marks
        self._zone = zone
        self._memories: dict[int, _Memory] = {}
        self.rolling = RollUp(self)

    async def roll_up(self, site: Site, here: SitePath, there: SitePath) -> bool:
        """Compare what lies inside the folders of a pair, within bounds; True where something new is known."""
        if not belong(await self.bounds(site), here, there):
            return False
        return await self.rolling.roll_up(site, here, there)

    @asynccontextmanager
    async def side(self, site: Site, name: SideName, lane: Lane = Lane.BROWSE) -> AsyncIterator[Side]:
        """A side of a site, connected."""
        grant = grant_on(site.id)
        if name is SideName.HERE:
            yield confined(self._here, name, grant)
            return
        async with self._pool.side(site.id, lane) as there:
            yield confined(there, name, grant)

    async def listing(self, site: Site, name: SideName, folder: SitePath, *, max_age_s: float = FRESH_S) -> FolderRead:
        """A folder as it was read within `max_age_s`, or read now. Two who ask at once share one reading."""
        if (shut := await self._shut_out(site, name, folder)) is not None:
            return FolderRead((), datetime.now(UTC), time.monotonic(), shut)
        memory = self.memory(site.id)
        key = (name, folder)
        known = memory.listings.get(key)
        if known is not None and time.monotonic() - known.read_at_s <= max_age_s:
            memory.listings.move_to_end(key)
            return known
        task: asyncio.Task[FolderRead] | None = memory.reading.of(key)
        if task is None:
            task = memory.reading.begin(self._read(site, name, folder), key)
        # One reader that goes away must not cut the reading for the others.
        return await asyncio.shield(task)

    async def _shut_out(self, site: Site, name: SideName, folder: SitePath) -> TransferError | None:
        """Why whoever acts may not see a folder; None where they may. What somebody else read is not theirs by that."""
        grant = grant_on(site.id)
        if grant is None or not grant.limits(name):
            return None
        async with self.side(site, name) as side:
            try:
                await side.resolve(folder)
            except FileMissing:
                return None  # nothing is known of it, and nothing remembered
            except OutsideRoot as outside:
                return outside
        return None

    async def ledger(self, site: Site, here: SitePath, there: SitePath, view: View, *, fresh: bool = False) -> Ledger:
        """Both sides of a folder pair. Raises what connecting raises; a folder that cannot be read is in the listing."""
        age_s = 0.0 if fresh else FRESH_S
        ours, theirs = await asyncio.gather(
            self.listing(site, SideName.HERE, here, max_age_s=age_s),
            self.listing(site, SideName.THERE, there, max_age_s=age_s),
        )
        memory = self.memory(site.id)
        rolled = memory.rolled.get((here, there))
        known = memory.ledgers.get((here, there, view))
        if known and known.here_listing is ours and known.there_listing is theirs and known.rolled is rolled:
            memory.ledgers.move_to_end((here, there, view))
            return known
        if not belong(await self.bounds(site), here, there):
            return await _strangers(here, there, ours, theirs, view)
        baselines = (await self.changes.baselines(site.id, [(here, there)]))[pair_key(here, there)]
        pair, below = await self.pair_of(site, here, there)
        last = await self._last_read(pair, below, ours, theirs) if rolled is None else {}
        ours, theirs = await self._looked_again(site, (here, there), (ours, theirs), baselines)
        hides = (ours.may_hide, theirs.may_hide)
        rows = await asyncio.to_thread(build_rows, ours.entries, theirs.entries, baselines, rolled or last, hides)
        rows = await self._sieved(site, pair, here, there, rows)
        rows = await self._marked(site, here, there, rows)
        await self._forget_gone(site, here, there, baselines.keys() - {row.name for row in rows}, ours, theirs)
        shown = await asyncio.to_thread(visible, rows, view)
        counts = joint_counts(rows, hidden=view.hidden)
        ledger = Ledger(here, there, ours, theirs, rows, shown, counts, rolled)
        memory.ledgers[(here, there, view)] = ledger
        if len(memory.ledgers) > _MOST_LEDGERS:
            memory.ledgers.popitem(last=False)
        return ledger

    async def _looked_again(
        self, site: Site, paths: FolderPair, reads: tuple[FolderRead, FolderRead], level: Mapping[bytes, Baseline]
    ) -> tuple[FolderRead, FolderRead]:
        """Both listings once more by name, where much hangs on what they do not show; remembered as if read so."""
        trees = [Tree({(): one.entries}, lacks={(): one.lack} if one.lack is not None else {}) for one in reads]
        found: list[FolderRead] = []
        for number, (name, path, read) in enumerate(zip(SideName, paths, reads, strict=True)):
            vanished = level.keys() - {entry.name for entry in read.entries}
            other = trees[1 - number]
            if read.problem is not None or not (vanished or read.lack or respelled(trees[number], other)):
                found.append(read)
                continue
            async with self.side(site, name) as side:
                tree, _ = await folded(side, path, trees[number], other, {(): level.keys()})
                tree = trees[number] = await looked_again(side, path, tree, other, {(): level.keys()})
            ruled_out = frozenset(below[0] for below in tree.ruled_out)
            entries = tuple(tree.folders[()])
            if (entries, tree.lacks.get(()), ruled_out) != (read.entries, read.lack, read.ruled_out):
                read = replace(read, entries=entries, lack=tree.lacks.get(()), ruled_out=ruled_out)
                self._remember(site.id, (name, path), read)
            found.append(read)
        return found[0], found[1]

    async def bounds(self, site: Site) -> list[Bound]:
        """The folders of a site that belong together: its start folders, and those of its pairs."""
        pairs = await self._pairs.of_site(site.id)
        return [
            Bound(site.start_here, site.start_there),
            *(Bound(pair.here, pair.there) for pair in pairs if pair.other_site_id is None),
        ]

    async def other_side(self, site: Site, side: SideName, path: SitePath) -> SitePath | None:
        """The path on the other side that belongs to one; None where nothing does."""
        return counterpart(await self.bounds(site), side, path)

    async def pair_of(self, site: Site, here: SitePath, there: SitePath) -> tuple[Pair | None, RelativePath]:
        """The pair that two folders belong to, with their place below its tops: of several the innermost."""
        found: tuple[Pair | None, RelativePath] = (None, ())
        for pair in await self._pairs.of_site(site.id):
            below = here.below(pair.here) if pair.other_site_id is None else None
            if (
                below is not None
                and below == there.below(pair.there)
                and (found[0] is None or len(below) < len(found[1]))
            ):
                found = (pair, below)
        return found

    async def _last_read(
        self, pair: Pair | None, below: RelativePath, ours: FolderRead, theirs: FolderRead
    ) -> RolledSoFar:
        """What stood below the folders of a pair when it was read last."""
        if pair is None or pair.read_at is None:
            return {}
        folders, read_at = await self._pairs.folders(pair.id)
        if read_at is None:
            return {}
        when = when_text(aware(read_at), datetime.now(UTC), self._zone)
        both = {one.name for one in ours.entries if one.is_folder} & {
            one.name for one in theirs.entries if one.is_folder
        }
        return {name: (last_standing(folders.get(SitePath((*below, name))), when), None, None) for name in both}

    async def _sieved(
        self, site: Site, pair: Pair | None, here: SitePath, there: SitePath, rows: list[LedgerRow]
    ) -> list[LedgerRow]:
        """Rows that say which sieve holds them back, or keeps them out of sight."""
        sieves = await self.sieves_of(pair)
        if not sieves.sieves:
            return rows
        top = place_in_pair(site, here, there)

        def _one(row: LedgerRow) -> LedgerRow:
            held, unseen = sieves.effects((*top, row.name), row.here, row.there)
            return replace(row, held=held, unseen=unseen) if held or unseen else row

        return await asyncio.to_thread(lambda: list(map(_one, rows)))

    async def _marked(self, site: Site, here: SitePath, there: SitePath, rows: list[LedgerRow]) -> list[LedgerRow]:
        """Rows that say what keeps them from being removed."""
        keeps = await self._marks.of_site(site.id)
        if not keeps:
            return rows

        def _one(row: LedgerRow) -> LedgerRow:
            mark = (row.there and keeps.over(SideName.THERE, there.child(row.name))) or (
                row.here and keeps.over(SideName.HERE, here.child(row.name))
            )
            return replace(row, kept=mark.text) if mark else row

        return list(map(_one, rows))

    async def sieves_of(self, pair: Pair | None) -> Sieves:
        """The sieves that hold for a pair, or those that hold everywhere."""
        stored = await (self._sieves.of_pair(pair.id) if pair is not None else self._sieves.everywhere())
        return Sieves(stored, time.time_ns())

    def redraw(self, site_id: int | None = None) -> None:
        """Draw the sides of a site (or of all sites) again from what was read, as a sieve or the last reading has
        changed."""
        for key, memory in self._memories.items():
            if site_id in (None, key):
                memory.ledgers.clear()

    async def tree(self, site: Site, here: SitePath, there: SitePath) -> list[TreeNode]:
        """The folders of a pair of folders, both sides in one, links to folders among them."""
        ours, theirs = await asyncio.gather(
            self.listing(site, SideName.HERE, here, max_age_s=600),
            self.listing(site, SideName.THERE, there, max_age_s=600),
        )
        one = {entry.name: entry for entry in ours.entries if entry.opens_as_folder}
        other = {entry.name: entry for entry in theirs.entries if entry.opens_as_folder}
        nodes = []
        for name in sorted(one.keys() | other.keys(), key=lambda raw: raw.lower()):
            found = other.get(name) or one[name]
            path = there.child(name)
            guarded = path in site.guarded
            nodes.append(TreeNode(name, here.child(name), path, name in one, name in other, found.target, guarded))
        return nodes

    async def same_place(self, site: Site, there: SitePath) -> SitePath | None:
        """The folder that a path there really is, where it leads through a link; None where it is itself. Only what was
        read already decides whether the server is asked."""
        if not any(self._is_known_link(site, part) for part in (there, *there.ancestors())):
            return None
        try:
            async with self.side(site, SideName.THERE) as side:
                real = await side.resolve(there)
        except TransferError:
            return None  # the listing says what is wrong
        return real if real != there else None

    def _is_known_link(self, site: Site, path: SitePath) -> bool:
        if path.is_root:
            return False
        listing = self.memory(site.id).listings.get((SideName.THERE, path.parent))
        return listing is not None and any(one.name == path.name and one.kind is Kind.LINK for one in listing.entries)

    def forget(self, site_id: int, side: SideName | None = None, folder: SitePath | None = None) -> None:
        """Forget what was read: one folder of a side, or everything of a site. It is read again when it is asked for."""
        memory = self.memory(site_id)
        if side is None or folder is None:
            self._memories.pop(site_id, None)
            return
        dropped = memory.listings.pop((side, folder), None)
        memory.names -= len(dropped.entries) if dropped else 0

    def forget_below(self, site_id: int, side: SideName, folder: SitePath) -> None:
        """Forget a folder that a job has changed, with all below it. Everything else stays known."""
        memory = self.memory(site_id)
        for key in [key for key in memory.listings if key[0] is side and key[1].below(folder) is not None]:
            self.forget(site_id, *key)
        if not folder.is_root:
            self.forget(site_id, side, folder.parent)

    async def _read(self, site: Site, name: SideName, folder: SitePath) -> FolderRead:
        try:
            return await self._read_once(site, name, folder)
        except ConnectionDropped:
            # A line that lay idle is often cut unnoticed; reading is harmless, so it is tried once more.
            return await self._read_once(site, name, folder)

    async def _read_once(self, site: Site, name: SideName, folder: SitePath) -> FolderRead:
        problem: TransferError | None = None
        read = Listing([])
        async with self.side(site, name) as side:
            try:
                read = await side.list(folder)
            except TransferError as failed:
                if failed.retryable:
                    raise
                problem = failed
        listing = FolderRead(tuple(read.entries), datetime.now(UTC), time.monotonic(), problem, read.lack, read.parts)
        self._remember(site.id, (name, folder), listing)
        return listing

    def _remember(self, site_id: int, key: tuple[SideName, SitePath], listing: FolderRead) -> None:
        memory = self.memory(site_id)
        old = memory.listings.pop(key, None)
        memory.names += len(listing.entries) - (len(old.entries) if old else 0)
        memory.listings[key] = listing
        while len(memory.listings) > _MOST_FOLDERS or (memory.names > _MOST_NAMES and len(memory.listings) > 1):
            _, dropped = memory.listings.popitem(last=False)
            memory.names -= len(dropped.entries)
        if len(memory.rolled) > _MOST_FOLDERS:
            memory.rolled.clear()

    async def _forget_gone(
        self, site: Site, here: SitePath, there: SitePath, gone: set[bytes], ours: FolderRead, theirs: FolderRead
    ) -> None:
        """Take names that both sides have lost out of the baseline. A name that comes back is then new."""
        if gone and ours.is_whole and theirs.is_whole:
            await self.changes.forget_baselines(site.id, here, there, gone)

    def memory(self, site_id: int) -> _Memory:
        """What is remembered of a site's folders."""
        return self._memories.setdefault(site_id, _Memory())
