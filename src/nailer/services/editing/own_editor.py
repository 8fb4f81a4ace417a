"""Files that a person edits with a program of their own: the copy here is watched, and each save is sent, or offered.

Before a save goes up, what is there is compared with what both sides held last: a change by somebody else is never
replaced, but said.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
from dataclasses import replace
from pathlib import Path

import structlog
from blake3 import blake3
from watchfiles import awatch

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import ENDED, JobState
from nailer.core.plans.plan import Answers, Choice
from nailer.engine.live import LiveJobs
from nailer.engine.tasks import Background
from nailer.errors import Conflict, FileMissing, InvalidInput, NailerError, NotFound
from nailer.services.files import Browse
from nailer.services.plans import PlanMaker
from nailer.sides.here import HereSide
from nailer.store.database import utc_now
from nailer.store.drafts import DraftStore, OwnFile
from nailer.store.jobs import JobStore
from nailer.store.sites import Site, SiteStore

_log = structlog.get_logger()

_LARGEST_BYTES = 50_000_000
_SETTLES_MS = 300
_LOOK_EVERY_MS = 1500
_ENDS_WITHIN_S = 600.0

_State = tuple[int, int]


class OwnEditor:
    def __init__(
        self,
        drafts: DraftStore,
        sites: SiteStore,
        here: HereSide,
        browse: Browse,
        planning: PlanMaker,
        jobs: JobStore,
        live: LiveJobs,
    ) -> None:
        self._drafts = drafts
        self._sites = sites
        self._here = here
        self._browse = browse
        self._planning = planning
        self._jobs = jobs
        self._live = live
        self._files: list[OwnFile] = []
        self._seen: dict[int, _State] = {}
        self._anew = asyncio.Event()
        self._tasks = Background()

    def start(self) -> None:
        """Begin to watch the copies that people edit."""
        self._tasks.begin(self._watch())

    async def stop(self) -> None:
        """Stop watching. The copies stay."""
        await self._tasks.close()

    def of_account(self, account_id: int) -> list[OwnFile]:
        """What a person edits with a program of their own."""
        return [one for one in self._files if one.account_id == account_id]

    async def begin(self, account_id: int, site: Site, there: SitePath, *, sends: bool) -> OwnFile:
        """Fetch a file here and watch it. Raises Conflict where the copy here has changes of its own."""
        here = site.counterpart(SideName.THERE, there)
        if here is None:
            raise InvalidInput("This file is outside the folders of the pair, so it has no folder here.")
        far = await self._content(site, SideName.THERE, there)
        if far is None:
            raise FileMissing(f"{there} is not there.")
        near = await self._content(site, SideName.HERE, here)
        if near is not None and near != far:
            raise Conflict(
                f"{here} differs from the version there. Download or upload it first, so that nothing is "
                "replaced by accident."
            )
        if near is None:
            job_id = await self._planning.transfer(
                account_id, site, SideName.HERE, there.parent, here.parent, [there.name]
            )
            await self._planning.carry_out(job_id, site, Answers())
            if await self._ended(job_id) is not JobState.DONE:
                raise Conflict("The file could not be brought here; the jobs view says why.")
        await self._drafts.add_own(account_id, site.id, here, there, far, sends=sends)
        await self._read_anew()
        return next(one for one in self.of_account(account_id) if one.there == there and one.site_id == site.id)

    async def send(self, own: OwnFile) -> OwnFile:
        """Send what was saved here, unless somebody changed what is there; `trouble` then says so."""
        site = await self._sites.get(own.site_id)
        near = await self._content(site, SideName.HERE, own.here)
        far = await self._content(site, SideName.THERE, own.there)
        if near is None:
            return await self._store(replace(own, saved_at=None, trouble="The copy here was removed."))
        if near == far:
            return await self._store(replace(own, content=near, saved_at=None, trouble=""))
        if far != own.content:
            gone = "was removed" if far is None else "was changed by someone else"
            return await self._store(replace(own, trouble=f"It {gone} there in the meantime. Nothing was uploaded."))
        job_id = await self._planning.transfer(
            own.account_id,
            site,
            SideName.THERE,
            own.here.parent,
            own.there.parent,
            [own.here.name],
            resend_same=True,
        )
        # What is there is what was fetched: nobody else has changed it, whatever its times say.
        await self._planning.carry_out(job_id, site, Answers(clashes=Choice.REPLACE))
        if await self._ended(job_id) is JobState.DONE:
            return await self._store(replace(own, content=near, saved_at=None, trouble=""))
        return await self._store(replace(own, trouble=f"Job {job_id} could not send it."))

    async def get(self, account_id: int, own_id: int) -> OwnFile:
        """Raises NotFound."""
        for one in self.of_account(account_id):
            if one.id == own_id:
                return one
        raise NotFound("This file is no longer watched.")

    async def set_sends(self, own: OwnFile, *, sends: bool) -> None:
        """Whether each save goes up by itself, or is only offered."""
        await self._store(replace(own, sends=sends))

    async def let_go(self, own: OwnFile) -> None:
        """Stop watching a file. Both copies stay."""
        await self._drafts.remove_own(own.id)
        await self._read_anew()

    async def _watch(self) -> None:
        """Watch the folders of all files; begins anew when there are more or fewer."""
        with contextlib.suppress(NailerError):
            self._files = await self._drafts.own_files()
        while True:
            self._anew.clear()
            folders = {self._place(one).parent for one in self._files}
            there_now = [folder for folder in folders if await asyncio.to_thread(folder.is_dir)]
            try:
                for one in self._files:
                    await self._look(one)
                if not there_now:
                    await self._anew.wait()
                    continue
                # Without a change it looks by itself now and then: some disks tell nobody, and a save may come before the
                # watch has begun.
                async for changes in awatch(
                    *there_now,
                    recursive=False,
                    debounce=_SETTLES_MS,
                    stop_event=self._anew,
                    rust_timeout=_LOOK_EVERY_MS,
                    yield_on_timeout=True,
                ):
                    names = {Path(path) for _, path in changes}
                    for one in [one for one in self._files if not changes or self._place(one) in names]:
                        await self._look(one)
            except (NailerError, OSError, RuntimeError) as error:
                _log.warning("watching files here was interrupted", why=str(error)[:200])
                await asyncio.sleep(5)

    async def _look(self, own: OwnFile) -> None:
        """Send or offer what differs from what both sides held last."""
        state = await self._settled(own)
        if state is None or self._seen.get(own.id) == state:
            return
        self._seen[own.id] = state
        site = await self._sites.get(own.site_id)
        near = await self._content(site, SideName.HERE, own.here)
        # It may have been sent, or let go, while its content was read.
        watched = next((one for one in self._files if one.id == own.id), None)
        if watched is None or near is None or near == watched.content:
            return
        own = watched
        saved = await self._store(replace(own, saved_at=utc_now()))
        if own.sends:
            await self.send(saved)

    async def _settled(self, own: OwnFile) -> _State | None:
        """Size and time of the copy here once they stay: a program may empty a file before it writes it. None: gone."""
        before: _State | None = None
        while True:
            try:
                entry = await self._here.stat(own.here)
            except FileMissing:
                return None
            state = (entry.size, entry.stamp.at_ns if entry.stamp else 0)
            if state in (before, self._seen.get(own.id)):
                return state
            before = state
            await asyncio.sleep(_SETTLES_MS / 1000)

    async def _store(self, own: OwnFile) -> OwnFile:
        await self._drafts.set_own(own)
        self._files = [own if one.id == own.id else one for one in self._files]
        self._live.touch()
        return own

    async def _read_anew(self) -> None:
        self._files = await self._drafts.own_files()
        self._anew.set()

    async def _content(self, site: Site, side: SideName, path: SitePath) -> bytes | None:
        """The hash of a file's content; None where it is not there. Raises InvalidInput where it is too large."""
        async with self._browse.side(site, side) as reached:
            try:
                entry = await reached.stat(path)
                if not entry.is_file or entry.size > _LARGEST_BYTES:
                    raise InvalidInput(f"{path} is not a file that can be watched.")
                return bytes(blake3((await reached.read_all(path))[1]).digest())
            except FileMissing:
                return None

    async def _ended(self, job_id: int) -> JobState:
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(_ENDS_WITHIN_S):
                async for _ in self._live.changes(at_most_every_s=0.05, heartbeat_s=1.0):
                    if (job := await self._jobs.get(job_id)).state in ENDED:
                        return job.state
        return JobState.RUNNING

    def _place(self, own: OwnFile) -> Path:
        return Path(os.path.realpath(self._here.on_disk(own.here).parent)) / os.fsdecode(own.here.name)
