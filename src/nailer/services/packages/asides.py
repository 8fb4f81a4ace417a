"""Packages set aside by another name, and brought back. Each is written down before its rename, until it is back."""

from __future__ import annotations

import asyncio

import structlog

from nailer.acting import grant_on, need
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import package_aside
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.people.rights import Right
from nailer.core.work.kinds import CutShort, WorkKind
from nailer.engine.engine import Engine
from nailer.engine.work import RunningWork, Supplied, nothing_more
from nailer.errors import Conflict, FileMissing, LeaseLost, NailerError, NotFound
from nailer.services.checks import need_whole
from nailer.services.files import Browse, Files, GuardedFolders
from nailer.sides.side import Side
from nailer.store.changes import ChangeStore, NewChange, What
from nailer.store.packages.searches import PackageStore, SetAside
from nailer.store.running.works import Change, StoredWork
from nailer.store.sites import Site
from nailer.store.stores import Stores
from nailer.unbroken import unbroken

_log = structlog.get_logger()
_THERE = SideName.THERE
_AGAIN_S = (0.5, 2.0, 5.0, 15.0, 30.0)


class Asides:
    def __init__(self, stores: Stores, engine: Engine, files: Files) -> None:
        self._store: PackageStore = stores.packages
        self._changes: ChangeStore = stores.changes
        self._sites = stores.sites
        self._browse: Browse = files.browse
        self._guarded: GuardedFolders = files.guarded
        self._work = engine.work
        engine.work.supply(WorkKind.BRING_BACK, Supplied(self._steps, self._broken))
        self._shown: dict[int, list[SetAside]] = {}

    async def start(self) -> None:
        """Put back what searches left when Nailer ended."""
        for site_id in await self._store.sites():
            await self._look_again(site_id)
        await self._store.bring_back_left()

    def shown(self, site_id: int) -> list[SetAside]:
        """What people have set aside on a site, the oldest first, as every page of it says: nothing is asked for it. Who has
        a part of the site is told nothing of the rest."""
        grant = grant_on(site_id)
        if grant is not None and not grant.is_whole:
            return []
        return [one for one in self._shown.get(site_id, ()) if one.search_id is None]

    async def _look_again(self, site_id: int) -> None:
        self._shown[site_id] = await self._store.open(site_id)

    async def open(self, site: Site) -> list[SetAside]:
        """What is set aside on a site."""
        need_whole(site)
        return await self._store.open(site.id)

    async def set_aside(self, account_id: int, site: Site, path: SitePath, why: str = "") -> SitePath:
        """Give a package another name, until somebody brings it back; return where it is. Raises Locked, TransferError."""
        need_whole(site)
        need(Right.CHANGE, site.id)
        self._guarded.check(account_id, site, _THERE, path)
        async with self._browse.side(site, _THERE) as side:
            before = await side.stat(path)
            aside = await self.move(site, side, path, account_id=account_id, why=why)
        await self._note(account_id, site, path, aside, before)
        await self._look_again(site.id)
        return aside

    async def bring_back(self, account_id: int, site: Site, aside_id: int) -> None:
        """Give a package its name back. Raises NotFound, Conflict where the name is taken by now."""
        need_whole(site)
        need(Right.CHANGE, site.id)
        one = next((one for one in await self._store.open(site.id) if one.id == aside_id), None)
        if one is None:
            raise NotFound("This package has already been brought back.")
        self._guarded.check(account_id, site, _THERE, one.path)
        async with self._browse.side(site, _THERE) as side:
            before = await _there(side, one.aside)
            await self._back(side, one)
        if before is not None:
            await self._note(account_id, site, one.aside, one.path, before)
        self._browse.forget(site.id, _THERE, one.path.parent)
        await self._look_again(site.id)

    async def move(
        self,
        site: Site,
        side: Side,
        path: SitePath,
        *,
        account_id: int | None = None,
        search_id: int | None = None,
        why: str = "",
    ) -> SitePath:
        """Set a package aside: written down first, then renamed. Raises what renaming raises, with nothing changed."""
        aside = path.parent.child(package_aside(path.name))
        title = shown_name(path.name)
        aside_id = await self._store.add_aside(site.id, account_id, search_id, path, aside, title=title, why=why)
        try:
            # Cancelled meanwhile it is answered first: a rename still on its way would come after the one that puts it back.
            await unbroken(side.rename(path, aside))
        except NailerError as error:
            if not error.retryable and await _there(side, aside) is None:  # refused, and nothing has happened
                await self._store.back(aside_id)
            raise
        self._browse.forget(site.id, _THERE, path.parent)
        return aside

    async def put_back(
        self, site: Site, side: Side, search_id: int | None = None, *, but: frozenset[SitePath] = frozenset()
    ) -> None:
        """Bring back what searches (or one of them) have set aside, but for some. One that cannot be brought back keeps no
        other from it; it is raised at the end."""
        problem: NailerError | None = None
        for one in reversed(await self._store.open(site.id)):
            mine = one.search_id is not None and search_id in (None, one.search_id)
            if not mine or one.path in but:
                continue
            try:
                await self._back(side, one)
            except NailerError as error:
                if error.retryable:
                    raise
                problem = error
            self._browse.forget(site.id, _THERE, one.path.parent)
        if problem is not None:
            raise problem

    async def _back(self, side: Side, one: SetAside) -> None:
        """One name back, wherever a cut has left it: at either end, or (said) at both, or at none. What a server says of a
        rename that it refuses tells little: both ends are looked at."""
        try:
            await unbroken(side.rename(one.aside, one.path))
        except NailerError as refused:
            if refused.retryable:
                raise
            is_aside, is_back = await _there(side, one.aside), await _there(side, one.path)
            if is_aside is not None and is_back is not None:
                raise Conflict(
                    f"{one.path} exists again, next to the package that was set aside. Rename one of them."
                ) from refused
            if is_aside is not None:
                raise
            await self._store.back(one.id)
            if is_back is None:
                raise FileMissing(
                    f"{one.title} was not found under its old or new name. Someone may have moved it."
                ) from refused
            return
        await self._store.back(one.id)

    async def restored(self, site_id: int) -> None:
        """Until nothing is being put back on a site."""
        await self._work.ended_on(WorkKind.BRING_BACK, site_id)

    async def _steps(self, work: RunningWork) -> Change:
        """Put back what searches left on a site, again and again until it is done: the server may be away for a while."""
        site_id, tries = work.row.site_id, 0
        while True:
            try:
                site = await self._sites.get(site_id)
                async with self._browse.side(site, _THERE) as side:
                    work.hold()
                    await self.put_back(site, side)
                break
            except LeaseLost:
                raise  # whoever holds the work now brings it back
            except NailerError as error:
                # Who must look is said on the page: the row stays open. A line or a server that is away is waited for.
                if not error.retryable:
                    _log.warning("what a search set aside could not be put back", site=site_id, why=error.what)
                    break
                _log.warning("putting back waits for the server", site=site_id, why=error.what)
            await asyncio.sleep(_AGAIN_S[min(tries, len(_AGAIN_S) - 1)])
            tries += 1
        return nothing_more

    def _broken(self, row: StoredWork, broken: CutShort) -> Change:
        _log.warning("what a search set aside could not be put back", site=row.site_id, why=broken.words)
        return nothing_more

    async def _note(self, account_id: int, site: Site, old: SitePath, new: SitePath, before: Entry) -> None:
        change = NewChange(site.id, _THERE, old, What.RENAMED, account_id, before=before, other_path=new)
        await self._changes.add_confirmed(change)


async def _there(side: Side, path: SitePath) -> Entry | None:
    try:
        return await side.stat(path)
    except FileMissing:
        return None
