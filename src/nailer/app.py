"""Joins everything: settings, store, seal, sides, engine and services become one running Nailer."""

from __future__ import annotations

import asyncio
import contextlib
import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from zoneinfo import ZoneInfo

from argon2 import PasswordHasher

from nailer.engine.group import GroupCommit
from nailer.engine.keep import KeptStore
from nailer.engine.limits import SpeedLimits
from nailer.engine.live import LiveJob, LiveJobs
from nailer.engine.runner import Runner, Tools
from nailer.seal import Seal
from nailer.services.editing.drafts import Drafts
from nailer.services.editing.live_check import LiveCheck
from nailer.services.editing.own_editor import OwnEditor
from nailer.services.editing.references import References
from nailer.services.editing.saving import Saving
from nailer.services.editing.scripts import Scripts
from nailer.services.files.access import AccessPlans
from nailer.services.files.browse import Browse
from nailer.services.files.contents_compared import ContentComparer
from nailer.services.files.contents_shown import ContentsShown
from nailer.services.files.guarded import GuardedFolders
from nailer.services.files.pair_ends import PairEnds
from nailer.services.files.sieves import SieveBook
from nailer.services.files.single_change import SingleChange
from nailer.services.pairs.choices import Choices
from nailer.services.pairs.not_sent import NotSent
from nailer.services.pairs.sync import Sync
from nailer.services.pairs.timer_jobs import TimerJobs
from nailer.services.pairs.timers import Timers
from nailer.services.people.accounts import Accounts
from nailer.services.plans.account_room import AccountRoom
from nailer.services.plans.archives import Archives
from nailer.services.plans.kept_copies import KeptCopies
from nailer.services.plans.leftovers import Leftovers
from nailer.services.plans.make import PlanMaker
from nailer.services.plans.notices import Notices, Post
from nailer.services.plans.prepared import PreparedFiles
from nailer.services.plans.read import PlanReader
from nailer.services.plans.removal import Removals
from nailer.services.plans.server_commands import ServerCommands
from nailer.services.plans.uploads import Uploads
from nailer.services.sites.attempts import ConnectAttempts
from nailer.services.sites.connect import Connector
from nailer.services.sites.questions import Questions
from nailer.services.sites.trial import Trials
from nailer.settings import Settings
from nailer.sides.here import HereSide
from nailer.sides.pool import Pool
from nailer.store.accounts import AccountStore
from nailer.store.changes import ChangeStore
from nailer.store.choices import ChoiceStore
from nailer.store.database import Database
from nailer.store.drafts import DraftStore
from nailer.store.jobs import JobStore
from nailer.store.limits import LimitStore
from nailer.store.pairs import PairStore
from nailer.store.parts import PartStore
from nailer.store.sieves import SieveStore
from nailer.store.sites import SiteStore
from nailer.store.timers import TimerStore

_THREADS = 32


@dataclass(frozen=True, slots=True)
class Nailer:
    """A running Nailer: what the pages use. Made by `join`, started by `start`, ended by `stop`."""

    settings: Settings
    database: Database
    accounts: Accounts
    sites: SiteStore
    jobs: JobStore
    changes: ChangeStore
    connector: Connector
    trials: Trials
    desk: Questions
    guards: GuardedFolders
    openings: ConnectAttempts
    pool: Pool
    here: HereSide
    browse: Browse
    planning: PlanMaker
    plan_reader: PlanReader
    rooms: AccountRoom
    one_change: SingleChange
    receive: Uploads
    group: GroupCommit
    live: LiveJobs
    runner: Runner
    limits: SpeedLimits
    limit_store: LimitStore
    account_store: AccountStore
    notify: Notices
    unpack: Archives
    on_server: ServerCommands
    writing: PreparedFiles
    referring: References
    compare: ContentsShown
    permit: AccessPlans
    scripts: Scripts
    drafts: DraftStore
    kept: KeptStore
    parts: PartStore
    leftovers: Leftovers
    keeping: KeptCopies
    removing: Removals
    own_files: OwnEditor
    edit: Drafts
    live_check: LiveCheck
    saving: Saving
    pairs: PairStore
    sieves: SieveStore
    timer_store: TimerStore
    ends: PairEnds
    sieving: SieveBook
    sync: Sync
    timed_jobs: TimerJobs
    timers: Timers
    unsent: NotSent

    async def start(self) -> None:
        # Python's own pool has six threads on a small machine: files and database would wait for each other.
        asyncio.get_running_loop().set_default_executor(
            ThreadPoolExecutor(_THREADS, thread_name_prefix="asyncio_nailer")
        )
        await asyncio.to_thread(self.database.migrate)
        await self.jobs.forget_old_plans()
        await asyncio.to_thread(self.unpack.clear_old)
        await self.sites.forget_fleeting()
        await self.drafts.forget_read()
        self.limits.set_all(await self.limit_store.all())
        self.runner.start()
        self.keeping.start()
        self.leftovers.start()
        self.own_files.start()
        await self.sieves.begin_with_house()
        await self.sync.finish_ended()
        self.timers.start()
        self.unsent.start()

    async def stop(self) -> None:
        """End everything in the order that loses nothing: no new work, then the lines, then the database."""
        await self.live.close()
        await self.receive.close()
        await self.openings.close()
        await self.timers.stop()
        await self.unsent.stop()
        await self.runner.stop()
        await self.sync.stop()
        await self.keeping.stop()
        await self.leftovers.stop()
        await self.own_files.stop()
        await self.limits.close()
        await self.notify.close()
        await self.group.close()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(10):
                await self.pool.close()
        self.database.close()


def join(settings: Settings, database_url: str, *, hasher: PasswordHasher | None = None) -> Nailer:
    """Put the parts together. Raises SetupFailed where the key file or the address of the database cannot be used."""
    # Kept copies and the key are nobody else's on this machine.
    settings.home.mkdir(parents=True, exist_ok=True, mode=0o700)
    settings.home.chmod(0o700)
    database = Database(database_url)
    sites = SiteStore(database, Seal.at(settings.home / "seal.key"))
    jobs, changes = JobStore(database), ChangeStore(database)
    connector = Connector(sites, settings.route)
    desk = Questions()
    pool = Pool(connector.dial, when_closed=connector.forget_asked)
    here = HereSide({os.fsencode(label): path for label, path in settings.roots.items()})
    pairs, sieve_store, timer_store = PairStore(database), SieveStore(database), TimerStore(database)
    browse = Browse(here, pool, changes, pairs, sieve_store, settings.zone)
    ends = PairEnds(browse, sites)
    sieving = SieveBook(sieve_store, pairs, ends)
    group = GroupCommit(database)
    account_store = AccountStore(database)
    unpack = Archives(settings.home / "spool")
    post = Post(settings.mail_host, settings.mail_port, settings.mail_from)
    on_server = ServerCommands(pool, browse)
    notify = Notices(jobs, account_store, sites, pool, post, unpack, on_server)

    def when_ended(job: LiveJob) -> None:
        browse.forget_below(job.site_id, job.to_side, job.target_folder)
        notify.job_ended(job.job_id)
        sync.job_ended(job.run_id)
        unsent.look_again(job.site_id)
        leftovers.wake()

    live = LiveJobs(when_ended=when_ended)
    spool = HereSide({b"spool": unpack.spool})
    limits = SpeedLimits(lambda: _minute_of_day(settings.zone))
    kept = KeptStore(settings.home / "kept", group)
    parts = PartStore(database)
    leftovers = Leftovers(parts, sites, browse)
    tools = Tools(
        jobs=jobs,
        changes=changes,
        kept=kept,
        parts=parts,
        group=group,
        live=live,
        pool=pool,
        here=here,
        spool=spool,
        limits=limits,
        files_at_once=settings.files_at_once,
        keep_largest_bytes=settings.keep_largest_bytes,
    )
    runner = Runner(tools, jobs_at_once=settings.jobs_at_once)
    guards = GuardedFolders()
    writing = PreparedFiles(jobs, unpack, spool, runner)
    sync = Sync(
        ends,
        pairs,
        jobs,
        changes,
        runner,
        live,
        guards,
        sieving,
        kept,
        writing,
        ContentComparer(pool),
        Choices(ChoiceStore(database)),
        keep_largest_bytes=settings.keep_largest_bytes,
    )
    unsent = NotSent(pairs, changes, sieving, sync, here, live)
    planning = PlanMaker(
        browse, jobs, changes, runner, unpack, spool, sieving, keep_largest_bytes=settings.keep_largest_bytes
    )
    plan_reader = PlanReader(jobs, pool)
    timed_jobs = TimerJobs(timer_store, sites, jobs, changes, planning, plan_reader, live)
    drafts = DraftStore(database)
    edit = Drafts(browse, drafts, jobs, writing, live)
    permit = AccessPlans(browse, jobs, runner, guards)
    live_check = LiveCheck(browse, settings.route)
    return Nailer(
        settings=settings,
        database=database,
        accounts=Accounts(account_store, session_hours=settings.session_hours, hasher=hasher),
        sites=sites,
        jobs=jobs,
        changes=changes,
        connector=connector,
        trials=Trials(connector, sites),
        desk=desk,
        guards=guards,
        openings=ConnectAttempts(pool, desk),
        pool=pool,
        here=here,
        browse=browse,
        planning=planning,
        plan_reader=plan_reader,
        rooms=AccountRoom(browse, jobs, plan_reader),
        one_change=SingleChange(browse, changes),
        receive=Uploads(tools, jobs, runner, browse),
        group=group,
        live=live,
        runner=runner,
        limits=limits,
        limit_store=LimitStore(database),
        account_store=account_store,
        notify=notify,
        unpack=unpack,
        on_server=on_server,
        writing=writing,
        referring=References(browse, writing),
        compare=ContentsShown(browse, spool),
        permit=permit,
        scripts=Scripts(browse, live_check, on_server, permit, planning, writing),
        keeping=KeptCopies(changes, kept),
        removing=Removals(browse, changes, keep_largest_bytes=settings.keep_largest_bytes),
        own_files=OwnEditor(drafts, sites, here, browse, planning, jobs, live),
        drafts=drafts,
        kept=kept,
        parts=parts,
        leftovers=leftovers,
        edit=edit,
        live_check=live_check,
        saving=Saving(edit, drafts, changes, jobs, planning, live_check, browse, live),
        pairs=pairs,
        sieves=sieve_store,
        timer_store=timer_store,
        ends=ends,
        sieving=sieving,
        sync=sync,
        timed_jobs=timed_jobs,
        timers=Timers(timer_store, pairs, sync, timed_jobs, notify),
        unsent=unsent,
    )


def _minute_of_day(zone: ZoneInfo) -> int:
    now = datetime.now(zone)
    return now.hour * 60 + now.minute
