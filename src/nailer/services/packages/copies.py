"""Verified copies of a folder there: taken between two listings that agree, every file with its hash, its restore
tested, restored by a plan."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator

from nailer.acting import need
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.packages.keeping import copy_name
from nailer.core.packages.manifest import (
    Manifest,
    names_of,
    still_known,
)
from nailer.core.people.rights import Right
from nailer.core.work.kinds import CutShort, WorkKind
from nailer.core.work.states import CopyState
from nailer.engine.engine import Engine
from nailer.engine.work import RunningWork, Supplied
from nailer.errors import NotFound, UnderWay
from nailer.services.checks import need_whole
from nailer.services.files import Browse, Files
from nailer.services.packages.packing import Form, packed
from nailer.services.packages.restore_tests import RestoreTest, restore_tested
from nailer.services.packages.taking import CopyStanding, Taker
from nailer.sides.connection import Lane
from nailer.store.packages.copies import VerifiedCopy
from nailer.store.running.works import Change, StoredWork
from nailer.store.sites import Site
from nailer.store.stores import Stores

_THERE = SideName.THERE
_TURN_S = 0.1


class VerifiedCopies:
    def __init__(self, stores: Stores, engine: Engine, files: Files) -> None:
        self._store = stores.copies
        self._sites = stores.sites
        self._kept = engine.kept
        self._taker = Taker(stores.copies, engine.kept)
        self._browse: Browse = files.browse
        self._work = engine.work
        engine.work.supply(WorkKind.COPY, Supplied(self._steps, self._broken))

    async def of(self, site: Site) -> list[VerifiedCopy]:
        """The copies of a site, newest first."""
        need_whole(site)
        return await self._store.of(site.id)

    def standing(self, site_id: int) -> CopyStanding | None:
        """How far the copy of a site is that is being taken; None for none."""
        return self._work.progress_on(WorkKind.COPY, site_id, CopyStanding)

    async def take(self, account_id: int, site: Site, path: SitePath, title: str, *, time_id: int | None = None) -> int:
        """Begin to take a copy of a folder there, by a timer where it has a number; return the copy's number. Raises
        UnderWay, NotAllowed."""
        need_whole(site)
        need(Right.DOWNLOAD, site.id)
        adding = self._store.beginning(site.id, account_id, path, title, time_id=time_id)
        return await self._work.begin(WorkKind.COPY, site.id, account_id, adding, CopyStanding())

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
        await self._work.ended_on(WorkKind.COPY, site_id)

    async def _steps(self, work: RunningWork) -> Change:
        copy_id, standing = work.row.subject_id, work.shows(CopyStanding)
        standing.copy_id = copy_id
        site = await self._sites.get(work.row.site_id)
        path = (await self._store.get(site.id, copy_id)).path

        async def _known(tree: Tree) -> dict[RelativePath, tuple[bytes, int]]:
            return await self._known_already(site, path, tree, standing)

        taken = await self._taker.attempts(
            lambda: self._browse.side(site, _THERE, Lane.TRANSFER), path, standing, _known
        )
        return await self._store.verifying(copy_id, taken.manifest, taken.fetched, taken.declared)

    def _broken(self, row: StoredWork, broken: CutShort) -> Change:
        return self._store.failing(row.subject_id, broken.words)

    async def _known_already(
        self, site: Site, path: SitePath, tree: Tree, standing: CopyStanding
    ) -> dict[RelativePath, tuple[bytes, int]]:
        """The files that an earlier copy of the folder has, or that came before a cut, and that are known not to have
        changed since."""
        now_s = standing.begun_s
        came = {
            below: (digest, entry.size)
            for below, entry in names_of(tree).items()
            if entry.is_file and (digest := still_known(entry, standing.known.get(below), now_s)) is not None
        }
        return await self._of_earlier(site, path, tree) | came

    async def _of_earlier(self, site: Site, path: SitePath, tree: Tree) -> dict[RelativePath, tuple[bytes, int]]:
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
