"""Keeping pairs in sync: both trees are read once, a wish is tried on that reading, and runs of jobs carry it out.

A reading lies in memory under a token while a person works with it: another wish, other choices, another filter cost no
reading. Choices are remembered (`services/choices.py`), so that the next reading has them. Carrying out stores a run with a
job for each end that changes; from then on everything is in the database. Names found to be the same are written down as
level then, and not before: reading changes nothing.
"""

from __future__ import annotations

import asyncio
import time
from collections import OrderedDict
from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import replace
from datetime import UTC, datetime

import structlog

from nailer.core.compare.joint import Baseline, Compare, Joint, joint_of
from nailer.core.compare.merge import Merged, merged, side_by_side
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import names_text
from nailer.core.files.sitepath import SitePath
from nailer.core.files.text import decoded, encoded
from nailer.core.files.tree import Below, Tree
from nailer.core.files.whole import NotWhole
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import ENDED, JobState
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.sync import (
    Comparison,
    Direction,
    Doing,
    Removals,
    SyncRow,
    SyncWish,
    bars,
    choices_of,
    compared,
    decided,
    flow_of,
    proposed,
    rolled,
    same_sized,
    sync_steps,
)
from nailer.core.plans.plan import Action, PlanStep
from nailer.core.plans.room import Fit
from nailer.core.plans.sieve import Sieves
from nailer.engine.kept import KeptStore
from nailer.engine.live import LiveJobs
from nailer.engine.runner import Runner
from nailer.engine.swap import tries_renaming
from nailer.errors import (
    Conflict,
    FileMissing,
    InvalidInput,
    NailerError,
    NotFound,
    TransferError,
    WrongKind,
)
from nailer.services.files import (
    ComparedEnd,
    ContentComparer,
    GuardedFolders,
    PairEnds,
    SieveBook,
    content_hash,
    kinds_by_content,
    looked_again,
    read_tree,
    side_of,
    top_of,
)
from nailer.services.pairs.choices import Choices
from nailer.services.pairs.line_ends import unequal_in_line_ends
from nailer.services.pairs.plan import SyncPlan, empty_plan
from nailer.services.plans import PreparedFiles, Write, folder_items, missing_folders, room_at
from nailer.sides.connection import Lane
from nailer.store.changes import ChangeStore, baseline_row
from nailer.store.jobs import JobStore, NewItem, NewJob
from nailer.store.pairs import NewRun, Pair, PairStore, Run, Storing
from nailer.store.sites import Site

_log = structlog.get_logger()

_MOST_PLANS = 12
_MOST_KEPT = 2_000_000
_KEPT_S = 3600.0
_HASHED_BYTES = 500_000_000
_LOOK_EVERY_S = 0.1
_SHOWN_BYTES = 1_000_000
_TITLES = {Direction.PUBLISH: "Publishing", Direction.FETCH: "Fetching", Direction.LEVEL: "Levelling"}


class Sync:
    def __init__(
        self,
        ends: PairEnds,
        pairs: PairStore,
        jobs: JobStore,
        changes: ChangeStore,
        runner: Runner,
        live: LiveJobs,
        guards: GuardedFolders,
        sieving: SieveBook,
        kept: KeptStore,
        writing: PreparedFiles,
        contents: ContentComparer,
        choices: Choices,
        *,
        keep_largest_bytes: int,
    ) -> None:
        self._ends = ends
        self._pairs = pairs
        self._jobs = jobs
        self._changes = changes
        self._runner = runner
        self._live = live
        self._guards = guards
        self._sieving = sieving
        self._kept = kept
        self._writing = writing
        self._contents = contents
        self._choices = choices
        self._keep_largest_bytes = keep_largest_bytes
        self._plans: OrderedDict[str, SyncPlan] = OrderedDict()
        self._finishing: set[asyncio.Task[None]] = set()

    async def stop(self) -> None:
        tasks = [plan.task for plan in self._plans.values() if plan.task is not None] + list(self._finishing)
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    async def first_pair(self, site: Site) -> Pair:
        """The pair of a site's start folders; made where there is none yet."""
        return await self._pairs.add(site.id, site.start_here, site.start_there, site.start_there.shown or "/")

    # --- reading

    def begin(self, account_id: int, pair: Pair, wish: SyncWish, compare: Compare) -> SyncPlan:
        """Begin to read both trees of a pair; an earlier reading of it by the same person is let go."""
        for token, old in list(self._plans.items()):
            if (old.account_id, old.pair.id) == (account_id, pair.id) or time.monotonic() - old.begun_s > _KEPT_S:
                self._drop(token)
        while self._plans and (
            len(self._plans) >= _MOST_PLANS or sum(plan.names for plan in self._plans.values()) > _MOST_KEPT
        ):
            self._drop(next(iter(self._plans)))
        plan = empty_plan(account_id, pair, wish, compare)
        self._plans[plan.token] = plan
        plan.task = asyncio.create_task(self._read(plan))
        return plan

    async def read_now(self, account_id: int, pair: Pair, wish: SyncWish, compare: Compare) -> SyncPlan:
        """A plan of nobody's page, once both trees are read. Raises what reading raises."""
        plan = empty_plan(account_id, pair, wish, compare)
        await self._read(plan)
        if plan.problem is not None:
            raise plan.problem
        return plan

    async def of_changed(self, account_id: int, pair: Pair, here: Tree, changed: Sequence[Below]) -> SyncPlan:
        """A plan of some names that were changed here, of which only the folders they lie in are read there: what is newer
        here goes up, whatever needs a person is left."""
        plan = empty_plan(account_id, pair, SyncWish(Direction.LEVEL, Removals.KEEP), Compare.SIZE_AND_TIME)
        plan.sieves = Sieves(await self._sieving.of_pair(pair), time.time_ns())
        folders = {below[:depth] for below in changed for depth in range(len(below))}
        there: dict[Below, list[Entry]] = {}
        lacks: dict[Below, NotWhole] = {}
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
        plan.offered = proposed(rows, plan.wish)
        plan.chosen = {
            number: Doing.LEAVE
            for number, doing in enumerate(plan.offered.each)
            if doing not in (Doing.UPLOAD, Doing.STAYS)
        }
        self._decide(plan)
        plan.ready = True
        return plan

    def plan(self, token: str, account_id: int) -> SyncPlan:
        """A plan of this account. Raises NotFound."""
        plan = self._plans.get(token)
        if plan is None or plan.account_id != account_id:
            raise NotFound("This plan is not kept any more. Read both sides again.")
        return plan

    def latest(self, account_id: int, pair: Pair) -> SyncPlan | None:
        """The reading of a pair that this person works with, where there is one."""
        for plan in reversed(self._plans.values()):
            if (plan.account_id, plan.pair.id) == (account_id, pair.id):
                return plan
        return None

    def let_go(self, plan: SyncPlan) -> None:
        """Forget a reading; one that is under way is cancelled."""
        self._drop(plan.token)

    def _drop(self, token: str) -> None:
        plan = self._plans.pop(token, None)
        if plan is not None and plan.task is not None:
            plan.task.cancel()

    async def _read(self, plan: SyncPlan) -> None:
        try:
            await self._read_both(plan)
        except NailerError as error:
            plan.problem = error
        except ExceptionGroup as group:
            plan.problem = _first_of_ours(group)
        except Exception:
            _log.exception("a pair could not be read, in a way nobody foresaw", pair=plan.pair.id)
            plan.problem = NailerError("Nailer itself failed at reading this pair; its log says where.")

    async def _read_both(self, plan: SyncPlan) -> None:
        pair = plan.pair
        sieves = await self._sieving.of_pair(pair)
        plan.sieves = Sieves(sieves, time.time_ns())
        async with asyncio.TaskGroup() as tasks:
            here = tasks.create_task(self._tree(plan, SideName.HERE))
            there = tasks.create_task(self._tree(plan, SideName.THERE))
        plan.here, plan.there = here.result(), there.result()
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
            compared, plan.here, plan.there, baselines, compare=plan.compare, equal=equal, held=plan.sieves.held
        )
        plan.barred = bars(plan.here, plan.there)
        plan.hashes = await self._hashes(plan)
        if plan.pair.other_site_id is None:
            async with self._both(plan) as ends:
                plan.line_ends = await unequal_in_line_ends(*ends, plan.rows)
        await asyncio.to_thread(self._propose, plan)
        if plan.flow.up:
            await self._learn_renaming(plan)
        if plan.token in self._plans:
            await self._recall(plan)
        await self._pairs.set_read(pair.id, rolled(plan.rows))
        self._ends.redraw(pair)
        plan.took_s, plan.made_at, plan.ready = time.monotonic() - plan.begun_s, datetime.now(UTC), True

    async def _learn_renaming(self, plan: SyncPlan) -> None:
        """Whether files can take their names there without a gap: tried once a connection, on an empty file of our own."""
        async with self._ends.side(plan.pair, SideName.THERE, Lane.CARRY) as side:
            plan.renames_nothing = await tries_renaming(side, plan.pair.there) is False
        plan.in_place = (await self._ends.site(plan.pair, SideName.THERE)).in_place

    async def _look_again(self, plan: SyncPlan, baselines: Mapping[Below, Mapping[bytes, Baseline]]) -> None:
        """Ask by name for what hangs on a listing."""
        async with self._both(plan) as (near, far):
            plan.here, plan.there = (
                await looked_again(near.side, near.top, plan.here, plan.there, baselines),
                await looked_again(far.side, far.top, plan.there, plan.here, baselines),
            )

    async def _tree(self, plan: SyncPlan, end: SideName) -> Tree:
        def enter(below: Below, entry: Entry) -> bool:
            return not plan.sieves.held(below, entry)

        top = top_of(plan.pair, end)
        async with self._ends.side(plan.pair, end, Lane.CARRY) as side:
            tree = await read_tree(side, top, plan.progress[end], enter=enter)
            plan.room[end] = await room_at(side, top)
        return tree

    async def _equal(self, plan: SyncPlan) -> dict[Below, bool]:
        names = [(below, one.size) for below, one, _ in same_sized(plan.here, plan.there, plan.sieves.held)]
        plan.comparing = (0, len(names))

        def heard(done: int) -> None:
            plan.comparing = (done, len(names))

        async with self._both(plan) as (ours, theirs):
            return await self._contents.equal(ours, theirs, names, heard)

    @asynccontextmanager
    async def _both(self, plan: SyncPlan) -> AsyncIterator[tuple[ComparedEnd, ComparedEnd]]:
        """Both ends of a pair, for reading contents."""
        async with (
            self._ends.side(plan.pair, SideName.HERE, Lane.CARRY) as near,
            self._ends.side(plan.pair, SideName.THERE, Lane.CARRY) as far,
        ):
            near_site = await self._ends.site(plan.pair, SideName.HERE) if plan.pair.other_site_id else None
            far_site = await self._ends.site(plan.pair, SideName.THERE)
            yield ComparedEnd(near, plan.pair.here, near_site), ComparedEnd(far, plan.pair.there, far_site)

    async def _hashes(self, plan: SyncPlan) -> dict[Below, bytes]:
        """Contents here of what may be renamed files: reading them here costs little, a wrong renaming would cost a file."""
        if plan.pair.other_site_id is not None:
            return {}
        following = replace(plan.wish, direction=Direction.LEVEL, removals=Removals.FOLLOW)
        likely = proposed(plan.rows, following, plan.barred)
        found: dict[Below, bytes] = {}
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

    # --- deciding

    def _propose(self, plan: SyncPlan) -> None:
        plan.offered = proposed(plan.rows, plan.wish, plan.barred, hashes=plan.hashes)
        self._decide(plan)

    def _decide(self, plan: SyncPlan) -> None:
        plan.doings = decided(plan.rows, plan.offered, plan.chosen)
        plan.steps = sync_steps(plan.rows, plan.doings, plan.here, plan.there, plan.sieves.held)
        plan.flow = flow_of(plan.steps)

    async def set_wish(self, plan: SyncPlan, wish: SyncWish) -> None:
        """Another wish on the same reading; where it goes another way, the choices of that way hold."""
        turned = wish.direction is not plan.wish.direction
        if turned:
            plan.chosen.clear()
            plan.merged.clear()
        plan.wish = wish
        await asyncio.to_thread(self._propose, plan)
        if turned:
            await self._recall(plan)

    async def _recall(self, plan: SyncPlan) -> None:
        """Let remembered choices hold again."""
        await self._choices.recall(plan)
        if plan.chosen:
            await asyncio.to_thread(self._decide, plan)

    async def begin_anew(self, plan: SyncPlan) -> None:
        """Forget every choice on a pair: all rows are as proposed."""
        plan.chosen.clear()
        plan.merged.clear()
        plan.recalled = 0
        await self._choices.forget(plan)
        await asyncio.to_thread(self._decide, plan)

    async def choose(self, plan: SyncPlan, numbers: Iterable[int], doing: Doing | None) -> int:
        """Decide rows by their numbers, where they offer that; None goes back to what was proposed. Return how many. A text
        that was merged for a row is let go with any choice made after it."""
        rows = list(numbers)
        for number in rows:
            plan.merged.pop(number, None)
        return await self._choose(plan, rows, doing)

    async def _choose(self, plan: SyncPlan, numbers: Iterable[int], doing: Doing | None) -> int:
        changed = []
        for number in numbers:
            if not 0 <= number < len(plan.rows):
                continue
            if doing is None:
                if plan.chosen.pop(number, None) is not None:
                    changed.append(number)
            elif doing in choices_of(plan.rows[number], plan.offered.each[number]):
                plan.chosen[number] = doing
                changed.append(number)
        if plan.token in self._plans:
            await self._choices.remember(plan, changed)
        await asyncio.to_thread(self._decide, plan)
        return len(changed)

    # --- one row

    async def contents(self, plan: SyncPlan, number: int) -> tuple[bytes, bytes]:
        """What both ends of a row hold, there last; nothing where an end has no file. Raises InvalidInput where one is too
        large to be shown."""
        row = self._row(plan, number)
        return await self._content(plan, SideName.HERE, row.here, row), await self._content(
            plan, SideName.THERE, row.there, row
        )

    def _row(self, plan: SyncPlan, number: int) -> SyncRow:
        if not 0 <= number < len(plan.rows) or not plan.rows[number].below:
            raise NotFound("There is no such row in this plan.")
        return plan.rows[number]

    async def _content(self, plan: SyncPlan, end: SideName, entry: Entry | None, row: SyncRow) -> bytes:
        if entry is None or not entry.is_file:
            return b""
        if entry.size > _SHOWN_BYTES:
            raise InvalidInput("It is too large to be compared here.")
        async with self._ends.side(plan.pair, end) as side:
            return (await side.whole(top_of(plan.pair, end).join(row.below)))[1]

    async def merging(self, plan: SyncPlan, number: int) -> tuple[Merged, str]:
        """Both texts of a row as one, and theirs. Raises InvalidInput where one of them is no text."""
        row = self._row(plan, number)
        ours, theirs = await self.contents(plan, number)
        mine_text, their_text = decoded(ours), decoded(theirs)
        if row.here is None or row.there is None or mine_text is None or their_text is None:
            raise InvalidInput("Only two texts can be merged.")
        known = row.baseline.content_hash if row.baseline else None
        if known is not None and await self._changes.is_kept(known):
            base = decoded(b"".join([chunk async for chunk in self._kept.read(known)]))
            if base is not None:
                return merged(base[0], mine_text[0], their_text[0]), their_text[0]
        return side_by_side(mine_text[0], their_text[0]), their_text[0]

    async def merge(self, plan: SyncPlan, number: int, text: str) -> None:
        """Both ends of a row are to get this text. It is written when the plan is carried out, and not before."""
        ours, _ = await self.contents(plan, number)
        found = decoded(ours)
        if found is None:
            raise InvalidInput("What is here is no text.")
        plan.merged[number] = encoded(text, found[1])
        await self._choose(plan, [number], Doing.UPLOAD)

    async def _write_merged(self, plan: SyncPlan) -> None:
        """Put merged texts in their place at the first end, from where they go up like anything newer there."""
        wanted = {number: text for number, text in plan.merged.items() if plan.doings.each[number] is Doing.UPLOAD}
        if not wanted:
            return
        pair = plan.pair
        site = await self._ends.site(pair, SideName.HERE)
        writes = [
            Write(pair.here.join(plan.rows[number].below), text, plan.rows[number].here, "merged")
            for number, text in wanted.items()
        ]
        title = f"Merging {names_text([plan.rows[number].below[-1] for number in wanted])}"
        job_id = await self._writing.add(
            plan.account_id, site, side_of(pair, SideName.HERE), title, writes, at_once=True
        )
        async for _ in self._live.changes(at_most_every_s=_LOOK_EVERY_S, heartbeat_s=1.0):
            job = await self._jobs.get(job_id)
            if job.state in ENDED:
                break
        if job.state is not JobState.DONE:
            raise Conflict(f"What was merged could not be written here; job {job_id} says why. Nothing else was done.")
        async with self._ends.side(pair, SideName.HERE) as side:
            for number in wanted:
                row = plan.rows[number]
                plan.rows[number] = replace(row, here=await side.stat(pair.here.join(row.below)))
        plan.merged.clear()
        await asyncio.to_thread(self._decide, plan)

    # --- carrying out

    async def carry_out(
        self,
        plan: SyncPlan,
        *,
        typed: str = "",
        guarded_confirmed: bool = False,
        timer_id: int | None = None,
        told: Sequence[str] = (),
    ) -> int:
        """Carry out what was decided; return the run. Raises Conflict where something waits for a decision, Locked where a
        guarded folder would be changed, InvalidInput where the word for large removals is not typed."""
        if not plan.ready:
            raise Conflict("Both sides are not read yet.")
        if plan.doings.undecided:
            raise Conflict(f"{plan.doings.undecided} of these names wait for your decision.")
        if plan.removes_much is not None and typed.strip() != plan.word_to_type:
            raise InvalidInput(f"Type {plan.word_to_type} to say that so much may be removed.")
        await self._check_guards(plan, confirmed=guarded_confirmed)
        if plan.token in self._plans:
            await self._pairs.set_wish(plan.pair.id, plan.wish, plan.compare)
        await self._write_merged(plan)
        left = tuple(told) + tuple(_told(plan))
        run = NewRun(plan.pair.id, plan.account_id, timer_id, plan.wish, plan.compare, plan.flow, left)
        if not plan.steps.here and not plan.steps.there:
            await self._write_level(plan)
            await self._pairs.set_level(plan.pair.id)
            run_id = await self._pairs.record(run, RunState.DONE)
        else:
            there, here = await asyncio.gather(self._storing(plan, SideName.THERE), self._storing(plan, SideName.HERE))
            run_id = await self._pairs.begin(run, there, here)
            await self._write_level(plan)
            self._runner.wake()
        if plan.token in self._plans:
            await self._choices.forget(plan)
        self._drop(plan.token)
        return run_id

    async def guarded(self, plan: SyncPlan) -> list[SitePath]:
        """Guarded folders that a plan would change and that are locked."""
        touched = await self._guarded_touched(plan)
        return [folder for site, folder in touched if self._guards.is_locked(plan.account_id, site, folder)]

    async def _check_guards(self, plan: SyncPlan, *, confirmed: bool) -> None:
        for site, folder in await self._guarded_touched(plan):
            if confirmed:
                self._guards.open(plan.account_id, site, folder)
            self._guards.check(plan.account_id, site, SideName.THERE, folder)

    async def _guarded_touched(self, plan: SyncPlan) -> list[tuple[Site, SitePath]]:
        """The guarded folders of both ends that a plan would change, with their sites; what is here is guarded by nobody.
        A renaming changes the folder that it leaves, too."""
        found = []
        for end in SideName:
            if side_of(plan.pair, end) is SideName.HERE:
                continue
            site, top = await self._ends.site(plan.pair, end), top_of(plan.pair, end)
            changed = [top.join(step.target) for step in plan.steps.on(end)]
            changed += [top.join(step.source) for step in plan.steps.on(end) if step.action is Action.MOVE]
            found += [
                (site, folder) for folder in site.guarded if any(one.below(folder) is not None for one in changed)
            ]
        return found

    async def _storing(self, plan: SyncPlan, end: SideName) -> Storing | None:
        """What stores the job that changes an end; None where nothing there changes."""
        steps = plan.steps.on(end)
        if not steps:
            return None
        pair = plan.pair
        target, source = top_of(pair, end), top_of(pair, end.other)
        async with self._ends.side(pair, end) as side:
            missing = await missing_folders(side, target)
        items = [*folder_items(missing), *(self._item(step, source, target, pair, end) for step in steps)]
        site, source_site = await self._ends.site(pair, end), None
        if pair.other_site_id is not None:
            source_site = (await self._ends.site(pair, end.other)).id
        where = {SideName.THERE: "there", SideName.HERE: pair.here_word}[end]
        job = NewJob(
            plan.account_id,
            site.id,
            JobKind.SYNC,
            f"{_TITLES[plan.wish.direction]} {pair.name}, {where}",
            side_of(pair, end),
            source,
            target,
            room_bytes=plan.room.get(end),
            one_by_one=plan.fit(end)[0] is Fit.IN_ORDER,
            source_site_id=source_site,
            pair_id=pair.id,
            towards=end,
        )
        return lambda run_id, after: self._jobs.adding(
            replace(job, run_id=run_id, after_job=after), items, JobState.WAITING
        )

    def _item(self, step: PlanStep, source: SitePath, target: SitePath, pair: Pair, end: SideName) -> NewItem:
        reason = step.reason
        replaced = step.replaces
        if replaced is not None and replaced.is_file and replaced.size > self._keep_largest_bytes:
            reason = f"{reason}; too large to keep, cannot be taken back"
        # A renaming happens within one end: both its names are there.
        start = target if step.action is Action.MOVE else source
        return NewItem(
            step.action, step.verdict, reason, start.join(step.source), target.join(step.target), step.entry, replaced
        )

    async def _write_level(self, plan: SyncPlan) -> None:
        """Write down what was found to be level, and forget what neither side has."""
        pair, found = plan.pair, plan.found
        wanted = set(found.level)
        ours, theirs = _entries(plan.here, wanted), _entries(plan.there, wanted)
        rows = [
            baseline_row(
                pair.site_id,
                pair.here.join(below),
                pair.there.join(below),
                ours[below],
                theirs[below],
                None,
                other_site_id=pair.other_site_id,
            )
            for below in found.level
        ]
        await self._changes.write_baselines(rows)
        by_folder: dict[Below, list[bytes]] = {}
        for below in found.gone:
            by_folder.setdefault(below[:-1], []).append(below[-1])
        for folder, names in by_folder.items():
            here, there = pair.here.join(folder), pair.there.join(folder)
            await self._changes.forget_baselines(pair.site_id, here, there, names, other_site_id=pair.other_site_id)
            for name in names:
                await self._changes.forget_baselines_below(
                    pair.site_id, here.child(name), there.child(name), other_site_id=pair.other_site_id
                )

    # --- what became of it

    def job_ended(self, run_id: int | None) -> None:
        """A job of a run has ended: once all have, the run has."""
        if run_id is not None:
            task = asyncio.create_task(self._finish_quietly(run_id))
            self._finishing.add(task)
            task.add_done_callback(self._finishing.discard)

    async def finish_ended(self) -> None:
        """Runs whose jobs ended while nobody was there to see it."""
        for run in await self._pairs.running():
            await self.finish(run)

    async def finish(self, run: Run) -> Run:
        """Write down how a run stands by its jobs; return it as it stands. A job that is tried again lets it run again."""
        states = set((await self._jobs.of_run(run.id)).values())
        if not states:
            return run
        state = RunState.DONE
        if states & {JobState.WAITING, JobState.RUNNING, JobState.PAUSED, JobState.PLANNED}:
            state = RunState.RUNNING
        elif JobState.NEEDS_YOU in states:
            state = RunState.NEEDS_YOU
        elif JobState.STOPPED in states:
            state = RunState.STOPPED
        if state is not run.state:
            await self._pairs.set_state(run.id, state)
            if state is RunState.DONE:
                await self._pairs.set_level(run.pair_id)
            return await self._pairs.run(run.id)
        return run

    async def ended(self, run_id: int) -> Run:
        """A run once all its jobs have ended."""
        async for _ in self._live.changes(at_most_every_s=_LOOK_EVERY_S, heartbeat_s=1.0):
            run = await self.finish(await self._pairs.run(run_id))
            if run.state is not RunState.RUNNING:
                return run
        return await self._pairs.run(run_id)

    async def _finish_quietly(self, run_id: int) -> None:
        try:
            await self.finish(await self._pairs.run(run_id))
        except NailerError:
            return  # the next start looks again


def _is_folder(folders: Mapping[Below, Sequence[Entry]], below: Below) -> bool:
    return any(entry.name == below[-1] and entry.opens_as_folder for entry in folders.get(below[:-1], ()))


def _first_of_ours(group: ExceptionGroup[Exception]) -> NailerError:
    """The first of several errors at once."""
    for error in group.exceptions:
        if isinstance(error, NailerError):
            return error
    _log.error("a pair could not be read, in a way nobody foresaw", exc_info=group)
    return NailerError("Nailer itself failed at reading this pair; its log says where.")


def _entries(tree: Tree, wanted: set[Below]) -> Mapping[Below, Entry]:
    return {
        below: entry
        for folder, entries in tree.folders.items()
        for entry in entries
        if (below := (*folder, entry.name)) in wanted
    }


def _told(plan: SyncPlan) -> list[str]:
    """Sentences on what a run leaves as it is."""
    stays = sum(doing is Doing.STAYS for doing in plan.doings.each)
    left = sum(doing is Doing.LEAVE for doing in plan.doings.each)
    told = []
    if stays:
        told.append(f"{stays} name{'s' if stays > 1 else ''} stayed behind by a sieve.")
    if left:
        told.append(f"{left} name{'s were' if left > 1 else ' was'} left as {'they are' if left > 1 else 'it is'}.")
    if plan.steps.left:
        told.append(f"{len(plan.steps.left)} could not be done as wished: {plan.steps.left[0][1]}.")
    return told
