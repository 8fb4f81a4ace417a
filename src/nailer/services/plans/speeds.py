"""Limits of speed, for all sites together and for each site. They can be changed while jobs run."""

from __future__ import annotations

from nailer.core.files.entry import SideName
from nailer.core.jobs.estimate import pace_of
from nailer.core.jobs.limits import ALL_SITES, Limits
from nailer.engine.limits import SpeedLimits
from nailer.store.jobs import JobStore
from nailer.store.running.limits import LimitStore
from nailer.store.sites import SiteStore


class Speeds:
    """What may be carried a second. A site is named by its number, all together by `ALL_SITES`."""

    def __init__(self, store: LimitStore, limits: SpeedLimits, sites: SiteStore, jobs: JobStore) -> None:
        self._store = store
        self._limits = limits
        self._sites = sites
        self._jobs = jobs

    async def begin(self) -> None:
        """Take over what is stored."""
        self._limits.set_all(await self._store.all())

    def of(self, site_id: int) -> Limits:
        """What is set."""
        return self._limits.of(site_id)

    def now(self, site_id: int) -> list[int | None]:
        """Bytes a second that may go up, and down, at this hour; None: as many as can."""
        return [self._limits.rate(site_id, side) for side in (SideName.THERE, SideName.HERE)]

    async def seconds(self, site_id: int, side: SideName, files: int, size: int) -> float | None:
        """How long carrying to a side will take, by what this site took before; None where that is not known yet."""
        pace = pace_of(await self._jobs.carried(site_id, side))
        limits = [rate for one in (site_id, ALL_SITES) if (rate := self._limits.rate(one, side)) is not None]
        return pace.seconds(files, size, min(limits, default=None)) if pace is not None else None

    async def set(self, site_id: int, limits: Limits) -> None:
        """Set limits; what runs holds to them at once. Raises NotFound where there is no such site."""
        if site_id != ALL_SITES:
            await self._sites.get(site_id)
        await self._store.write(site_id, limits)
        self._limits.set_all(await self._store.all())
