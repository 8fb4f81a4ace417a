"""Timers at work: plans of pairs and jobs, made and carried out at set times, without a person.

What only a person may decide is never done: names that both sides changed are not overwritten, nothing newer is replaced,
nothing is removed past the share that needs a typed word, guarded folders stay locked. Where one of these comes up a run
touches nothing and reports, or does everything else and reports, as its timer says.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections import Counter
from dataclasses import replace
from datetime import UTC, datetime

import structlog

from nailer.acting import Acting, acting_as
from nailer.core.jobs.timers import Clashes, Mail, Missed
from nailer.core.pairs.runs import RUN_WORDS, RunState
from nailer.core.pairs.steps import Flow
from nailer.core.pairs.wishes import Doing, Removals
from nailer.core.words import count_text, size_text
from nailer.engine.tasks import Often
from nailer.errors import Conflict, InvalidInput, NailerError, NotAllowed, NotFound, StoreUnavailable
from nailer.services.pairs.decisions import Deciding
from nailer.services.pairs.plan import SyncPlan
from nailer.services.pairs.readings import Readings
from nailer.services.pairs.runs import Runs
from nailer.services.pairs.timer_jobs import TimerJobs
from nailer.services.plans import Notices
from nailer.store.pairs import NewRun, Run
from nailer.store.stores import Stores
from nailer.store.timers import NewTimer, TimedJob, Timer

_log = structlog.get_logger()

_LOOK_EVERY_S = 1.0
_LEASE_S = 60.0
_RENEW_EVERY_S = 15.0
_LATE_S = 90.0


class Timers:
    def __init__(
        self,
        stores: Stores,
        readings: Readings,
        decisions: Deciding,
        runs: Runs,
        timed: TimerJobs,
        notify: Notices,
    ) -> None:
        self._timed = timed
        self._store = stores.timers
        self._pairs = stores.pairs
        self._grants = stores.grants
        self._readings = readings
        self._decisions = decisions
        self._runs = runs
        self._notify = notify
        self._often = Often("timers whose time has come", self._look, every_s=_LOOK_EVERY_S)

    async def all(self) -> list[Timer]:
        """All timers."""
        return await self._store.all()

    async def get(self, timer_id: int) -> Timer:
        """Raises NotFound."""
        return await self._store.get(timer_id)

    async def add_for_job(self, timer: NewTimer, job_id: int) -> int:
        """A timer that does again what a job did; return its number. Raises NotFound, Conflict, InvalidInput."""
        self._check(timer, asks=False)
        carries = await self._timed.what_of(job_id, timer.account_id)
        return await self._store.add(replace(timer, pair_id=None, carries=carries))

    async def add_for_pair(self, timer: NewTimer, pair_id: int) -> int:
        """A timer that brings a pair level; return its number. Raises NotFound, InvalidInput."""
        self._check(timer, asks=timer.wish.removals is Removals.ASK)
        return await self._store.add(replace(timer, pair_id=(await self._pairs.get(pair_id)).id))

    async def change(self, timer_id: int, timer: NewTimer, *, of_pair: bool) -> None:
        """Change a timer; one that is off stays off. Raises NotFound, InvalidInput."""
        self._check(timer, asks=of_pair and timer.wish.removals is Removals.ASK)
        was_on = (await self._store.get(timer_id)).on
        await self._store.write(timer_id, timer)
        await self._store.switch(await self._store.get(timer_id), on=was_on)

    async def switch(self, timer_id: int, *, on: bool) -> None:
        """Switch a timer on or off. Raises NotFound."""
        await self._store.switch(await self._store.get(timer_id), on=on)

    async def remove(self, timer_id: int) -> None:
        """Raises NotFound."""
        await self._store.remove((await self._store.get(timer_id)).id)

    async def jobs(self, timer_id: int, limit: int) -> list[TimedJob]:
        """The last runs of a timer that carries, brought up to date, newest first."""
        return [await self._timed.finish(job) for job in await self._store.jobs(timer_id, limit)]

    @staticmethod
    def _check(timer: NewTimer, *, asks: bool) -> None:
        if not timer.name:
            raise InvalidInput("Give the timer a name.")
        if asks:
            raise InvalidInput("A timer cannot ask. Choose whether it removes files.")

    def start(self) -> None:
        """Begin to look for timers whose time has come."""
        self._often.start()

    async def stop(self) -> None:
        """End looking; runs that are under way are cancelled."""
        await self._often.stop()

    async def run_now(self, timer_id: int) -> None:
        """Run a timer at once, whatever its time. Raises Conflict where it is running."""
        timer = await self._store.get(timer_id)
        if not await self._store.claim_now(timer_id, lease_s=_LEASE_S):
            raise Conflict("This timer is already running.")
        self._often.begin(self._run(timer))

    async def _look(self) -> None:
        while (claimed := await self._store.claim_due(lease_s=_LEASE_S)) is not None:
            timer, planned_at = claimed
            late_s = (datetime.now(UTC) - planned_at).total_seconds()
            if late_s > _LATE_S and timer.missed is Missed.SKIP:
                _log.info("a missed run is skipped", timer=timer.id, late_s=int(late_s))
                await self._store.release(timer.id)
            else:
                self._often.begin(self._run(timer))

    async def _run(self, timer: Timer) -> None:
        keeper = self._often.begin(self._keep_claim(timer))
        try:
            # A timer reaches as far as whoever set it does today.
            with acting_as(Acting(await self._grants.person(timer.account_id), program="a timer")):
                if timer.carries is not None:
                    await self._tell(timer, *_job_told(await self._timed.run(timer, timer.carries)))
                else:
                    await self._tell(timer, *_run_told(await self._attempt(timer)))
        except NailerError as error:
            _log.warning("a timer's run was not finished", timer=timer.id, why=error.what)
            await self._say_why_not(timer, error)
        except Exception:
            _log.exception("a timer's run failed in a way nobody foresaw", timer=timer.id)
        finally:
            keeper.cancel()
            await asyncio.gather(keeper, return_exceptions=True)
            with contextlib.suppress(StoreUnavailable):
                await asyncio.shield(self._store.release(timer.id))

    async def _attempt(self, timer: Timer) -> Run:
        """One run from reading to its end."""
        pair = await self._pairs.get(timer.pair_id or 0)
        try:
            plan = await self._readings.read_now(timer.account_id, pair, timer.wish, timer.compare)
            needs = await self._needs_you(plan)
            if needs and (timer.clashes is Clashes.STOP or _untouchable(plan)):
                return await self._record(timer, RunState.ASKED, [*needs, "Nothing was touched."])
            run_id = await self._runs.carry_out(plan, timer_id=timer.id, told=needs)
        except NailerError as error:
            words = f" Its answer: {error.server_words}" if error.server_words else ""
            return await self._record(timer, RunState.NEEDS_YOU, [error.what + words])
        return await self._runs.ended(run_id)

    async def _needs_you(self, plan: SyncPlan) -> list[str]:
        """What only a person may decide, in sentences; those names are left, as far as they can be."""
        careful = {
            number: Doing.LEAVE
            for number, doing in enumerate(plan.doings.each)
            if doing is Doing.DECIDE or plan.doings.why[number] == "replaces the newer one"
        }
        reasons = Counter(plan.rows[number].reason for number in careful)
        await self._decisions.choose(plan, careful, Doing.LEAVE)
        needs = [f"{count_text(count, 'item')}: {reason}." for reason, count in reasons.most_common(5)]
        needs += [text for text in plan.warnings if "right pair" in text]
        if plan.not_read:
            needs.append(f"{count_text(plan.not_read, 'folder')} could not be read, or only in part.")
        end = plan.removes_much
        if end is not None:
            count = plan.flow.removed_there if end == "there" else plan.flow.removed_here
            needs.append(
                f"{count_text(count, 'file')} would be removed {end}: more than 10%. Confirm this yourself on the Sync page."
            )
        for folder in await self._runs.guarded(plan):
            needs.append(f"The guarded folder {folder} would be changed.")
        return needs

    async def _record(self, timer: Timer, state: RunState, told: list[str]) -> Run:
        run = NewRun(timer.pair_id or 0, timer.account_id, timer.id, timer.wish, timer.compare, Flow(), tuple(told))
        return await self._pairs.run(await self._pairs.record(run, state))

    async def _say_why_not(self, timer: Timer, error: NailerError) -> None:
        """Store with the timer why it does nothing, as where its owner lost the site: whoever looks at it reads that."""
        told = [error.what]
        if isinstance(error, NotAllowed | NotFound):
            told.append("A timer may do what the person who set it may do.")
        with contextlib.suppress(NailerError):
            if timer.pair_id is not None:
                await self._record(timer, RunState.NEEDS_YOU, told)
            await self._tell(timer, RunState.NEEDS_YOU, True, told)

    async def _keep_claim(self, timer: Timer) -> None:
        while True:
            await asyncio.sleep(_RENEW_EVERY_S)
            with contextlib.suppress(StoreUnavailable):
                await self._store.renew(timer.id, lease_s=_LEASE_S)

    async def _tell(self, timer: Timer, state: RunState, trouble: bool, lines: list[str]) -> None:
        """Write to the timer's owner where they want that. A mail names no secret of a server."""
        if timer.mail is Mail.ALWAYS or (timer.mail is Mail.TROUBLE and trouble):
            first = f"{timer.name} ({timer.site_name}, {timer.schedule.words}): {RUN_WORDS[state]}."
            await self._notify.write(timer.account_id, f"{timer.name}: {RUN_WORDS[state]}", [first, *lines])


def _run_told(run: Run) -> tuple[RunState, bool, list[str]]:
    """What is written of a pair's run: how it stands, whether that is trouble, and lines."""
    flow = run.flow
    moved = [
        f"{count_text(flow.up, 'file')} up, {size_text(flow.up_bytes)}" if flow.up else "",
        f"{count_text(flow.down, 'file')} down, {size_text(flow.down_bytes)}" if flow.down else "",
        f"{flow.removed_there} removed there" if flow.removed_there else "",
        f"{flow.removed_here} removed here" if flow.removed_here else "",
        f"{flow.renamed} renamed" if flow.renamed else "",
    ]
    what = ", ".join(part for part in moved if part) or "nothing to do"
    return run.state, run.state is not RunState.DONE or _has_needs(run), [what, *run.told]


def _job_told(run: TimedJob) -> tuple[RunState, bool, list[str]]:
    """The same for a timer that repeats a job."""
    what = f"{count_text(run.files, 'file')}, {size_text(run.bytes)}" if run.files else "nothing to do"
    return run.state, run.state is not RunState.DONE or bool(run.told), [what, *run.told]


def _untouchable(plan: SyncPlan) -> bool:
    """True where a person must decide on the whole plan: to leave out single names does not help."""
    return plan.removes_much is not None


def _has_needs(run: Run) -> bool:
    return any(not text.endswith(("by a sieve.", "as it is.", "as they are.")) for text in run.told)
