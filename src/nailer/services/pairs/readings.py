"""Reading both ends of a pair into a plan: trees, what differs, and what a wish proposes."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import aclosing, asynccontextmanager
from dataclasses import replace
from datetime import UTC, datetime

import structlog

from nailer.core.compare.joint import Baseline, Compare, Joint, joint_of
from nailer.core.files.completeness import Incomplete
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.differences import same_sized, trees_compared
from nailer.core.pairs.proposals import bars, proposed
from nailer.core.pairs.rows import Comparison, SyncRow
from nailer.core.pairs.standing import rolled
from nailer.core.pairs.wishes import Direction, Doing, Removals, SyncWish
from nailer.core.plans.sieve import Sieves
from nailer.engine.swap import tries_renaming
from nailer.engine.tasks import at_once
from nailer.errors import (
    FileMissing,
    NailerError,
    TransferError,
    WrongKind,
)
from nailer.services.files import (
    ComparedEnd,
    Files,
    content_hash,
    folded,
    kinds_by_content,
    looked_again,
    read_tree,
    top_of,
)
from nailer.services.pairs.choices import Choices
from nailer.services.pairs.line_ends import unequal_in_line_ends
from nailer.services.pairs.plan import SyncPlan, SyncWanted, empty_plan
from nailer.services.pairs.plan_store import PlanStore
from nailer.services.plans import room_at
from nailer.sides.connection import Lane
from nailer.store.changes import ChangeStore
from nailer.store.pairs import Pair, PairStore

_log = structlog.get_logger()

_HASHED_BYTES = 500_000_000


class Readings:
    """Reads pairs. A reading that a page asked for is kept in `PlanStore` until it is carried out or let go."""

    def __init__(
        self,
        plans: PlanStore,
        files: Files,
        pairs: PairStore,
        changes: ChangeStore,
        choices: Choices,
    ) -> None:
        self._plans = plans
        self._ends = files.ends
        self._pairs = pairs
        self._changes = changes
        self._sieving = files.sieves
        self._contents = files.comparer
        self._keeping = files.keeping
        self._choices = choices

    def begin(self, account_id: int, pair: Pair, wish: SyncWish, compare: Compare) -> SyncPlan:
        """Begin to read both trees of a pair; an earlier reading of it by the same person is let go."""
        plan = empty_plan(account_id, pair, wish, compare)
        self._plans.add(plan)
        self._plans.reading.begin(self._read(plan), plan.token)
        return plan

    async def read_now(self, account_id: int, pair: Pair, wish: SyncWish, compare: Compare) -> SyncPlan:
        """A plan that no page works with, once both trees are read. Raises what reading raises."""
        plan = empty_plan(account_id, pair, wish, compare)
        await self._read(plan)
        if plan.problem is not None:
            raise plan.problem
        return plan

    async def of_changed(self, account_id: int, pair: Pair, here: Tree, changed: Sequence[RelativePath]) -> SyncPlan:
        """A plan of some names that were changed here, of which only the folders they lie in are read there: what is newer
        here goes up, whatever needs a person is left."""
        plan = empty_plan(account_id, pair, SyncWish(Direction.LEVEL, Removals.KEEP), Compare.SIZE_AND_TIME)
        plan.sieves = Sieves(await self._sieving.of_pair(pair), time.time_ns())
        folders = {below[:depth] for below in changed for depth in range(len(below))}
        there: dict[RelativePath, list[Entry]] = {}
        lacks: dict[RelativePath, Incomplete] = {}
        async with self._ends.side(pair, SideName.THERE) as side:
            for folder in sorted(folders, key=len):
                if folder and folder not in there and not _is_folder(there, folder):
                    continue
                try:
                    listing = await side.list(pair.there.join(folder), careful=True)
                except (FileMissing, WrongKind):
                    continue
                there[folder] = listing.entries
                if listing.lack is not None:
                    lacks[folder] = listing.lack
            plan.room[SideName.THERE] = await room_at(side, pair.there)
        plan.here, plan.there = here, Tree(there, lacks=lacks)
        found = await self._changes.baselines(
            pair.site_id, [(pair.here.join(folder), pair.there.join(folder)) for folder in folders]
        )
        wanted = set(changed)
        rows = []
        for folder in sorted(folders):
            known = found[pair.key(folder)]
            ours = {entry.name: entry for entry in here.folders.get(folder, ())}
            theirs = {entry.name: entry for entry in there.get(folder, ())}
            for name in sorted({below[-1] for below in wanted if below[:-1] == folder}):
                below, one, other = (*folder, name), ours.get(name), theirs.get(name)
                if one is None and other is None:
                    continue
                unsure = plan.there.may_hide(below) if other is None else ""
                standing = joint_of(one, other, known.get(name), unsure=unsure)
                if standing.joint not in (Joint.SAME, Joint.NOT_READ):
                    held = plan.sieves.held(below, one, other)
                    rows.append(SyncRow(below, one, other, standing, known.get(name), held))
        plan.found = Comparison(rows, 0, [], [])
        offered = proposed(rows, plan.wish)
        left = {
            number: Doing.LEAVE for number, doing in enumerate(offered.each) if doing not in (Doing.UPLOAD, Doing.STAYS)
        }
        plan.decided = plan.worked_out(SyncWanted(plan.wish, left), offered)
        plan.ready = True
        return plan

    async def _read(self, plan: SyncPlan) -> None:
        try:
            await self._read_both(plan)
        except NailerError as error:
            plan.problem = error
        except Exception:
            _log.exception("a pair could not be read, in a way nobody foresaw", pair=plan.pair.id)
            plan.problem = NailerError(
                "Reading this pair failed because of an error in Nailer. Details are in Nailer's log."
            )

    async def _read_both(self, plan: SyncPlan) -> None:
        pair = plan.pair
        sieves = await self._sieving.of_pair(pair)
        plan.sieves = Sieves(sieves, time.time_ns())
        plan.keeps = {end: await self._keeping.of_site((await self._ends.site(pair, end)).id) for end in SideName}
        await self._read_trees(plan)
        if plan.sieves.asks_kinds and pair.other_site_id is None:
            async with self._ends.side(pair, SideName.HERE) as side:
                plan.sieves = Sieves(sieves, time.time_ns(), await kinds_by_content(side, pair.here, plan.here))
        folders = list(dict.fromkeys([*plan.here.folders, *plan.there.folders]))
        found = await self._changes.baselines(
            pair.site_id,
            [(pair.here.join(folder), pair.there.join(folder)) for folder in folders],
            other_site_id=pair.other_site_id,
        )
        baselines = {folder: known for folder in folders if (known := found[pair.key(folder)])}
        await self._look_again(plan, baselines)
        equal = await self._equal(plan) if plan.compare is Compare.CONTENT else {}
        plan.found = await asyncio.to_thread(
            trees_compared, plan.here, plan.there, baselines, compare=plan.compare, equal=equal, held=plan.sieves.held
        )
        plan.barred = bars(plan.here, plan.there)
        plan.hashes = await self._hashes(plan)
        if plan.pair.other_site_id is None:
            async with self._both(plan) as ends:
                plan.line_ends = await unequal_in_line_ends(*ends, plan.rows)
        plan.decided = await asyncio.to_thread(lambda: plan.worked_out(SyncWanted(plan.wish), plan.proposed(plan.wish)))
        if plan.flow.up:
            await self._learn_renaming(plan)
        if self._plans.holds(plan):
            remembered = await self._choices.recalled(plan)
            if remembered.chosen:
                plan.decided = await asyncio.to_thread(plan.worked_out, remembered)
        await self._pairs.set_read(pair.id, rolled(plan.rows))
        self._ends.redraw(pair)
        plan.took_s, plan.made_at, plan.ready = time.monotonic() - plan.begun_s, datetime.now(UTC), True

    async def _learn_renaming(self, plan: SyncPlan) -> None:
        """Whether files can take their names there without a gap: tried once a connection, on an empty file of our own."""
        async with self._ends.side(plan.pair, SideName.THERE, Lane.TRANSFER) as side:
            plan.renames_nothing = await tries_renaming(side, plan.pair.there) is False
        plan.in_place = (await self._ends.site(plan.pair, SideName.THERE)).in_place

    async def _look_again(self, plan: SyncPlan, baselines: Mapping[RelativePath, Mapping[bytes, Baseline]]) -> None:
        """Ask by name for what hangs on a listing."""
        async with self._both(plan) as (near, far):
            plan.here, one = await folded(near.side, near.top, plan.here, plan.there, baselines)
            plan.there, other = await folded(far.side, far.top, plan.there, plan.here, baselines)
            plan.folded = [*one, *other]
            plan.here, plan.there = (
                await looked_again(near.side, near.top, plan.here, plan.there, baselines),
                await looked_again(far.side, far.top, plan.there, plan.here, baselines),
            )

    async def _read_trees(self, plan: SyncPlan) -> None:
        async def _one(end: SideName) -> tuple[SideName, Tree]:
            return end, await self._tree(plan, end)

        async with aclosing(at_once((_one(end) for end in SideName), len(SideName))) as ended:
            trees = {end: tree async for end, tree in ended}
        plan.here, plan.there = trees[SideName.HERE], trees[SideName.THERE]

    async def _tree(self, plan: SyncPlan, end: SideName) -> Tree:
        def _enter(below: RelativePath, entry: Entry) -> bool:
            return not plan.sieves.held(below, entry)

        top = top_of(plan.pair, end)
        async with self._ends.side(plan.pair, end, Lane.TRANSFER) as side:
            tree = await read_tree(side, top, plan.progress[end], enter=_enter)
            plan.room[end] = await room_at(side, top)
        return tree

    async def _equal(self, plan: SyncPlan) -> dict[RelativePath, bool]:
        names = [(below, one.size) for below, one, _ in same_sized(plan.here, plan.there, plan.sieves.held)]
        plan.comparing = (0, len(names))

        def _heard(done: int) -> None:
            plan.comparing = (done, len(names))

        async with self._both(plan) as (ours, theirs):
            return await self._contents.equal(ours, theirs, names, _heard)

    @asynccontextmanager
    async def _both(self, plan: SyncPlan) -> AsyncIterator[tuple[ComparedEnd, ComparedEnd]]:
        """Both ends of a pair, for reading contents."""
        async with (
            self._ends.side(plan.pair, SideName.HERE, Lane.TRANSFER) as near,
            self._ends.side(plan.pair, SideName.THERE, Lane.TRANSFER) as far,
        ):
            near_site = await self._ends.site(plan.pair, SideName.HERE) if plan.pair.other_site_id else None
            far_site = await self._ends.site(plan.pair, SideName.THERE)
            yield ComparedEnd(near, plan.pair.here, near_site), ComparedEnd(far, plan.pair.there, far_site)

    async def _hashes(self, plan: SyncPlan) -> dict[RelativePath, bytes]:
        """Contents here of what may be renamed files: reading them here costs little, a wrong renaming would cost a file."""
        if plan.pair.other_site_id is not None:
            return {}
        following = replace(plan.wish, direction=Direction.LEVEL, removals=Removals.FOLLOW)
        likely = proposed(plan.rows, following, plan.barred)
        found: dict[RelativePath, bytes] = {}
        left = _HASHED_BYTES
        async with self._ends.side(plan.pair, SideName.HERE) as side:
            for number, doing in enumerate(likely.each):
                row = plan.rows[number]
                if doing is not Doing.RENAME_THERE or row.here is None or row.here.size > left:
                    continue
                left -= row.here.size
                try:
                    found[row.below] = await content_hash(side, plan.pair.here.join(row.below))
                except TransferError:
                    continue
        return found


def _is_folder(folders: Mapping[RelativePath, Sequence[Entry]], below: RelativePath) -> bool:
    return any(entry.name == below[-1] and entry.opens_as_folder for entry in folders.get(below[:-1], ()))
