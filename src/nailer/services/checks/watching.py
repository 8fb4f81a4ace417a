"""Pages that a job may make worse: fetched before it begins and after it has ended. What made one worse is taken back."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

import structlog

from nailer.acting import Acting, acting_as
from nailer.core.check.live import Fetched, broke
from nailer.core.jobs.states import ENDED
from nailer.core.plans.plan import Answers
from nailer.engine.tasks import Background
from nailer.errors import NailerError, NotFound
from nailer.services.editing import Editing
from nailer.services.plans import Job, Notices, PlanMaker, Plans
from nailer.store.checks.watches import Watch, WatchStore
from nailer.store.sites import Site
from nailer.store.stores import Stores

_log = structlog.get_logger()

_SECOND_LOOK_S = 1.0  # some servers read their rules anew only after a moment
_MOST_PAGES = 8


class Watching:
    def __init__(self, stores: Stores, plans: Plans, editing: Editing) -> None:
        self._watches: WatchStore = stores.watches
        self._jobs = stores.jobs
        self._sites = stores.sites
        self._grants = stores.grants
        self._live = editing.live_check
        self._saving = editing.saving
        self._take_backs = plans.take_back
        self._make: PlanMaker = plans.make
        self._notices: Notices = plans.notices
        self._looking = Background()

    async def begin(self) -> None:
        """Look at the pages of jobs that ended while Nailer was away."""
        for job_id in await self._watches.unended():
            self.job_ended(job_id)

    async def stop(self) -> None:
        """End looking; it is done when Nailer starts again."""
        await self._looking.close()

    async def watch(self, site: Site, job_id: int, addresses: Sequence[str]) -> None:
        """Watch these pages, and those of the site's settings, while a job is carried out."""
        ways = await self._saving.ways(site.id)
        pages = list(dict.fromkeys([*addresses, *ways.watched]))[:_MOST_PAGES]
        await self._watches.add(job_id, pages)

    async def of_job(self, job_id: int) -> Watch | None:
        """What is watched of a job, and how that ended; None where nothing is."""
        return await self._watches.of_job(job_id)

    async def look_before(self, job: Job, _: Site) -> None:
        """Fetch what is watched of a job that is about to begin."""
        watch = await self._watches.of_job(job.id)
        if watch is not None:
            await self._watches.before(job.id, await self._fetch(watch.addresses))

    def job_ended(self, job_id: int) -> None:
        """A job has ended: what is watched of it is looked at."""
        if self._looking.of(job_id) is None:
            self._looking.begin(self._look_after(job_id), job_id)

    async def _look_after(self, job_id: int) -> None:
        try:
            watch = await self._watches.of_job(job_id)
            if watch is None or watch.before is None or watch.back_job_id is not None:
                return
            job = await self._jobs.get(job_id)
            if job.state not in ENDED:
                return  # paused, or waiting for another runner: it is looked at once it has ended
            with acting_as(Acting(await self._grants.person(job.account_id), program="a watch")):
                await self._judge(watch, job)
        except NailerError as error:
            _log.warning("pages could not be looked at after a job", job=job_id, why=error.what)

    async def _judge(self, watch: Watch, job: Job) -> None:
        worse = await self._worse(watch)
        if not worse:
            await asyncio.sleep(_SECOND_LOOK_S)
            worse = await self._worse(watch)
        if not worse:
            await self._watches.end(job.id, worse, None)
            return
        site = await self._sites.get(job.site_id)
        try:
            back_id: int | None = await self._take_backs.take_job_back(job.account_id, job.id)
            await self._make.carry_out(back_id or 0, site, Answers())
        except NotFound:
            back_id = None  # it has changed nothing
        await self._watches.end(job.id, worse, back_id)
        lines = [
            f"A page got worse after “{job.title}”: {worse}.",
            f"Job {back_id} is taking the change back." if back_id else "",
        ]
        await self._notices.write(job.account_id, f"{site.name}: change taken back", [line for line in lines if line])

    async def _worse(self, watch: Watch) -> str:
        after = await self._fetch(watch.addresses)
        pairs = zip(watch.before or (), after, strict=True)
        return "; ".join(f"{now.address} {why}" for then, now in pairs if (why := broke(then, now)))

    async def _fetch(self, addresses: Sequence[str]) -> list[Fetched]:
        return list(await asyncio.gather(*(self._live.once(one) for one in addresses)))
