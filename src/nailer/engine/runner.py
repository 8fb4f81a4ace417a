"""The runner: claims jobs under leases and carries their items, many at a time, phase after phase.

A phase ends before the next begins: folders by depth, then files by their rank of landing, removals children first.
Within a phase the order does not matter, and many items are under way at once over one connection. Items come from the
database in windows, so a job of any length needs the same memory.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import time
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Coroutine
from dataclasses import dataclass
from datetime import timedelta
from functools import partial
from itertools import count
from typing import Any, TypeVar

import structlog

from nailer.acting import Acting, acting_as, grant_on, need, person
from nailer.core.files.entry import SideName
from nailer.core.files.names import landing_rank
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.retry import next_delay
from nailer.core.jobs.states import ItemState, JobState, JobWish, check_item, ended_as
from nailer.core.people.rights import right_for
from nailer.core.plans.plan import Action
from nailer.core.words import span_text
from nailer.engine.context import JobContext
from nailer.engine.group_commit import GroupCommit, Statement
from nailer.engine.kept import KeptStore
from nailer.engine.limits import SpeedLimits, lines_of
from nailer.engine.live import InFlight, LiveJob, LiveJobs
from nailer.engine.owners import LEASE_S, LOOK_EVERY_S, MARGIN_S, RENEW_EVERY_S, has_died, new_owner
from nailer.engine.transferring import Outcome, Transferrer
from nailer.errors import (
    AnswerNeeded,
    ConnectionDropped,
    EncryptionMissing,
    HostUnreachable,
    IdentityChanged,
    IdentityUnknown,
    LeaseLost,
    LoginRefused,
    NailerError,
    NoSpaceLeft,
    NotAllowed,
    NotFound,
    RightTaken,
    SendingStopped,
    StoreUnavailable,
    TooManyConnections,
    WeakServer,
)
from nailer.sides.confined import behind, confined
from nailer.sides.connection import Lane
from nailer.sides.here import HereSide
from nailer.sides.pool import Pool
from nailer.sides.side import Side
from nailer.store.changes import ChangeStore
from nailer.store.database import utc_now, written_down
from nailer.store.jobs import Item, Job, JobStore
from nailer.store.marks import MarkStore
from nailer.store.people.grants import GrantStore
from nailer.store.running.claims import JobClaims
from nailer.store.running.parts import PartStore

T = TypeVar("T")

_log = structlog.get_logger()

_RIGHTS_EVERY_S = 1.0
_WINDOW = 500
_MOST_ATTEMPTS = 4
_MOST_LIMITED = 4
_STUCK_S = 60.0
_OUTAGE_S = 300.0  # how long a server may be away under a job
_STALLED_S = 2.0
_SETTLE_S = 5.0  # what takes longer is left to whoever clears half files

# What makes going on with the other items pointless.
_ENDS_THE_JOB = (
    RightTaken,
    HostUnreachable,
    TooManyConnections,
    LoginRefused,
    IdentityChanged,
    IdentityUnknown,
    WeakServer,
    EncryptionMissing,
    AnswerNeeded,
    NoSpaceLeft,
)


@dataclass(frozen=True, slots=True)
class RunnerParts:
    """What carrying needs, made once for the process."""

    jobs: JobStore
    claims: JobClaims
    changes: ChangeStore
    kept: KeptStore
    parts: PartStore
    group: GroupCommit
    live: LiveJobs
    pool: Pool
    here: HereSide
    spool: HereSide
    limits: SpeedLimits
    grants: GrantStore
    marks: MarkStore
    files_at_once: int
    keep_largest_bytes: int

    @contextlib.asynccontextmanager
    async def transferrer(
        self, job: Job, live: LiveJob, hold: Callable[[], Awaitable[None]]
    ) -> AsyncIterator[Transferrer]:
        """A transferrer for a job, connected where the job touches the server. `hold` is asked before each change."""
        announced = await self.changes.unconfirmed(job.id)
        needs_there = job.kind in (JobKind.TRANSFER, JobKind.SYNC) or job.to_side is SideName.THERE
        source_site: Side | None = None
        async with contextlib.AsyncExitStack() as stack:
            sides: dict[SideName, Side] = {SideName.HERE: confined(self.here, SideName.HERE, grant_on(job.site_id))}
            if needs_there:
                there = await stack.enter_async_context(self.pool.side(job.site_id, Lane.TRANSFER))
                sides[SideName.THERE] = of_theirs(job.site_id, there)
            if job.source_site_id is not None:
                there = await stack.enter_async_context(self.pool.side(job.source_site_id, Lane.TRANSFER))
                source_site = of_theirs(job.source_site_id, there)
            if job.kind in (JobKind.UNPACK, JobKind.WRITE):
                source_site = self.spool
            context = JobContext(
                source_site=source_site,
                job=job,
                sides=sides,
                changes=self.changes,
                kept=self.kept,
                parts=self.parts,
                group=self.group,
                live=live,
                keep_largest_bytes=self.keep_largest_bytes,
                limits=self.limits,
                hold=hold,
                may_resume=job.claims > 1,
                announced=announced,
                keeps=await self.marks.of_site(job.site_id),
            )
            yield Transferrer(context)


def of_theirs(site_id: int, there: Side) -> Side:
    """The side of a site as far as whoever acts reaches."""
    return confined(there, SideName.THERE, grant_on(site_id))


class Runner:
    """Runs jobs until stopped. `wake()` says that there may be something to do."""

    def __init__(self, tools: RunnerParts, *, jobs_at_once: int) -> None:
        self._tools = tools
        self._jobs_at_once = jobs_at_once
        self.owner = new_owner()
        self._claims = count(1)
        self._running: dict[int, asyncio.Task[None]] = {}
        self._woken = asyncio.Event()
        self._loop: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begin to claim and run jobs."""
        self._loop = asyncio.create_task(self._run())

    def wake(self) -> None:
        """Look for jobs now, and not only at the next interval."""
        self._woken.set()

    async def stop(self) -> None:
        """Stop claiming jobs and end those that run. Their items wait, and no file is left half written."""
        tasks = [task for task in (self._loop, *self._running.values()) if task is not None]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    async def _run(self) -> None:
        released = False
        while True:
            self._woken.clear()
            try:
                if not released:
                    await self._release_the_dead()
                    released = True
                while len(self._running) < self._jobs_at_once:
                    # Each claim has an owner of its own: a run whose lease ran out, as where this machine slept, finds that
                    # its job is another run's now, be that one of this very process.
                    owner = f"{self.owner}:{next(self._claims)}"
                    job_id = await self._tools.claims.claim(owner, lease_s=LEASE_S)
                    if job_id is None:
                        break
                    await self._end_run_of(job_id)
                    task = asyncio.create_task(self._run_job(job_id, owner))
                    self._running[job_id] = task
                    task.add_done_callback(partial(self._ended, job_id))
            except StoreUnavailable:
                _log.warning("the database does not answer; looking again soon")
            except Exception:
                # Whatever it was, jobs must go on being claimed.
                _log.exception("claiming jobs failed; looking again soon")
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(LOOK_EVERY_S):
                    await self._woken.wait()

    async def _end_run_of(self, job_id: int) -> None:
        """End an earlier run of a job that was just claimed again: two would write the same half file."""
        earlier = self._running.get(job_id)
        if earlier is not None:
            earlier.cancel()
            await asyncio.gather(earlier, return_exceptions=True)

    def _ended(self, job_id: int, task: asyncio.Task[None]) -> None:
        if self._running.get(job_id) is task:
            del self._running[job_id]
        self._woken.set()

    async def _release_the_dead(self) -> None:
        """Release the jobs of runners on this machine whose process has ended.
        The leases of other machines run out by themselves."""
        for job_id, owner in await self._tools.claims.leases():
            if has_died(owner):
                await self._tools.claims.release(job_id, owner)

    async def _of(self, job: Job) -> Acting:
        return Acting(await self._tools.grants.person(job.account_id), program="a job")

    async def _run_job(self, job_id: int, owner: str) -> None:
        job = await self._tools.jobs.get(job_id)
        run = JobRun(self._tools, job, owner)
        try:
            with acting_as(await self._of(job)):
                need(right_for(job.kind, job.to_side), job.site_id)
                await run.transfer_all()
        except (NotAllowed, NotFound) as error:
            # What its person may do was taken back since the job was made.
            await self._tools.claims.finish(job_id, owner, JobState.NEEDS_YOU, error.what, error.kind)
        except asyncio.CancelledError:
            with contextlib.suppress(StoreUnavailable):
                await asyncio.shield(self._tools.claims.release(job_id, owner))
            raise
        except StoreUnavailable:
            # The job is claimed anew once the database is back, and where that takes long its lease runs out.
            _log.warning("the database went away under a job", job=job_id)
            await written_down(lambda: self._tools.claims.release(job_id, owner))
        except Exception:
            _log.exception("a job failed in a way nobody foresaw", job=job_id)
            with contextlib.suppress(StoreUnavailable):
                trouble = (
                    "This job failed because of an error in Nailer. Details are in Nailer's log. Transferred files "
                    "are complete."
                )
                await self._tools.claims.finish(job_id, owner, JobState.NEEDS_YOU, trouble, None)
        finally:
            self._tools.live.end(job_id)


class JobRun:
    """One job from claim to end."""

    def __init__(self, tools: RunnerParts, job: Job, owner: str, live: LiveJob | None = None) -> None:
        self._tools = tools
        self.job = job
        self._owner = owner
        # What is moved changes two folders: everything read of the side is old then.
        touched = SitePath() if job.kind in (JobKind.MOVE, JobKind.WRITE) else job.target_folder
        self._live = live or LiveJob(job.id, job.site_id, job.title, job.to_side, touched, job.tally, job.run_id)
        self._held_until = utc_now() + timedelta(seconds=LEASE_S)
        self._trouble: NailerError | None = None
        self._dialling = asyncio.Lock()
        self._rights = grant_on(job.site_id)
        self._rights_seen = (tools.grants.version, time.monotonic())

    async def transfer_all(self) -> None:
        """Carry every waiting item of the job, phase after phase. Raises what ends a job."""
        if self.job.kind is JobKind.DROP:
            await self.end_drop()
            return
        self._tools.live.begin(self._live)
        keeper = asyncio.create_task(self._keep_lease())
        work = asyncio.create_task(self._transfer_items())
        wish: JobWish | None = JobWish.GO_ON
        carried: dict[int, int] = {}
        try:
            await asyncio.wait({keeper, work}, return_when=asyncio.FIRST_COMPLETED)
            if not work.done():
                wish = keeper.result()
                carried = {item_id: min(one.sent, one.size) for item_id, one in self._live.in_flight.items()}
                if self._is_stalled():
                    # Nobody waits for a line over which nothing comes: what is left there is cleared over a fresh one.
                    await self._tools.pool.cut(self.job.site_id)
                work.cancel()
            await asyncio.gather(work, return_exceptions=wish is not JobWish.GO_ON)
            if wish is None:
                # Another run has the job: its half files and its end are that run's.
                _log.warning("the lease of a job ran out under its run", job=self.job.id)
                return
            if wish is not JobWish.GO_ON or self._trouble is not None:
                # Receipts of items that were cut short may still be on their way: they come before the last count.
                await self._tools.group.submit()
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(_SETTLE_S):
                        await self._settle(keep_parts=wish is JobWish.PAUSE)
                if wish is JobWish.PAUSE:
                    await self._tools.parts.carried(carried)
            await self._finish(wish)
        finally:
            for task in (keeper, work):
                task.cancel()
            await asyncio.gather(keeper, work, return_exceptions=True)

    async def _transfer_items(self) -> None:
        first = self._read_window(after=-1)  # while the line is dialled
        try:
            async with contextlib.AsyncExitStack() as lines:
                transferrer = await self._first_transferrer(lines)
                async with (
                    contextlib.aclosing(self._waiting(transferrer, first)) as items,
                    _Together(self._most_at_once) as tasks,
                ):
                    key = None
                    async for item in items:
                        # A phase ends before the next begins.
                        if phase_of(item) != key:
                            await tasks.all_ended()
                            key = phase_of(item)
                        await tasks.begin(self._transfer_item(transferrer, item))
        except (*_ENDS_THE_JOB, ConnectionDropped) as error:
            self._trouble = error
        finally:
            first.cancel()
            await asyncio.gather(first, return_exceptions=True)

    async def _first_transferrer(self, lines: contextlib.AsyncExitStack) -> Transferrer:
        """A transferrer on a line that works. One that is cut while it is opened heals as one that is cut under an item
        does; a server that nobody reaches is for a person, at once."""

        async def _open() -> Transferrer:
            return await lines.enter_async_context(self._tools.transferrer(self.job, self._live, self.hold))

        try:
            return await _open()
        except ConnectionDropped:
            return await self._patiently(_open)

    def _read_window(self, *, after: int) -> asyncio.Task[list[Item]]:
        return asyncio.create_task(self._tools.claims.waiting_items(self.job.id, after=after, limit=_WINDOW))

    def _most_at_once(self) -> int:
        """At most so many items at once. Under a limit of speed more would gain nothing, and each holds bytes in memory."""
        if self.job.one_by_one:
            return 1
        limited = self._tools.limits.slice_bytes(*lines_of(self.job)) is not None
        return min(_MOST_LIMITED, self._tools.files_at_once) if limited else self._tools.files_at_once

    async def _waiting(self, transferrer: Transferrer, reading: asyncio.Task[list[Item]]) -> AsyncGenerator[Item, None]:
        """The items that wait, in the order of the plan; the next window is read while one is carried."""
        try:
            while window := await reading:
                reading = self._read_window(after=window[-1].position)
                await asyncio.gather(transferrer.receipts.learn_levels(window), transferrer.context.begin_parts(window))
                for item in window:
                    yield item
        finally:
            reading.cancel()
            await asyncio.gather(reading, return_exceptions=True)

    async def _transfer_item(self, transferrer: Transferrer, item: Item) -> None:
        self._live.in_flight[item.id] = InFlight(item.target, item.entry.size)
        attempts = 0
        try:
            while True:
                attempts += 1
                line = transferrer.context.sides.get(SideName.THERE)
                await self._still_may()
                try:
                    outcome = await transferrer.transfer(item)
                except (ConnectionDropped, HostUnreachable) as error:
                    self._live.in_flight[item.id].sent = 0
                    await self._reconnect(transferrer, line)
                    transferrer.context.may_resume = True
                    if attempts >= _MOST_ATTEMPTS:
                        await transferrer.context.clear_part(item)
                        await self.record_failure(item, error, attempts)
                        return
                except LeaseLost:
                    return
                except NailerError as error:
                    if isinstance(error, (*_ENDS_THE_JOB, StoreUnavailable)):
                        raise
                    await self.record_failure(item, error, attempts)
                    return
                else:
                    await self.record(item, outcome, attempts, transferrer.context.part_ended(item))
                    return
        finally:
            self._live.in_flight.pop(item.id, None)

    async def _reconnect(self, transferrer: Transferrer, failed: Side | None) -> None:
        """Put the transferrer on a line that works; the first item that lost it dials for all. An outage of minutes heals by
        itself. Raises HostUnreachable, and others, where it lasts longer."""

        async def _dial() -> None:
            fresh = await self._tools.pool.fresh(self.job.site_id, Lane.TRANSFER, behind(failed))
            if self.job.source_site_id is not None:
                # Which of the two lines was cut nobody knows here.
                old = behind(transferrer.context.source_site)
                other = await self._tools.pool.fresh(self.job.source_site_id, Lane.TRANSFER, old)
                transferrer.context.source_site = of_theirs(self.job.source_site_id, other)
            await fresh.home()  # a connection that is open still may have no line left
            transferrer.context.sides[SideName.THERE] = of_theirs(self.job.site_id, fresh)

        async with self._dialling:
            if transferrer.context.sides.get(SideName.THERE) is failed:
                await self._patiently(_dial)

    async def _patiently(self, dial: Callable[[], Awaitable[T]]) -> T:
        """Dial until a line works, for as long as an outage may last."""
        give_up_s = time.monotonic() + _OUTAGE_S
        for tries in count(1):
            wait_s = next_delay(tries, base_s=0.5, cap_s=20) * random.uniform(0.8, 1.2)  # noqa: S311
            left_s = give_up_s - time.monotonic()
            if tries > 1:
                self._live.waits(
                    f"the server does not answer; next attempt in {wait_s:.0f} s, for another {span_text(left_s)}"
                )
            await asyncio.sleep(wait_s)
            try:
                working = await dial()
            except (ConnectionDropped, HostUnreachable, TooManyConnections):
                if time.monotonic() > give_up_s:
                    raise
                await self._tools.pool.cut(self.job.site_id)
            else:
                self._live.waits("")
                return working
        raise AssertionError("the last try returns or raises")

    async def record(self, item: Item, outcome: Outcome, attempts: int, cleared: tuple[Statement, ...] = ()) -> None:
        """Write a good end: receipt, confirmed change, baseline and counts, in one transaction."""
        row = {
            "id": item.id,
            "state": check_item(item.state, outcome.state),
            "reason": outcome.reason[:255],
            "error_kind": None,
            "error_text": None,
            "server_words": None,
            "content_hash": outcome.content_hash,
            "attempts": item.attempts + attempts,
            "now": utc_now(),
        }
        await self._tools.group.submit(*outcome.statements, *cleared, ("items.end", row))
        if outcome.state is ItemState.DONE:
            self._live.done += item.count
        else:
            self._live.left += item.count
        self._tools.live.touch()

    async def record_failure(self, item: Item, error: NailerError, attempts: int) -> None:
        """Write down why an item failed."""
        row = {
            "id": item.id,
            "state": check_item(item.state, ItemState.FAILED),
            "reason": item.reason,
            "error_kind": error.kind,
            "error_text": error.what,
            "server_words": error.server_words,
            "content_hash": None,
            "attempts": item.attempts + attempts,
            "now": utc_now(),
        }
        await self._tools.group.submit(("items.end", row))
        self._live.failed += item.count
        self._tools.live.touch()

    async def _keep_lease(self) -> JobWish | None:
        """Holds on to the job, and reconnects where nothing moves; returns once it is to be stopped or paused, or None once
        it is another run's."""
        while True:
            with contextlib.suppress(StoreUnavailable):
                wish = await self._renew()
                if wish is not JobWish.GO_ON:
                    return wish
            await self._notice_stuck()
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(RENEW_EVERY_S):
                    await self._live.stop_asked.wait()

    async def _renew(self) -> JobWish | None:
        asked_at = utc_now()
        wish = await self._tools.claims.renew(self.job.id, self._owner, lease_s=LEASE_S)
        if wish is not None:
            self._held_until = asked_at + timedelta(seconds=LEASE_S)
        return wish

    async def hold(self) -> None:
        """Before a change is made: return where the job is still this run's. Raises LeaseLost.

        A process that slept longer than its lease wakes up in the middle of an item, long before it renews.
        """
        if utc_now() + timedelta(seconds=MARGIN_S) >= self._held_until and await self._renew() is None:
            raise LeaseLost("Another Nailer process is running this job.")
        await self._still_may()

    async def _still_may(self) -> None:
        """Before a file, and before a change: return where the job's person may still do it. Raises RightTaken.

        Looked up where a grant was changed in this process, and every second for what another one did.
        """
        version, read_s = self._rights_seen
        if version == self._tools.grants.version and time.monotonic() - read_s < _RIGHTS_EVERY_S:
            return
        if person() is None:
            return  # Nailer's own work
        self._rights_seen = (self._tools.grants.version, time.monotonic())
        try:
            who = await self._tools.grants.person(self.job.account_id)
        except NotFound as error:
            raise RightTaken("The person of this job can no longer sign in. Nothing more was done.") from error
        now = None if who.is_admin else who.grant(self.job.site_id)
        may = who.may(right_for(self.job.kind, self.job.to_side), self.job.site_id)
        if not may or now != self._rights:
            raise RightTaken("What this job's person may do on this site was changed. It stopped at the next file.")

    def _is_stalled(self) -> bool:
        now_s = time.monotonic()
        quiet = [one.quiet_s(now_s) for one in self._live.in_flight.values()]
        return bool(quiet) and min(quiet) > _STALLED_S

    async def _notice_stuck(self) -> None:
        """Cut a line over which nothing has come for too long: its items are then tried again on a fresh one."""
        now_s = time.monotonic()
        quiet = [one.quiet_s(now_s) for one in self._live.in_flight.values()]
        if quiet and min(quiet) > _STUCK_S:
            _log.warning("nothing moves; connecting anew", job=self.job.id, site=self.job.site_id)
            for one in self._live.in_flight.values():
                one.moved_at_s = now_s
            await self._tools.pool.cut(self.job.site_id)

    async def _settle(self, *, keep_parts: bool) -> None:
        """After items were cut short: find out what became of announced changes, and clear hidden leftovers, unless
        they are to be gone on with."""
        with contextlib.suppress(NailerError):
            async with self._tools.transferrer(self.job, self._live, self.hold) as transferrer:
                await asyncio.gather(
                    *(self._settle_one(transferrer, one) for one in list(transferrer.context.announced))
                )
                if keep_parts:
                    return
                items = await self._tools.claims.waiting_items(
                    self.job.id, after=-1, limit=2 * self._tools.files_at_once
                )
                await asyncio.gather(
                    *(transferrer.context.clear_part(item) for item in items if item.action is Action.TRANSFER)
                )

    async def _settle_one(self, transferrer: Transferrer, item_id: int) -> None:
        item = await self._tools.jobs.item(self.job.id, item_id)
        if outcome := await transferrer.settle(item):
            await self.record(item, outcome, 1, transferrer.context.part_ended(item))

    async def _finish(self, wish: JobWish) -> None:
        failed, waiting = await self._tools.claims.unfinished(self.job.id)
        state = ended_as(failed=failed, waiting=waiting, wish=wish)
        trouble = _trouble_text(self._trouble) if self._trouble else None
        kind = self._trouble.kind if self._trouble else None
        await self._tools.claims.finish(self.job.id, self._owner, state, trouble, kind)
        _log.info("job ended", job=self.job.id, state=state.value, failed=failed, waiting=waiting)

    async def end_drop(self) -> None:
        """A job that a browser was sending, and whose page has gone: say so; what has landed is whole."""
        gone = SendingStopped("The page was closed before the file was fully uploaded.")
        after = -1
        while window := await self._tools.claims.waiting_items(self.job.id, after=after):
            for item in window:
                await self.record_failure(item, gone, 0)
            after = window[-1].position
        await self._finish(JobWish.GO_ON)


class _Together:
    """Tasks under way together, at most so many. The first that raises cancels the others, and its error is raised."""

    def __init__(self, most: Callable[[], int]) -> None:
        self._most = most
        self._tasks: set[asyncio.Task[None]] = set()

    async def __aenter__(self) -> _Together:
        return self

    async def begin(self, work: Coroutine[Any, Any, None]) -> None:
        """Start this once there is room for it."""
        try:
            while len(self._tasks) >= self._most():
                await self._some_ended()
        except BaseException:
            work.close()
            raise
        self._tasks.add(asyncio.create_task(work))

    async def all_ended(self) -> None:
        """Wait until nothing is under way any more."""
        while self._tasks:
            await self._some_ended()

    async def _some_ended(self) -> None:
        done, self._tasks = await asyncio.wait(self._tasks, return_when=asyncio.FIRST_COMPLETED)
        # Of several that failed at once one is raised; the others are heard, and mean the same.
        failed = [task for task in done if task.cancelled() or task.exception() is not None]
        for task in failed[:1]:
            task.result()

    async def __aexit__(self, kind: object, *raised: object) -> None:
        try:
            if kind is None:
                await self.all_ended()
        finally:
            for task in self._tasks:
                task.cancel()
            await asyncio.gather(*self._tasks, return_exceptions=True)


def phase_of(item: Item) -> tuple[str, int]:
    """What an item may go together with: folders of one depth, files of one rank.

    Removals of files all go together; of folders, and renamings, by depth.
    """
    match item.action:
        case Action.MAKE_FOLDER | Action.REMOVE_FOLDER:
            return item.action.value, len(item.target.names)
        case Action.SET_PERMISSIONS:
            return item.action.value, len(item.target.names) if item.entry.is_folder else 0
        case Action.TRANSFER | Action.RESTORE:
            return item.action.value, landing_rank(item.target.name)
        case Action.MOVE:
            # A name in a folder that is renamed, too, goes under the folder's old name: not together with it.
            return item.action.value, len(item.source.names)
        case _:
            return item.action.value, 0


def _trouble_text(error: NailerError) -> str:
    words = f" Its answer: {error.server_words}" if error.server_words else ""
    return error.what + words
