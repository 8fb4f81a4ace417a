"""Running jobs as pages show them: the counts, the rate and the files being sent. Kept in memory."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections import deque
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.progress import Count, Rate, Tally
from nailer.core.jobs.states import JobState

_SAMPLE_EVERY_S = 1.0
_HISTORY = 300
_QUIET_S = 5.0


@dataclass(slots=True)
class InFlight:
    """A file that is being sent: its target, its size, and how many bytes have gone."""

    target: SitePath
    size: int
    sent: int = 0
    moved_at_s: float = field(default_factory=time.monotonic)

    def quiet_s(self, now_s: float) -> float:
        """Seconds since its last byte."""
        return now_s - self.moved_at_s


@dataclass(slots=True)
class LiveJob:
    """A running job. `tally` counts what ended; the files in flight add their bytes."""

    job_id: int
    site_id: int
    title: str
    to_side: SideName
    target_folder: SitePath
    base: Tally
    run_id: int | None = None
    state: JobState = JobState.RUNNING
    done: Count = Count()
    failed: Count = Count()
    left: Count = Count()
    in_flight: dict[int, InFlight] = field(default_factory=dict)
    rate: Rate = Rate()
    stop_asked: asyncio.Event = field(default_factory=asyncio.Event)
    waiting_for: str = ""
    moved_at_s: float = field(default_factory=time.monotonic)
    _unsampled: int = 0

    def waits(self, why: str) -> None:
        """Say what the job waits for; '' once it goes on."""
        self.waiting_for = why

    def time_left_s(self, now_s: float) -> float | None:
        """Seconds until it is done; None where nothing has moved of late, as no number would mean anything then."""
        if now_s - self.moved_at_s > _QUIET_S or self.waiting_for:
            return None
        return self.rate.time_left_s(self.tally.remaining_bytes)

    def sent(self, item_id: int, count: int) -> None:
        """Count bytes of an item that went, also as a sign of life."""
        self._unsampled += count
        if count:
            self.moved_at_s = time.monotonic()
        flight = self.in_flight.get(item_id)
        if flight is not None:
            flight.sent += count
            flight.moved_at_s = time.monotonic()

    def resumed(self, item_id: int, at: int) -> None:
        """So many bytes of an item need not be sent again."""
        flight = self.in_flight.get(item_id)
        if flight is not None:
            flight.sent = at

    @property
    def tally(self) -> Tally:
        """The job's counts as they stand now, with what is under way."""
        return Tally(
            planned=self.base.planned,
            done=self.base.done + self.done,
            failed=self.base.failed + self.failed,
            left=self.base.left + self.left,
            under_way_bytes=sum(min(one.sent, one.size) for one in self.in_flight.values()),
        )

    def sample(self, now_s: float) -> int:
        """Fold what was sent since the last sample into the rate; return those bytes."""
        count, self._unsampled = self._unsampled, 0
        self.rate = self.rate.after(count, now_s)
        return count


class LiveJobs:
    """All running jobs of this process. Pages wait for `changes()`; `touch()` wakes them."""

    def __init__(self) -> None:
        self.jobs: dict[int, LiveJob] = {}
        self._listeners: list[Callable[[LiveJob], None]] = []
        self.speeds: deque[tuple[int, int]] = deque(maxlen=_HISTORY)
        self._version = 0
        self._ended: deque[tuple[int, int]] = deque(maxlen=_HISTORY)
        self._changed = asyncio.Event()
        self._sampler: asyncio.Task[None] | None = None
        self._closed = False

    def when_one_ends(self, tell: Callable[[LiveJob], None]) -> None:
        """Call `tell` with each job that ends from now on, in this process. It must not block or fail."""
        self._listeners.append(tell)

    def begin(self, job: LiveJob) -> None:
        """A job runs from now on."""
        self.jobs[job.job_id] = job
        if self._sampler is None or self._sampler.done():
            self._sampler = asyncio.create_task(self._sample())
        self.touch()

    def end(self, job_id: int) -> None:
        """A job has ended; whoever listens is told."""
        job = self.jobs.pop(job_id, None)
        if job is not None:
            for tell in self._listeners:
                tell(job)
            self._ended.append((self._version + 1, job_id))
        self.touch()

    @property
    def version(self) -> int:
        """Grows with every change."""
        return self._version

    def ended_since(self, version: int) -> list[int]:
        """Jobs that ended after `version`, however short they ran."""
        return [job_id for at, job_id in self._ended if at > version]

    def touch(self) -> None:
        """Something changed that pages show."""
        self._version += 1
        self._changed.set()
        self._changed = asyncio.Event()

    async def changes(self, *, at_most_every_s: float, heartbeat_s: float) -> AsyncIterator[bool]:
        """True at once and after every change, not more often than asked; False as a heartbeat while nothing does.

        Ends when Nailer stops.
        """
        seen = -1
        while not self._closed:
            moved = self._version != seen
            seen = self._version
            yield moved
            if moved:
                await asyncio.sleep(at_most_every_s)
            if self._version == seen and not self._closed:
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(heartbeat_s):
                        await self._changed.wait()

    def end_streams(self) -> None:
        """Let every page's stream end: Nailer stops. Safe from a signal handler."""
        self._closed = True
        asyncio.get_running_loop().call_soon_threadsafe(self.touch)

    async def close(self) -> None:
        """Let every stream end."""
        self._closed = True
        self.touch()
        if self._sampler is not None:
            self._sampler.cancel()
            await asyncio.gather(self._sampler, return_exceptions=True)

    async def _sample(self) -> None:
        while self.jobs:
            await asyncio.sleep(_SAMPLE_EVERY_S)
            now_s = time.monotonic()
            up = down = 0
            for job in self.jobs.values():
                count = job.sample(now_s)
                if job.to_side is SideName.THERE:
                    up += count
                else:
                    down += count
            self.speeds.append((up, down))
            self.touch()
