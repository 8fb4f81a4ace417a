"""Holding to limits of speed: bytes are paid for before they go, jobs in turn, for one site and for all together."""

from __future__ import annotations

import asyncio
import contextlib
from collections import deque
from collections.abc import Callable, Mapping

from nailer.core.files.entry import SideName
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.limits import ALL_SITES, Limits
from nailer.store.jobs import Job

# What may pass at once after a pause; small beside the ten seconds over which a limit is to hold.
_BURST_S = 0.2
# What is paid for at once. A site's share is larger than that of all sites together: while it waits there for another's
# to pass, its own allowance must not lie idle.
_SLICE_S = 0.05
_SITE_SLICE_S = 0.1
_LEAST_SLICE = 512
_LOOK_AGAIN_S = 1.0


# A site, and the direction in which bytes pass to or from it.
Line = tuple[int, SideName]


def lines_of(job: Job) -> tuple[Line, ...]:
    """The lines that each byte of a job takes: from one site to another it comes down first, as it does where a server's
    files are copied through Nailer; what stays on this machine takes none."""
    if job.to_side is SideName.HERE:
        return ((job.site_id, SideName.HERE),) if job.kind in (JobKind.TRANSFER, JobKind.SYNC) else ()
    source = job.source_site_id if job.source_site_id is not None else job.site_id
    comes_down = job.source_site_id is not None or job.kind is JobKind.COPY
    up = (job.site_id, SideName.THERE)
    return ((source, SideName.HERE), up) if comes_down else (up,)


class _Pace:
    """One limit in one direction. Of those that wait the job that got least is served next, so that none starves; who
    comes late gets no more than a moment's worth of what it missed."""

    def __init__(self, rate: Callable[[], int | None]) -> None:
        self._rate = rate
        self._waiting: dict[int, deque[tuple[int, asyncio.Future[None]]]] = {}
        self._got: dict[int, int] = {}
        self._changed = asyncio.Event()
        self._pump: asyncio.Task[None] | None = None
        self._ready = 0.0
        self._at_s = 0.0

    @property
    def rate(self) -> int | None:
        """Bytes a second that this direction may carry now; None for no limit."""
        return self._rate()

    def wake(self) -> None:
        """Look at the limit again: it was changed."""
        self._changed.set()

    async def pay(self, job_id: int, count: int) -> None:
        """Wait until so many bytes of a job may go."""
        if self.rate is None and not self._waiting:
            return
        done: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        if job_id not in self._waiting:
            others = [self._got[one] for one in self._waiting]
            missed = round((self.rate or 0) * _BURST_S)
            self._got[job_id] = max(self._got.get(job_id, 0), min(others, default=missed) - missed)
        self._waiting.setdefault(job_id, deque()).append((count, done))
        if self._pump is None or self._pump.done():
            self._pump = asyncio.create_task(self._serve())
        await done

    async def close(self) -> None:
        """End the pump; whoever waits goes on."""
        if self._pump is not None:
            self._pump.cancel()
            await asyncio.gather(self._pump, return_exceptions=True)

    async def _serve(self) -> None:
        while self._waiting:
            job_id = min(self._waiting, key=lambda one: self._got[one])
            count, done = self._waiting[job_id].popleft()
            if not self._waiting[job_id]:
                del self._waiting[job_id]
            if done.cancelled():
                continue
            await self._afford(count)
            if not done.done():
                done.set_result(None)
                self._got[job_id] += count
        self._got = {}

    async def _afford(self, count: int) -> None:
        """Return once `count` bytes may pass, under whatever the limit is by then."""
        loop = asyncio.get_running_loop()
        while (rate := self.rate) is not None:
            now_s = loop.time()
            self._ready = min(self._ready + (now_s - self._at_s) * rate, max(count, rate * _BURST_S))
            self._at_s = now_s
            # A byte short is close enough: the wait for it would be too small for the clock.
            if self._ready >= count - 1:
                self._ready -= count
                return
            self._changed.clear()
            wait_s = min((count - self._ready) / rate, _LOOK_AGAIN_S)
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(wait_s):
                    await self._changed.wait()


class SpeedLimits:
    """All limits that are set. `set_all` may be called while jobs run; what runs holds to the new ones at once."""

    def __init__(self, minute_of_day: Callable[[], int]) -> None:
        self._minute = minute_of_day
        self._limits: dict[int, Limits] = {}
        self._paces: dict[tuple[int, bool], _Pace] = {}

    def set_all(self, limits: Mapping[int, Limits]) -> None:
        """Take over limits of all sites, by number; those that wait notice at once."""
        self._limits = dict(limits)
        for pace in self._paces.values():
            pace.wake()

    def of(self, site_id: int) -> Limits:
        """What is set for a site, or for all together."""
        return self._limits.get(site_id, Limits())

    def slice_bytes(self, *lines: Line) -> int | None:
        """How many bytes to pay for at once where a limit holds now; None where there is none."""
        if not self._limits:
            return None  # as for most, and this is asked for each block
        rates = [
            rate
            for site_id, to_side in lines
            for rate in ((self.rate(ALL_SITES, to_side), _SLICE_S), (self.rate(site_id, to_side), _SITE_SLICE_S))
        ]
        slices = [round(rate * slice_s) for rate, slice_s in rates if rate is not None]
        return max(_LEAST_SLICE, min(slices)) if slices else None

    def rate(self, site_id: int, to_side: SideName) -> int | None:
        """Bytes a second that a site (or all of them) may take now in the direction of a side."""
        limit = self.of(site_id).at(self._minute())
        return limit.up if to_side is SideName.THERE else limit.down

    async def pay(self, job_id: int, count: int, *lines: Line) -> None:
        """Return once `count` bytes of a job may pass over all of these lines."""
        if not self._limits:
            return
        paces = {
            (scope, to_side) for site_id, to_side in lines for scope in (site_id, ALL_SITES) if scope in self._limits
        }
        if paces:
            await asyncio.gather(*(self._pace(*one).pay(job_id, count) for one in paces))

    async def close(self) -> None:
        """Let whoever waits go on."""
        for pace in self._paces.values():
            await pace.close()

    def _pace(self, scope: int, to_side: SideName) -> _Pace:
        key = (scope, to_side is SideName.THERE)
        if key not in self._paces:
            self._paces[key] = _Pace(lambda: self.rate(scope, to_side))
        return self._paces[key]
