"""Joins everything: settings, stores, engine and the wings of services become one running Nailer."""

from __future__ import annotations

import asyncio
import contextlib
import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime

from argon2 import PasswordHasher

from nailer.acting import Acting
from nailer.core.people.rights import Person
from nailer.core.words import count_text
from nailer.engine.engine import Carrying, Engine
from nailer.engine.live import LiveJob
from nailer.errors import NotFound, StoreUnavailable
from nailer.private import own_folder
from nailer.seal import Seal
from nailer.services.checks import Checks, Reaching
from nailer.services.editing import Editing
from nailer.services.files import Files
from nailer.services.packages import Packages
from nailer.services.pairs import Pairs
from nailer.services.people import Did, Lasting, People
from nailer.services.plans import Archives, Arriving, Incoming, Plans, Post
from nailer.services.sites import Sites
from nailer.settings import Settings
from nailer.sides.here import HereSide
from nailer.store.database import Database
from nailer.store.stores import Stores

_THREADS = 32


@dataclass(frozen=True, slots=True)
class Nailer:
    """A running Nailer: the doors of its wings, and below them engine and stores. Made by `join`, started by `start`, ended
    by `stop`. Pages use the doors; `engine` and `stores` are for whoever starts, stops or tests it."""

    settings: Settings
    stores: Stores
    engine: Engine
    people: People
    sites: Sites
    files: Files
    plans: Plans
    editing: Editing
    pairs: Pairs
    checks: Checks
    packages: Packages

    async def start(self) -> None:
        """Bring the database up to date and begin what runs by itself: jobs, timers, watching, clearing."""
        # Python's own pool has six threads on a small machine: files and database would wait for each other.
        asyncio.get_running_loop().set_default_executor(
            ThreadPoolExecutor(_THREADS, thread_name_prefix="asyncio_nailer")
        )
        await asyncio.to_thread(self.stores.database.migrate)
        await self.stores.jobs.forget_old_plans()
        await asyncio.to_thread(self.plans.archives.clear_old)
        await self.stores.sites.forget_fleeting()
        await self.stores.drafts.forget_read()
        await self.people.log.begin()
        await self.sites.connector.begin()
        await self.plans.speeds.begin()
        self.engine.runner.start()
        self.plans.kept.start()
        self.plans.leftovers.start()
        self.editing.own.start()
        await self.files.sieves.begin()
        await self.pairs.runs.finish_ended()
        self.pairs.timers.start()
        self.pairs.not_sent.start()
        self.checks.nightly.start()
        await self.checks.watching.begin()
        await self.packages.start()
        await self.engine.work.start()

    async def stop(self) -> None:
        """End everything in the order that loses nothing: no new work, then the lines, then the database."""
        await self.engine.live.close()
        await self.plans.uploads.close()
        await self.sites.attempts.close()
        await self.engine.work.stop()
        await self.packages.stop()
        await self.checks.nightly.stop()
        await self.checks.watching.stop()
        await self.pairs.timers.stop()
        await self.pairs.not_sent.stop()
        await self.engine.runner.stop()
        await self.pairs.plans.close()
        await self.pairs.runs.stop()
        await self.plans.kept.stop()
        await self.plans.leftovers.stop()
        await self.editing.own.stop()
        await self.engine.limits.close()
        await self.plans.notices.close()
        await self.engine.group.close()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(10):
                await self.sites.pool.close()
        await self.people.log.close()
        self.people.accounts.close()
        self.stores.database.close()


def join(settings: Settings, database_url: str, *, hasher: PasswordHasher | None = None) -> Nailer:
    """Put the parts together. Raises SetupFailed where the key file or the address of the database cannot be used."""
    # Kept copies and the key are nobody else's on this machine.
    own_folder(settings.home)
    stores = Stores.over(Database(database_url), Seal.at(settings.home / "seal.key"))
    sites = Sites.build(stores.sites, stores.identities, settings.route)
    archives = Archives(settings.home / "spool")
    incoming = Incoming(archives, Arriving(settings.home / "arriving"))
    engine = _engine(settings, stores, sites, archives)
    files = Files.build(stores, engine, settings.zone)
    post = Post(settings.mail_host, settings.mail_port, settings.mail_from)
    plans = Plans.build(stores, engine, sites, files, incoming, post)
    lasting = Lasting(settings.session_hours, settings.session_idle_hours, settings.log_days)
    editing = Editing.build(stores, engine, files, plans, settings.route, settings.fetched_from)
    reaching = Reaching(settings.certificate_route, settings.name_servers, settings.fetched_from)
    checks = Checks.build(stores, engine, files, plans, editing, reaching)
    nailer = Nailer(
        settings=settings,
        stores=stores,
        engine=engine,
        people=People.build(stores, lasting, hasher),
        sites=sites,
        files=files,
        plans=plans,
        editing=editing,
        pairs=Pairs.build(stores, engine, files, plans),
        checks=checks,
        packages=Packages.build(stores, engine, files, plans, editing, checks),
    )
    engine.live.when_one_ends(lambda job: _job_ended(nailer, job))
    return nailer


def _engine(settings: Settings, stores: Stores, sites: Sites, archives: Archives) -> Engine:
    here = HereSide({os.fsencode(label): path for label, path in settings.roots.items()})
    how = Carrying(settings.files_at_once, settings.jobs_at_once, settings.keep_largest_bytes)
    spool = HereSide({b"spool": archives.spool})

    def _minute_of_day() -> int:
        now = datetime.now(settings.zone)
        return now.hour * 60 + now.minute

    return Engine.build(stores, sites.pool, here, spool, settings.home / "kept", _minute_of_day, how)


def _job_ended(nailer: Nailer, job: LiveJob) -> None:
    """Tell every wing that shows or counts what the job has changed."""
    nailer.files.browse.forget_below(job.site_id, job.to_side, job.target_folder)
    nailer.plans.notices.job_ended(job.job_id)
    nailer.checks.watching.job_ended(job.job_id)
    nailer.pairs.runs.job_ended(job.run_id)
    nailer.pairs.not_sent.look_again(job.site_id)
    nailer.plans.leftovers.wake()
    nailer.people.log.soon(_write_down(nailer, job.job_id))


async def _write_down(nailer: Nailer, job_id: int) -> None:
    """Say in the log what a job has done, under the name of whoever wanted it."""
    with contextlib.suppress(NotFound, StoreUnavailable):
        job = await nailer.stores.jobs.get(job_id)
        site = await nailer.stores.sites.get(job.site_id)
        done = count_text(job.tally.done.files, "file")
        who = Acting(Person(job.account_id, job.account_name), program="a job")
        await nailer.people.log.add(Did.CHANGED, f"{job.title}: {job.state}, {done}", site=site, who=who)
