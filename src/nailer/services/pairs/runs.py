"""Runs: a plan carried out by at most two jobs, and what became of them."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import replace

from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import JobState
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Doing
from nailer.core.plans.plan import Action, PlanStep
from nailer.core.plans.room import Fit
from nailer.core.words import count_text
from nailer.engine.live import LiveJobs
from nailer.engine.runner import Runner
from nailer.engine.tasks import Background
from nailer.errors import (
    Conflict,
    InvalidInput,
    NailerError,
)
from nailer.services.files import (
    GuardedFolders,
    PairEnds,
    side_of,
    top_of,
)
from nailer.services.pairs.choices import Choices
from nailer.services.pairs.plan import SyncPlan
from nailer.services.pairs.plan_store import PlanStore
from nailer.services.pairs.rows import Rows
from nailer.services.plans import folder_items, missing_folders
from nailer.store.changes import ChangeStore, baseline_row
from nailer.store.database import written_down
from nailer.store.jobs import JobStore, NewItem, NewJob
from nailer.store.pairs import NewRun, Pair, PairStore, Run, Storing
from nailer.store.sites import Site

_LOOK_EVERY_S = 0.1
_TITLES = {Direction.PUBLISH: "Publishing", Direction.FETCH: "Fetching", Direction.LEVEL: "Levelling"}


class Runs:
    """Carries plans out and says how their runs stand."""

    def __init__(
        self,
        plans: PlanStore,
        rows: Rows,
        ends: PairEnds,
        pairs: PairStore,
        jobs: JobStore,
        changes: ChangeStore,
        runner: Runner,
        live: LiveJobs,
        guards: GuardedFolders,
        choices: Choices,
        *,
        keep_largest_bytes: int,
    ) -> None:
        self._plans = plans
        self._rows = rows
        self._ends = ends
        self._pairs = pairs
        self._jobs = jobs
        self._changes = changes
        self._runner = runner
        self._live = live
        self._guards = guards
        self._choices = choices
        self._keep_largest_bytes = keep_largest_bytes
        self._finishing = Background()

    async def stop(self) -> None:
        """End what still writes down how runs stand; the next start looks again."""
        await self._finishing.close()

    async def carry_out(
        self,
        plan: SyncPlan,
        *,
        typed: str = "",
        guarded_confirmed: bool = False,
        number: int | None = None,
        timer_id: int | None = None,
        told: Sequence[str] = (),
    ) -> int:
        """Carry out what was decided; return the run. `number` is that of the decision that a person saw. Raises Conflict
        where another one was made since, or something waits for a decision, Locked where a guarded folder would be changed,
        InvalidInput where the word for large removals is not typed."""
        if not plan.ready:
            raise Conflict("Read both sides first.")
        async with plan.deciding:
            if plan.is_carried_out:
                raise Conflict("This plan is already being carried out.")
            if number is not None and number != plan.decided.number:
                raise Conflict("The plan has changed since this page showed it. Read it again, then carry it out.")
            plan.is_carried_out = True
            try:
                return await self._carried_out(plan, typed, guarded_confirmed, timer_id, told)
            except BaseException:
                plan.is_carried_out = False
                raise

    async def _carried_out(
        self, plan: SyncPlan, typed: str, guarded_confirmed: bool, timer_id: int | None, told: Sequence[str]
    ) -> int:
        if plan.doings.undecided:
            raise Conflict(f"First decide about {plan.doings.undecided} of these files.")
        if plan.removes_much is not None and typed.strip() != plan.word_to_type:
            raise InvalidInput(f"Type {plan.word_to_type} to confirm that so many files may be removed.")
        await self._check_guards(plan, confirmed=guarded_confirmed)
        if self._plans.holds(plan):
            await self._pairs.set_wish(plan.pair.id, plan.wish, plan.compare)
        await self._rows.write_merged(plan)
        left = tuple(told) + tuple(_told(plan))
        run = NewRun(plan.pair.id, plan.account_id, timer_id, plan.wish, plan.compare, plan.flow, left, plan.not_read)
        if not plan.steps.here and not plan.steps.there:
            await self._write_level(plan)
            if not plan.not_read:
                await self._pairs.set_level(plan.pair.id)
            run_id = await self._pairs.record(run, RunState.DONE)
        else:
            there, here = await asyncio.gather(self._storing(plan, SideName.THERE), self._storing(plan, SideName.HERE))
            run_id = await self._pairs.begin(run, there, here)
            await self._write_level(plan)
            self._runner.wake()
        if self._plans.holds(plan):
            await self._choices.forget(plan)
        self._plans.drop(plan.token)
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
        by_folder: dict[RelativePath, list[bytes]] = {}
        for below in found.gone:
            by_folder.setdefault(below[:-1], []).append(below[-1])
        for folder, names in by_folder.items():
            here, there = pair.here.join(folder), pair.there.join(folder)
            await self._changes.forget_baselines(pair.site_id, here, there, names, other_site_id=pair.other_site_id)
            for name in names:
                await self._changes.forget_baselines_below(
                    pair.site_id, here.child(name), there.child(name), other_site_id=pair.other_site_id
                )

    def job_ended(self, run_id: int | None) -> None:
        """A job of a run has ended: once all have, the run has."""
        if run_id is not None:
            self._finishing.begin(self._finish_quietly(run_id))

    async def finish_ended(self) -> None:
        """Finish the runs whose jobs ended while Nailer was stopped."""
        for run in await self._pairs.running():
            await self.finish(run)

    async def finish(self, run: Run) -> Run:
        """Write down how a run stands by its jobs; return it as it stands.
        A run goes on where one of its jobs is tried again."""
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
            if state is RunState.DONE and not run.not_read:
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
        async def _finish() -> None:
            await self.finish(await self._pairs.run(run_id))

        try:
            await written_down(_finish)
        except NailerError:
            return  # its site or its pair was removed


def _entries(tree: Tree, wanted: set[RelativePath]) -> Mapping[RelativePath, Entry]:
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
        told.append(f"{count_text(stays, 'item')} left behind by a sieve.")
    if left:
        told.append(f"{left} name{'s were' if left > 1 else ' was'} left as {'they are' if left > 1 else 'it is'}.")
    if plan.not_read:
        count = plan.not_read
        some = f"{count} folders were" if count > 1 else "One folder was"
        told.append(f"{some} not read, or incomplete. Files in them were not compared or changed.")
    if plan.steps.left:
        told.append(f"{len(plan.steps.left)} could not be done as planned: {plan.steps.left[0][1]}.")
    return told
