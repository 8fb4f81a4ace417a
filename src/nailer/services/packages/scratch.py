"""Scratch areas: a folder on the live server for trying a script or a page, under a name that nobody can guess, with an
end."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime, timedelta

import structlog

from nailer.acting import Acting, acting_as, need
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import address_of
from nailer.core.jobs.states import ENDED, JobState
from nailer.core.people.rights import Right
from nailer.core.plans.plan import Answers
from nailer.engine.engine import Engine
from nailer.engine.tasks import Often
from nailer.errors import Conflict, InvalidInput, NailerError, NotFound
from nailer.services.checks import need_whole
from nailer.services.files import Browse, Files, GuardedFolders
from nailer.services.plans import PlanMaker, Plans
from nailer.sides.side import is_there, once
from nailer.store.packages.scratch import ScratchArea
from nailer.store.sites import Site
from nailer.store.stores import Stores

_log = structlog.get_logger()
_THERE = SideName.THERE
_AGAIN = timedelta(minutes=10)
_LONGEST_H = 14 * 24
_INDEX = b'<!doctype html><meta name="robots" content="noindex"><title></title>\n'


class ScratchAreas:
    def __init__(self, stores: Stores, engine: Engine, files: Files, plans: Plans) -> None:
        self._store = stores.scratch
        self._sites = stores.sites
        self._grants = stores.grants
        self._jobs = stores.jobs
        self._live = engine.live
        self._browse: Browse = files.browse
        self._guarded: GuardedFolders = files.guarded
        self._make: PlanMaker = plans.make
        self._often = Often("areas whose end has come", self._look)
        self._ending: set[int] = set()

    def start(self) -> None:
        """Begin to look for areas whose end has come."""
        self._often.start()

    async def stop(self) -> None:
        """End looking."""
        await self._often.stop()

    async def of(self, site: Site) -> list[tuple[ScratchArea, str]]:
        """The areas of a site, each with its web address."""
        need_whole(site)
        roots = site.document_roots
        return [(one, address_of(one.path, roots, is_folder=True) or "") for one in await self._store.of(site.id)]

    async def make(self, account_id: int, site: Site, hours: int, why: str) -> ScratchArea:
        """Make one in the first document root. It is written down before, so that it has an end whatever happens. Raises
        InvalidInput where the site answers nowhere."""
        need_whole(site)
        need(Right.CHANGE, site.id)
        need(Right.REMOVE, site.id)
        if not site.document_roots:
            raise InvalidInput("First set in the site's settings which folder each web address shows.")
        ends_at = _end(hours)
        path = site.document_roots[0].folder.child(f"scratch-{secrets.token_hex(12)}".encode())
        self._guarded.check(account_id, site, _THERE, path)
        area_id = await self._store.add(site.id, account_id, path, why, ends_at)
        async with self._browse.side(site, _THERE) as side:
            try:
                await side.make_folder(path)
            except NailerError as error:
                if not error.retryable:
                    await self._store.end(area_id)  # it was refused: there is none
                raise
            # Without a first page a server may list what is in it.
            await side.write(path.child(b"index.html"), once(_INDEX))
        self._browse.forget(site.id, _THERE, path.parent)
        return next(one for one in await self._store.of(site.id) if one.id == area_id)

    async def longer(self, site: Site, area_id: int, hours: int) -> None:
        """Let one stay so many hours from now. Raises InvalidInput, NotFound."""
        need(Right.CHANGE, site.id)
        await self._one(site, area_id)
        await self._store.longer(site.id, area_id, _end(hours))

    async def end(self, account_id: int, site: Site, area_id: int) -> None:
        """Remove one now; what was in it is kept as after any removal. Raises Conflict where not all of it could go."""
        need(Right.REMOVE, site.id)
        await self._remove(account_id, site, await self._one(site, area_id))

    async def _one(self, site: Site, area_id: int) -> ScratchArea:
        need_whole(site)
        for one in await self._store.of(site.id):
            if one.id == area_id:
                return one
        raise NotFound("This scratch area no longer exists.")

    async def _look(self) -> None:
        for one in await self._store.due():
            if one.id not in self._ending:  # a server that is away keeps no other waiting
                self._ending.add(one.id)
                self._often.begin(self._ends(one))

    async def _ends(self, one: ScratchArea) -> None:
        try:
            await self.due(one)
        finally:
            self._ending.discard(one.id)

    async def due(self, one: ScratchArea) -> None:
        """Remove one whose end has come; where that fails it is tried again, and said."""
        try:
            with acting_as(Acting(await self._grants.person(one.account_id or 0), program="a scratch area")):
                await self._remove(one.account_id or 0, await self._sites.get(one.site_id), one)
        except NailerError as error:
            _log.warning("a scratch area could not be removed", site=one.site_id, why=error.what)
            await self._store.trouble(one.id, error.what, datetime.now(UTC) + _AGAIN)

    async def _remove(self, account_id: int, site: Site, one: ScratchArea) -> None:
        async with self._browse.side(site, _THERE) as side:
            if not await is_there(side, one.path):
                await self._store.end(one.id)
                return
        job_id = await self._make.removal(account_id, site, _THERE, one.path.parent, [one.path.name])
        await self._make.carry_out(job_id, site, Answers())
        async for _ in self._live.changes(at_most_every_s=0.1, heartbeat_s=1.0):
            job = await self._jobs.get(job_id)
            if job.state in ENDED:
                break
        else:
            return  # Nailer ends: it is due still when it starts again
        if job.state is not JobState.DONE:
            raise Conflict(f"Not all of {one.path} could be removed; job {job_id} says why.")
        await self._store.end(one.id)


def _end(hours: int) -> datetime:
    if not 1 <= hours <= _LONGEST_H:
        raise InvalidInput(f"A scratch area can last from 1 hour to {_LONGEST_H // 24} days.")
    return datetime.now(UTC) + timedelta(hours=hours)
