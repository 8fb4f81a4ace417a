"""Jobs that a timer makes: picked names are carried at set times without a person.

The plan is made anew each time, as if somebody had picked the names then. What is newer where it would land, and what both
sides changed, is never overwritten; a guarded folder stays locked; nothing begins that has no room.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace

from nailer.core.compare.joint import Joint, joint_of
from nailer.core.files.entry import SideName
from nailer.core.files.names import names_text
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.progress import Count
from nailer.core.jobs.states import JobState
from nailer.core.jobs.timers import Clashes
from nailer.core.pairs.runs import RunState
from nailer.core.plans.plan import Answers, Verdict
from nailer.core.plans.room import Fit
from nailer.core.words import count_text, size_text
from nailer.engine.live import LiveJobs
from nailer.errors import Conflict, NailerError, NotFound
from nailer.services.plans import PlanMaker, PlanReader, PlanToRead
from nailer.store.changes import ChangeStore, pair_key
from nailer.store.jobs import Item, Job, JobStore
from nailer.store.sites import Site, SiteStore
from nailer.store.timers import NOTHING, Carry, TimedJob, Timer, TimerStore

_LOOK_EVERY_S = 0.5
# A plan that was never carried out is one that something stopped.
_STATES = {
    JobState.PLANNED: RunState.STOPPED,
    JobState.DONE: RunState.DONE,
    JobState.STOPPED: RunState.STOPPED,
    JobState.NEEDS_YOU: RunState.NEEDS_YOU,
}
_MEETS = (Verdict.REPLACES, Verdict.REPLACES_NEWER, Verdict.BOTH_CHANGED)
_NEWER = "newer at the destination"
_BOTH = "changed on both sides since the last sync"


class TimerJobs:
    def __init__(
        self,
        store: TimerStore,
        sites: SiteStore,
        jobs: JobStore,
        changes: ChangeStore,
        planning: PlanMaker,
        reader: PlanReader,
        live: LiveJobs,
    ) -> None:
        self._live = live
        self._store = store
        self._sites = sites
        self._jobs = jobs
        self._changes = changes
        self._planning = planning
        self._reader = reader

    async def what_of(self, job_id: int, account_id: int) -> Carry:
        """What a job carried, or a plan would, as a timer keeps it. Raises NotFound, Conflict."""
        job = await self._jobs.get(job_id)
        if job.account_id != account_id:
            raise NotFound("This job belongs to someone else.")
        if job.kind is not JobKind.TRANSFER:
            raise Conflict("Only uploads and downloads can be carried out at set times.")
        names = await self._tops(job_id, job.source_folder)
        if not names:
            raise Conflict("This job transferred no files, so there is nothing to repeat.")
        return Carry(job.site_id, job.to_side, job.source_folder, job.target_folder, tuple(names))

    async def run(self, timer: Timer, carries: Carry) -> TimedJob:
        """One run, from the plan to the end of its job. Every failure is stored with the run."""
        last = await self._store.jobs(timer.id, 1)
        if last and (await self.finish(last[0])).state is RunState.RUNNING:
            return last[0]
        try:
            begun = await self._begin(timer, carries)
        except NailerError as error:
            words = f" Its answer: {error.server_words}" if error.server_words else ""
            return await self._record(timer, RunState.NEEDS_YOU, [error.what + words])
        async for _ in self._live.changes(at_most_every_s=_LOOK_EVERY_S, heartbeat_s=1.0):
            begun = await self.finish(begun)
            if begun.state is not RunState.RUNNING:
                break
        return begun

    async def finish(self, run: TimedJob) -> TimedJob:
        """A run as it stands by its job; a job that is tried again lets it run again."""
        if run.job_id is None:
            return run
        try:
            job = await self._jobs.get(run.job_id)
            state, ended_at = _STATES.get(job.state, RunState.RUNNING), job.ended_at
        except NotFound:
            state, ended_at = RunState.STOPPED, run.ended_at
        if state is run.state:
            return run
        await self._store.set_job_state(run.id, state)
        return replace(run, state=state, ended_at=ended_at)

    async def _begin(self, timer: Timer, carries: Carry) -> TimedJob:
        site = await self._sites.get(carries.site_id)
        job_id = await self._planning.transfer(
            timer.account_id, site, carries.to_side, carries.source, carries.target, carries.names
        )
        plan = await self._reader.read(job_id, site, limit=1)
        careful, told = await self._doubtful(site, plan.job)
        if gone := set(carries.names) - set(await self._tops(job_id, carries.source)):
            told.append(f"No longer exists: {names_text(sorted(gone))}.")
        bars = _bars(plan)
        if bars or (careful and timer.clashes is Clashes.STOP):
            await self._jobs.discard(job_id)
            return await self._record(timer, RunState.ASKED, [*bars, *told, "Nothing was touched."])
        await self._jobs.leave_out_of_plan(job_id, careful)
        found = (await self._reader.read(job_id, site, limit=1)).summary
        if not found.acts and not found.folders:
            await self._jobs.discard(job_id)
            return await self._record(timer, RunState.ASKED if careful else RunState.DONE, told)
        # Written down first: whatever ends Nailer now, no second job begins beside one that nobody knows of.
        count = Count(found.acts, found.bytes_to_transfer)
        run = await self._record(timer, RunState.RUNNING, told, job_id=job_id, count=count)
        await self._planning.carry_out(job_id, site, Answers())
        return run

    async def _doubtful(self, site: Site, job: Job) -> tuple[list[SitePath], list[str]]:
        """The items that only a person may replace, with a sentence on each."""
        found: dict[str, list[SitePath]] = defaultdict(list)
        async for window in self._jobs.all_items(job.id):
            met = [one for one in window if one.verdict in _MEETS]
            joints = await self._joints(site, job.to_side, met)
            newer = Joint.NEWER_THERE if job.to_side is SideName.THERE else Joint.NEWER_HERE
            for one in met:
                # Times may say otherwise: what was put back by hand is older, and changed all the same.
                joint = joints.get(one.target)
                if joint is Joint.BOTH_CHANGED:
                    found[_BOTH].append(one.target)
                elif joint is newer or one.verdict is Verdict.REPLACES_NEWER:
                    found[_NEWER].append(one.target)
        told = [f"{count_text(len(paths), 'item')}: {why}, {_named(paths)}." for why, paths in found.items()]
        return [path for paths in found.values() for path in paths], told

    async def _joints(self, site: Site, to_side: SideName, items: list[Item]) -> dict[SitePath, Joint]:
        """How the two ends of items stand, by their target, where the baseline knows them."""
        up = to_side is SideName.THERE
        folders = [(one.source.parent, one.target.parent) for one in items]
        pairs = [pair if up else pair[::-1] for pair in folders]
        baselines = await self._changes.baselines(site.id, dict.fromkeys(pairs))
        found = {}
        for item, pair in zip(items, pairs, strict=True):
            here, there = (item.entry, item.seen) if up else (item.seen, item.entry)
            baseline = baselines[pair_key(*pair)].get(item.target.name)
            if baseline is not None:
                found[item.target] = joint_of(here, there, baseline).joint
        return found

    async def _tops(self, job_id: int, source: SitePath) -> list[bytes]:
        """The picked names of a plan that were there."""
        names: dict[bytes, None] = {}
        async for window in self._jobs.all_items(job_id):
            names |= {below[0]: None for item in window if (below := item.source.below(source))}
        return list(names)

    async def _record(
        self, timer: Timer, state: RunState, told: list[str], *, job_id: int | None = None, count: Count = NOTHING
    ) -> TimedJob:
        await self._store.add_job(timer.id, state, told, job_id=job_id, count=count)
        return (await self._store.jobs(timer.id, 1))[0]


def _bars(plan: PlanToRead) -> list[str]:
    """The reasons why a plan cannot be carried out without a person."""
    bars = [f"The guarded folder {folder} would be changed." for folder in plan.guarded]
    if plan.fit is Fit.SHORT and plan.job.room_bytes is not None:
        bars.append(f"Not enough space: {size_text(plan.need.short_by(plan.job.room_bytes))} more needed.")
    return bars


def _named(paths: list[SitePath]) -> str:
    return ", ".join(str(path) for path in paths[:3]) + (f" and {len(paths) - 3} more" if len(paths) > 3 else "")
