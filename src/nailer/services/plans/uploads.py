"""Files that a browser sends: each streams through a safe write, and the job counts it like any other."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator
from contextlib import aclosing
from dataclasses import dataclass, field

from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import ItemState, JobState, JobWish, ended_as
from nailer.core.plans.plan import Action
from nailer.engine.live import InFlight, LiveJob
from nailer.engine.owners import LEASE_S
from nailer.engine.runner import JobRun, Runner, RunnerParts
from nailer.engine.tasks import Background
from nailer.errors import Conflict, NailerError, NotFound
from nailer.services.files import Browse
from nailer.services.plans.arriving import Arriving
from nailer.store.jobs import Item, Job, JobStore

_GONE_AFTER_S = 60.0


@dataclass(slots=True)
class _Receiving:
    """A drop that is coming in. `awaited` are the keys of the files that have not landed, by their items; `quiet_since_s`
    is when the last file ended; `inside` how many are coming now."""

    run: JobRun
    live: LiveJob
    awaited: dict[int, str] = field(default_factory=dict)
    inside: int = 0
    quiet_since_s: float = field(default_factory=time.monotonic)


class Uploads:
    """Takes what browsers send. A page that goes away ends its job after a minute, saying what did not make it."""

    def __init__(self, tools: RunnerParts, jobs: JobStore, runner: Runner, browse: Browse, arriving: Arriving) -> None:
        self._tools = tools
        self._jobs = jobs
        self._owner = f"{runner.owner}:browser"
        self._browse = browse
        self._arriving = arriving
        self._coming: dict[int, _Receiving] = {}
        self._tasks = Background()

    async def begin(self, job_id: int) -> list[Item]:
        """Take a confirmed drop under a lease, make its folders, and return the files that are awaited."""
        job = await self._jobs.get(job_id)
        if job.kind is not JobKind.DROP:
            raise Conflict("This plan is carried out by Nailer itself.")
        await self._tools.claims.take(job_id, self._owner, lease_s=LEASE_S)
        await self._arriving.tidy()
        live = LiveJob(job.id, job.site_id, job.title, job.to_side, job.target_folder, job.tally)
        self._coming[job_id] = _Receiving(JobRun(self._tools, job, self._owner, live), live)
        self._tools.live.begin(live)
        if self._tasks.of("keeper") is None:
            self._tasks.begin(self._keep(), "keeper")
        waiting = [one async for one in self._tools.claims.all_waiting(job_id)]
        for item in [one for one in waiting if one.action is Action.MAKE_FOLDER]:
            await self._one(job, item, None)
        files = [one for one in waiting if one.action is Action.TRANSFER]
        self._coming[job_id].awaited = {one.id: self._arriving.key(job, one) for one in files}
        await self._end_earlier(job_id)
        if not files:
            await self._end(job_id)
        return files

    async def _end_earlier(self, job_id: int) -> None:
        """End drops whose page has gone and whose files all come again now: they need nobody any more."""
        keys = set(self._coming[job_id].awaited.values())
        for other, receiving in list(self._coming.items()):
            if (
                other != job_id
                and not receiving.inside
                and receiving.awaited
                and keys.issuperset(receiving.awaited.values())
            ):
                with contextlib.suppress(NailerError):  # as in `_keep`: its lease may be another's by now
                    await self._stop(other)

    async def offset(self, job_id: int, item_id: int) -> int:
        """How many bytes of a file have come in parts, in this drop or in an earlier one of the same file."""
        job, item = await self._awaited(job_id, item_id)
        return await self._arriving.offset(self._arriving.key(job, item))

    async def take_part(
        self, job_id: int, item_id: int, at: int, content: AsyncIterator[bytes], *, is_last: bool
    ) -> tuple[int, str | None]:
        """A part of a large file, which follows its first `at` bytes. Returns how many have come; after the last part also
        why the file did not land, None where it did.

        Raises Conflict where another part is awaited, or the last one leaves the file short.
        """
        job, item = await self._awaited(job_id, item_id)
        key, receiving = self._arriving.key(job, item), self._coming[job_id]
        receiving.inside += 1
        try:
            came = await self._arriving.append(key, at, item.entry.size, content)
        finally:
            receiving.inside -= 1
            receiving.quiet_since_s = time.monotonic()
        if not is_last:
            return came, None
        if came != item.entry.size:
            raise Conflict(f"Only {came} of {item.entry.size} bytes have arrived.")
        async with aclosing(self._arriving.content(key)) as whole:
            problem = await self.take(job_id, item_id, whole)
        if problem is None:
            await self._arriving.forget(key)
        return came, problem

    async def _awaited(self, job_id: int, item_id: int) -> tuple[Job, Item]:
        """A drop that comes in, and a file of it that has not landed."""
        receiving = self._coming.get(job_id)
        if receiving is None:
            raise NotFound("Nailer is no longer waiting for files of this job. Drop them again.")
        item = await self._jobs.item(job_id, item_id)
        if item.state is not ItemState.WAITING or item.action is not Action.TRANSFER:
            raise Conflict("This file has already been uploaded.")
        return receiving.run.job, item

    async def take(self, job_id: int, item_id: int, content: AsyncIterator[bytes]) -> str | None:
        """One file. Returns None where it landed, else the sentence that says why not."""
        receiving = self._coming.get(job_id)
        if receiving is None:
            raise NotFound("Nailer is no longer waiting for files of this job. Drop them again.")
        job = receiving.run.job
        item = await self._jobs.item(job_id, item_id)
        if (
            item.state is not ItemState.WAITING
            or item.action is not Action.TRANSFER
            or item_id in receiving.live.in_flight
        ):
            raise Conflict("This file has already been uploaded.")
        receiving.inside += 1
        try:
            return await self._one(job, item, content)
        finally:
            receiving.inside -= 1
            receiving.quiet_since_s = time.monotonic()
            _, waiting = await self._tools.claims.unfinished(job_id)
            if not waiting and not receiving.inside:
                await self._end(job_id)

    async def close(self) -> None:
        """Let go of every upload; what has landed stays."""
        await self._tasks.close()

    async def _one(self, job: Job, item: Item, content: AsyncIterator[bytes] | None) -> str | None:
        receiving = self._coming[job.id]
        receiving.live.in_flight[item.id] = InFlight(item.target, item.entry.size)
        try:
            async with self._tools.transferrer(job, receiving.live, receiving.run.hold) as transferrer:
                await transferrer.context.begin_parts([item])
                outcome = await transferrer.transfer(item, content)
            await receiving.run.record(item, outcome, 1, transferrer.context.part_ended(item))
        except NailerError as error:
            await receiving.run.record_failure(item, error, 1)
            return error.what
        finally:
            receiving.live.in_flight.pop(item.id, None)
        receiving.awaited.pop(item.id, None)
        self._browse.forget(job.site_id, job.to_side, item.target.parent)
        return None

    async def _end(self, job_id: int) -> None:
        if self._coming.pop(job_id, None) is None:
            return
        failed, waiting = await self._tools.claims.unfinished(job_id)
        state = ended_as(failed=failed, waiting=waiting)
        await self._tools.claims.finish(job_id, self._owner, state, None, None)
        self._tools.live.end(job_id)

    async def _keep(self) -> None:
        """Renew the leases of drops that still come; let go of those whose page has gone, or that are to be stopped."""
        while self._coming:
            await asyncio.sleep(LEASE_S / 4)
            for job_id, receiving in list(self._coming.items()):
                with contextlib.suppress(NailerError):
                    stop = await self._tools.claims.renew(job_id, self._owner, lease_s=LEASE_S) is not JobWish.GO_ON
                    quiet_s = 0.0 if receiving.inside else time.monotonic() - receiving.quiet_since_s
                    if stop:
                        await self._stop(job_id)
                    elif quiet_s > _GONE_AFTER_S:
                        self._coming.pop(job_id, None)
                        await receiving.run.end_drop()
                        self._tools.live.end(job_id)

    async def _stop(self, job_id: int) -> None:
        if self._coming.pop(job_id, None) is not None:
            await self._tools.claims.finish(job_id, self._owner, JobState.STOPPED, None, None)
            self._tools.live.end(job_id)
