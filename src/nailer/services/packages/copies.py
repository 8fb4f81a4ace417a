"""Verified copies of a folder there: taken between two listings that agree, every file with its hash, its restore
tested, restored by a plan."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator

import structlog

from nailer.acting import Acting, acting_as, need
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import Below, Tree
from nailer.core.packages.keeping import copy_name
from nailer.core.packages.manifest import (
    Manifest,
    names_of,
    still_known,
)
from nailer.core.people.rights import Right
from nailer.engine.engine import Engine
from nailer.errors import NailerError, NotFound, UnderWay
from nailer.services.checks import need_whole
from nailer.services.files import Browse, Files
from nailer.services.packages.packing import Form, packed
from nailer.services.packages.restore_tests import RestoreTest, restore_tested
from nailer.services.packages.taking import CUT, CopyStanding, Taker
from nailer.sides.connection import Lane
from nailer.store.database import written_down
from nailer.store.packages.copies import CopyState, VerifiedCopy
from nailer.store.sites import Site
from nailer.store.stores import Stores

_log = structlog.get_logger()
_THERE = SideName.THERE
_TURN_S = 0.1


class VerifiedCopies:
    def __init__(self, stores: Stores, engine: Engine, files: Files) -> None:
        self._store = stores.copies
        self._sites = stores.sites
        self._grants = stores.grants
        self._jobs = stores.jobs
        self._kept = engine.kept
        self._taker = Taker(stores.copies, engine.kept)
        self._browse: Browse = files.browse
        self._standing: dict[int, CopyStanding] = {}
        self._beginning: set[int] = set()

    async def start(self) -> None:
        """What was being taken when Nailer ended is no copy."""
        await self._store.cut()

    async def stop(self) -> None:
        """End what is being taken."""
        tasks = [one.task for one in self._standing.values() if one.task is not None]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        # A task that is cancelled before its first step runs none of its code.
        for site_id, standing in list(self._standing.items()):
            await self._store.fail(standing.copy_id, CUT)
            self._standing.pop(site_id, None)

    async def of(self, site: Site) -> list[VerifiedCopy]:
        """The copies of a site, newest first."""
        need_whole(site)
        return await self._store.of(site.id)

    def standing(self, site_id: int) -> CopyStanding | None:
        """How far the copy of a site is that is being taken; None for none."""
        return self._standing.get(site_id)

    async def take(self, account_id: int, site: Site, path: SitePath, title: str, *, time_id: int | None = None) -> int:
        """Begin to take a copy of a folder there, by a timer where it has a number; return the copy's number. Raises
        UnderWay, NotAllowed."""
        need_whole(site)
        need(Right.DOWNLOAD, site.id)
        if site.id in self._standing or site.id in self._beginning:
            raise UnderWay("A copy of this site is already being created.")
        self._beginning.add(site.id)
        try:
            copy_id = await self._store.begin(site.id, account_id, path, title, time_id=time_id)
            standing = self._standing[site.id] = CopyStanding(copy_id)
        finally:
            self._beginning.discard(site.id)
        standing.task = asyncio.create_task(self._run(account_id, site.id, path, standing))
        return copy_id

    async def taken(
        self, account_id: int, site: Site, path: SitePath, title: str, *, time_id: int | None = None
    ) -> VerifiedCopy:
        """Take a copy once no other of the site is being taken, and wait for its end: proved or failed. Raises
        NotAllowed."""
        while True:
            await self.wait(site.id)
            try:
                copy_id = await self.take(account_id, site, path, title, time_id=time_id)
                break
            except UnderWay:
                await asyncio.sleep(_TURN_S)
        await self.wait(site.id)
        return await self._store.get(site.id, copy_id)

    async def wait(self, site_id: int) -> None:
        """Until the copy that is being taken is ended."""
        standing = self._standing.get(site_id)
        if standing is not None and standing.task is not None:
            await asyncio.wait([standing.task])

    async def _run(self, account_id: int, site_id: int, path: SitePath, standing: CopyStanding) -> None:
        problem = CUT
        try:
            with acting_as(Acting(await self._grants.person(account_id), program="a copy")):
                problem = await self._of_site(await self._sites.get(site_id), path, standing)
        except NailerError as error:
            problem = error.what
        except Exception:
            _log.exception("a copy failed in a way nobody foresaw", site=site_id)
            problem = "It failed because of an error in Nailer. Details are in Nailer's log."
        finally:
            try:
                if problem:
                    end = written_down(
                        lambda: self._store.fail(standing.copy_id, problem), patiently=problem is not CUT
                    )
                    await asyncio.shield(end)
            finally:
                self._standing.pop(site_id, None)

    async def _of_site(self, site: Site, path: SitePath, standing: CopyStanding) -> str:
        async def _known(tree: Tree) -> dict[Below, tuple[bytes, int]]:
            return await self._known_already(site, path, tree, standing)

        return await self._taker.attempts(
            lambda: self._browse.side(site, _THERE, Lane.TRANSFER), path, standing, _known
        )

    async def _known_already(
        self, site: Site, path: SitePath, tree: Tree, standing: CopyStanding
    ) -> dict[Below, tuple[bytes, int]]:
        """The files that an earlier copy of the folder has, or that came before a cut, and that are known not to have
        changed since."""
        now_s = standing.begun_s
        came = {
            below: (digest, entry.size)
            for below, entry in names_of(tree).items()
            if entry.is_file and (digest := still_known(entry, standing.known.get(below), now_s)) is not None
        }
        return await self._of_earlier(site, path, tree) | came

    async def _of_earlier(self, site: Site, path: SitePath, tree: Tree) -> dict[Below, tuple[bytes, int]]:
        for copy in await self._store.of(site.id):
            if copy.state is CopyState.VERIFIED and copy.path == path:
                manifest = {one.below: one for one in (await self._store.manifest(copy.id)).names}
                begun_s = copy.begun_at.timestamp()
                return {
                    below: (digest, entry.size)
                    for below, entry in names_of(tree).items()
                    if entry.is_file and (digest := still_known(entry, manifest.get(below), begun_s)) is not None
                }
        return {}

    async def one(self, site: Site, copy_id: int) -> VerifiedCopy:
        """A copy that is whole. Raises NotFound, NotAllowed."""
        need_whole(site)
        for copy in await self._store.of(site.id):
            if copy.id == copy_id and copy.state is CopyState.VERIFIED:
                return copy
        raise NotFound("This copy does not exist or is incomplete.")

    async def look_inside(self, site: Site, copy_id: int) -> tuple[VerifiedCopy, Manifest]:
        """A copy with everything in it. Raises NotFound."""
        return await self.one(site, copy_id), await self._store.manifest(copy_id)

    async def test_restore(self, site: Site, copy_id: int) -> RestoreTest:
        """Restore a copy into a scratch folder of this machine, compare every name, and forget the folder; return how that
        went. Raises NotFound, NoSpaceLeft."""
        need(Right.DOWNLOAD, site.id)
        await self.one(site, copy_id)
        one = await restore_tested(await self._store.manifest(copy_id), self._kept.read, self._kept.folder)
        await self._store.restore_tested(copy_id, one.words)
        return one

    async def packed(self, site: Site, copy_id: int, form: Form) -> tuple[str, AsyncIterator[bytes]]:
        """A copy as one archive with its manifest in it: what that is called, and its bytes. Raises NotFound."""
        need(Right.DOWNLOAD, site.id)
        copy = await self.one(site, copy_id)
        manifest = await self._store.manifest(copy_id)
        name = copy_name(site.name, copy.path, copy.version, copy.begun_at.date())
        return f"{name}.{form}", packed(copy, manifest, self._kept.read, form)

    async def drop(self, site: Site, copy_id: int) -> None:
        """Forget a copy."""
        need_whole(site)
        need(Right.REMOVE, site.id)
        await self._store.drop(site.id, copy_id)
