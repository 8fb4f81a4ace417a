"""The room in an account whose server does not say it: the size of the package, which a person gave, less what lies in it.

What lies there is counted once in a while, by reading every folder of the account; links are not followed, so that
nothing counts twice. File systems of shared machines tell of the machine, not of the account: the smaller figure holds.
"""

from __future__ import annotations

import asyncio
import time
from contextlib import aclosing
from dataclasses import dataclass, replace

from nailer.core.files.entry import SideName
from nailer.core.plans.room import Fit
from nailer.services.files import Browse
from nailer.services.plans.read import PlanReader, PlanToRead
from nailer.sides.connection import Lane
from nailer.sides.side import walk
from nailer.store.jobs import Job, JobStore
from nailer.store.sites import Site

_KEPT_S = 60.0
_LONGEST_S = 60.0


@dataclass(frozen=True, slots=True)
class Used:
    """What lies in an account: bytes, names, and whether all of it could be read."""

    size: int
    names: int
    complete: bool


@dataclass(frozen=True, slots=True)
class InPackage:
    """A plan beside the room in its account's package."""

    plan: PlanToRead
    used: Used
    package_bytes: int


class AccountRoom:
    def __init__(self, browse: Browse, jobs: JobStore, reader: PlanReader) -> None:
        self._browse = browse
        self._jobs = jobs
        self._reader = reader
        self._used: dict[int, tuple[float, Used]] = {}

    @staticmethod
    def reckons(site: Site, job: Job) -> bool:
        """True where the room for a plan is to be counted: it goes there, and the account's own server does not say."""
        says = site.protocol.traits.accounts_room and job.room_bytes is not None
        return site.package_bytes is not None and job.to_side is SideName.THERE and not says

    async def reckon(self, site: Site, job: Job) -> InPackage:
        """Count what lies in the account, and store the room with the plan. Raises TransferError."""
        package = site.package_bytes or 0
        used = await self._count(site)
        left = max(0, package - used.size)
        room = left if job.room_bytes is None else min(left, job.room_bytes)
        plan = await self._reader.read(job.id, site, limit=1)
        one_by_one = plan.need.fit(room) is Fit.IN_ORDER or job.one_by_one
        await self._jobs.set_room(job.id, room, one_by_one=one_by_one)
        now = replace(plan, job=replace(plan.job, room_bytes=room, one_by_one=one_by_one))
        return InPackage(now, used, package)

    async def _count(self, site: Site) -> Used:
        at_s, used = self._used.get(site.id, (0.0, Used(0, 0, complete=False)))
        if used.complete and time.monotonic() - at_s < _KEPT_S:
            return used
        size = names = 0
        whole = True
        try:
            async with (
                asyncio.timeout(_LONGEST_S),
                self._browse.side(site, SideName.THERE, Lane.TRANSFER) as side,
                aclosing(walk(side, await side.home())) as readings,
            ):
                async for reading in readings:
                    whole = whole and not reading.doubt
                    names += len(reading.entries)
                    size += sum(one.size for one in reading.entries if one.is_file)
        except TimeoutError:
            whole = False
        used = Used(size, names, whole)
        self._used[site.id] = (time.monotonic(), used)
        return used
