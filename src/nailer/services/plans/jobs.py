"""What a person does with jobs: look at them, pause them, let them go on, stop them, try them again."""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import dataclass

from nailer.acting import person
from nailer.core.jobs.states import ItemState
from nailer.core.plans.plan import Action
from nailer.engine.live import LiveJob, LiveJobs
from nailer.engine.runner import Runner
from nailer.errors import NotFound
from nailer.services.plans.leftovers import Leftovers
from nailer.services.sites import Sites
from nailer.store.jobs import FailureGroup, Item, Job, JobStore, Overview
from nailer.store.running.parts import PartStore


@dataclass(frozen=True, slots=True)
class PartialFiles:
    """Half files of a job: how many there may be, and how many bytes of them need not be sent again."""

    count: int
    transferred_bytes: int


@dataclass(frozen=True, slots=True)
class Moved:
    """What has happened since a page looked last: the jobs that run, and those that have ended meanwhile. `changed` False:
    nothing has, and this is a sign of life. `version` is what to ask from the next time."""

    changed: bool
    version: int
    running: dict[int, LiveJob]
    ended: list[Job]


class Jobs:
    """The jobs of this Nailer. Each change of a person reaches the runner of the job at once."""

    def __init__(
        self, store: JobStore, parts: PartStore, live: LiveJobs, runner: Runner, leftovers: Leftovers, sites: Sites
    ) -> None:
        self._store = store
        self._parts = parts
        self._live = live
        self._runner = runner
        self._leftovers = leftovers
        self._sites = sites

    async def get(self, job_id: int) -> Job:
        """Raises NotFound."""
        return await self._store.get(job_id)

    async def overview(self, *, before: int, limit: int, wanted: str) -> Overview:
        """All jobs at one moment; of the ended ones at most `limit`, numbered below `before`, with `wanted` in them."""
        return await self._store.overview(before=before, limit=limit, wanted=wanted)

    async def ended(self, *, limit: int, wanted: str) -> list[Job]:
        """Done and stopped jobs, newest first."""
        return await self._store.ended(limit=limit, wanted=wanted)

    async def items(self, job_id: int, *, limit: int, after: int = -1, state: str = "") -> list[Item]:
        """The first items of a job in order, those behind position `after`; of all of them, or of those in one state."""
        return await self._store.items(job_id, after=after, limit=limit, state=state)

    async def item(self, job_id: int, item_id: int) -> Item:
        """Raises NotFound."""
        return await self._store.item(job_id, item_id)

    async def landed(self, job_id: int, limit: int) -> list[Item]:
        """Files that a job has put in their places."""
        done = await self._store.items(job_id, limit=limit, state=ItemState.DONE)
        return [item for item in done if item.action is Action.TRANSFER]

    async def failures(self, job_id: int) -> list[FailureGroup]:
        """What failed, like failures together."""
        return await self._store.failures(job_id)

    async def halves(self, job_id: int) -> PartialFiles:
        """The half files of a job."""
        return PartialFiles(await self._parts.count_of_job(job_id), await self._parts.transferred_of_job(job_id))

    def running(self, job_id: int) -> LiveJob | None:
        """A job as it runs now, in this process; None where it does not."""
        return self._live.jobs.get(job_id)

    @property
    def version(self) -> int:
        """Grows with every change that pages show."""
        return self._live.version

    @property
    def speeds(self) -> list[tuple[int, int]]:
        """Bytes up and down in each of the last moments."""
        return list(self._live.speeds)

    async def moves(self, since: int, *, at_most_every_s: float, heartbeat_s: float) -> AsyncIterator[Moved]:
        """What happens after version `since`, as it happens. Ends when Nailer stops."""
        seen = since if since <= self._live.version else 0
        async for changed in self._live.changes(at_most_every_s=at_most_every_s, heartbeat_s=heartbeat_s):
            if not changed:
                yield Moved(False, seen, {}, [])
                continue
            ended, seen = self._live.ended_since(seen), self._live.version
            running = {job_id: one for job_id, one in list(self._live.jobs.items()) if await self._sees(job_id)}
            yield Moved(True, seen, running, [await self._store.get(one) for one in ended if await self._sees(one)])

    async def stop(self, job_id: int) -> Job:
        """Stop a job for good. What has landed stays; half files are cleared."""
        job = await self._store.want_stop(job_id)
        self._hold_up(job_id)
        self._runner.wake()
        self._leftovers.wake()
        return job

    async def pause(self, job_id: int) -> Job:
        """Pause a job. It keeps its half files and goes on from them. Raises Conflict where it cannot."""
        job = await self._store.pause(job_id)
        self._hold_up(job_id)
        return job

    async def go_on(self, job_id: int) -> Job:
        """Let a paused job wait for a runner again. Raises Conflict."""
        job = await self._store.go_on(job_id)
        self._runner.wake()
        return job

    async def move_up(self, job_id: int) -> Job:
        """Let a waiting job be the next that is taken. Raises Conflict."""
        return await self._store.move_up(job_id)

    async def leave_out(self, job_id: int) -> Job:
        """Leave out what failed or waits, so that the job ends. Raises Conflict."""
        job = await self._store.leave_out(job_id)
        self._leftovers.wake()
        return job

    async def again(self, job_id: int) -> Job:
        """Try once more what failed. A person wants it, so a sign-in that was refused is tried again, too."""
        job = await self._store.again(job_id)
        self._sites.connector.forget_refusal(job.site_id)
        self._runner.wake()
        return job

    async def in_place(self, job_id: int) -> Job:
        """Overwrite in place on the job's site from now on, and try what failed once more."""
        job = await self._store.get(job_id)
        await self._sites.book.allow_in_place(job.site_id)
        job = await self._store.again(job_id)
        self._runner.wake()
        return job

    async def discard(self, job_id: int) -> None:
        """Forget a plan that was read and not wanted."""
        await self._store.discard(job_id)

    async def _sees(self, job_id: int) -> bool:
        """False for a job that whoever looks has nothing to do with."""
        who = person()
        if who is None or who.is_admin:
            return True
        try:
            await self._store.get(job_id)
        except NotFound:
            return False
        return True

    def _hold_up(self, job_id: int) -> None:
        live = self._live.jobs.get(job_id)
        if live is not None:
            live.stop_asked.set()
