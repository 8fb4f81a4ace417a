"""Replacing, installing and removing packages: both versions are read, a person decides, and it is carried out."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Mapping
from dataclasses import replace

from nailer.acting import need
from nailer.core.files.entry import SideName
from nailer.core.files.names import package_beside
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.files.tree import RelativePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.packages.identity import step_words, without_version
from nailer.core.packages.manifest import Manifest, tree_of, unagreed
from nailer.core.packages.replacing import Fate, Take, undecided
from nailer.core.people.rights import Right
from nailer.core.words import count_text
from nailer.core.work.states import ReplacementState, SearchState
from nailer.engine.engine import Engine
from nailer.engine.swap import tries_renaming
from nailer.errors import Conflict, InvalidInput, NotFound, UnderWay
from nailer.services.checks import need_whole
from nailer.services.files import Browse, Files, GuardedFolders, Progress, read_tree
from nailer.services.packages.declaring import Found, declared_in, entries_of
from nailer.services.packages.replacing.building import beside, one_by_one
from nailer.services.packages.replacing.exchange import kept_still
from nailer.services.packages.replacing.plans import ReplacementPlan, ReplacementPlans
from nailer.services.packages.replacing.reading import ReplacementReading, VersionsToRead
from nailer.services.packages.replacing.runs import ReplacementRuns
from nailer.services.packages.seen import PackageBook
from nailer.services.packages.sources import VersionSource, check_alike, check_same_version
from nailer.sides.side import is_there
from nailer.store.packages.replacements import Replacement, ReplacementKind, ReplacementStore
from nailer.store.sites import Site
from nailer.store.stores import Stores

_THERE = SideName.THERE
_Kind, _State = ReplacementKind, ReplacementState


class Replacing:
    def __init__(
        self,
        stores: Stores,
        engine: Engine,
        files: Files,
        book: PackageBook,
        reading: ReplacementReading,
        plans: ReplacementPlans,
        runs: ReplacementRuns,
    ) -> None:
        self._store: ReplacementStore = stores.replacements
        self._jobs = stores.jobs
        self._searches = stores.packages
        self._browse: Browse = files.browse
        self._guarded: GuardedFolders = files.guarded
        self._book = book
        self.sources = reading.sources
        self.reading = reading
        self.plans = plans
        self.runs = runs

    async def there(self, site: Site, path: SitePath) -> Found:
        """The package that is there. Raises InvalidInput where the folder declares none, FileMissing."""
        need_whole(site)
        async with self._browse.side(site, _THERE) as side:
            await side.stat(path)
            said = await declared_in(side, path, await entries_of(side, path))
        if said is None:
            raise InvalidInput(f"{path} declares no version, so it is not a package.")
        return Found(path, path.name, said)

    async def replace(self, account_id: int, site: Site, old: Found, source: VersionSource) -> int:
        """Begin to read what another version of a package would do; return the number. Raises InvalidInput where it is
        another package."""
        async with self.sources.forgotten_on_error(source):
            self._check(account_id, site, old.folder)
            notes = [one for one in (check_alike(old, source.found), *source.left) if one]
        step, usual = step_words(source.found.declared, old.declared)
        notes = notes if usual else [f"{step[:1].upper()}{step[1:]}.", *notes]
        adding = self._store.beginning(site.id, account_id, old.folder, _Kind.REPLACE, source.words)
        return await self.reading.begin(site, account_id, adding, VersionsToRead(source, old, tuple(notes)))

    async def install(self, account_id: int, site: Site, folder: SitePath, source: VersionSource) -> int:
        """Begin to read what a new package would bring into a folder. Raises Conflict where there is one of its name."""
        name = without_version(source.found.name)
        path = folder.child(name)
        async with self.sources.forgotten_on_error(source), self._browse.side(site, _THERE) as side:
            self._check(account_id, site, path)
            if await is_there(side, path):
                raise Conflict(f"{path} is there already. Replace it with this version instead.")
        adding = self._store.beginning(site.id, account_id, path, _Kind.INSTALL, source.words)
        return await self.reading.begin(site, account_id, adding, VersionsToRead(source, None, source.left))

    async def remove(self, account_id: int, site: Site, old: Found) -> int:
        """Begin to read what taking a package away would do."""
        need(Right.REMOVE, site.id)
        self._check(account_id, site, old.folder)
        notes = {
            True: ("Pages of this site use it and will no longer have it.",),
            None: ("It is not known whether pages use it, because the site has not been read yet.",),
            False: (),
        }[await self._book.in_use(site, old.folder)]
        adding = self._store.beginning(site.id, account_id, old.folder, _Kind.REMOVE, "")
        return await self.reading.begin(site, account_id, adding, VersionsToRead(None, old, notes))

    async def of(self, site: Site) -> list[Replacement]:
        """Those of a site, newest first."""
        need_whole(site)
        return await self._store.of(site.id)

    async def get(self, site: Site, number: int) -> Replacement:
        """One of a site. Raises NotFound."""
        need_whole(site)
        one = await self._store.get(site.id, number)
        if one is None:
            raise NotFound("This replacement does not exist.")
        return one

    async def choose(self, site: Site, number: int, wanted: Mapping[RelativePath, Take]) -> ReplacementPlan:
        """Take choices into the plan. Raises InvalidInput, Conflict."""
        need(Right.CHANGE, site.id)
        return await self.plans.of(await self.plans.choose(await self.get(site, number), wanted))

    async def choose_group(self, site: Site, number: int, fates: Collection[Fate], take: Take) -> ReplacementPlan:
        """Take one choice for every name of some fates that offers it."""
        rows = await self.plans.rows(await self.get(site, number))
        return await self.choose(
            site, number, {row.below: take for row in rows if row.fate in fates and take in row.may}
        )

    async def join(self, site: Site, number: int, below: RelativePath, text: str) -> None:
        """Take a text that a person joined into the plan."""
        need(Right.CHANGE, site.id)
        await self.plans.join(await self.get(site, number), below, text)

    async def original(self, account_id: int, site: Site, number: int, source: VersionSource) -> ReplacementPlan:
        """Tell the hand edits by the old version as it was delivered, which somebody gives now. Raises InvalidInput where
        it is another version, or another package."""
        need(Right.CHANGE, site.id)
        one = await self.get(site, number)
        async with self.sources.forgotten_on_error(source):
            if one.state is not _State.PLANNED or one.kind is not _Kind.REPLACE:
                raise Conflict("This is not a plan of a replacement.")
            check_same_version(await self.there(site, one.path), source.found)
        base = await self.sources.take_in(account_id, site, one.path, source)
        self.plans.forget(number)
        one = replace(one, base_copy_id=base.id)
        await self._store.planned(one)
        return await self.plans.of(one)

    async def in_place(self, site: Site, number: int, *, wanted: bool) -> ReplacementPlan:
        """Replace names one by one, or the whole folder by two renames. Raises InvalidInput where the server renames
        none."""
        need(Right.CHANGE, site.id)
        one = await self.get(site, number)
        if one.state is not _State.PLANNED or one.kind is not _Kind.REPLACE:
            raise Conflict("This is not a plan of a replacement.")
        if not wanted:
            async with self._browse.side(site, _THERE) as side:
                if await tries_renaming(side, one.path.parent) is False:
                    raise InvalidInput("This server cannot rename folders, so files are replaced one by one.")
        await self._store.in_place(number, wanted)
        return await self.plans.of(replace(one, in_place=wanted))

    async def carry_out(self, account_id: int, site: Site, number: int, typed: str = "") -> None:
        """Let a plan be carried out. Raises InvalidInput where something is undecided, or a word must be typed; Conflict
        where the package changed since it was read: it is read again then."""
        one = await self.get(site, number)
        if one.state is not _State.PLANNED:
            raise Conflict("This was carried out already, or given up.")
        self._check(account_id, site, one.path)
        last = await self._searches.last(site.id)
        if last is not None and last.state is SearchState.SEARCHING:
            raise UnderWay("A package search is running on this site. Wait until it has finished.")
        name = await self.must_type(site, one)
        if typed.strip() != name and name:
            raise InvalidInput(f"Type {name} to confirm.", fields={"typed": name})
        waiting = undecided(await self.plans.rows(one), one.choices) if one.kind is not _Kind.REMOVE else []
        if waiting:
            first = b"/".join(waiting[0].below).decode("utf-8", "replace")
            raise InvalidInput(f"First decide what to do with {count_text(len(waiting), 'item')}, first {first}.")
        await self._check_unchanged(account_id, site, one)
        one = await self.plans.settle(replace(one, account_id=account_id))
        hidden = one.in_place or await self.runs.takes_hidden_names(site, one.path.parent)
        await self._build(account_id, site, one, hidden=hidden)

    async def must_type(self, site: Site, one: Replacement) -> str:
        """The name that must be typed before a package goes that pages may refer to; '' for none."""
        if one.kind is not _Kind.REMOVE or await self._book.in_use(site, one.path) is False:
            return ""
        return shown_name(one.path.name)

    async def _build(self, account_id: int, site: Site, one: Replacement, *, hidden: bool) -> None:
        result = await self.plans.result(one) if one.new_copy_id is not None else Manifest(())
        fresh = kept = adding_job = None
        new_name, old_name = package_beside(one.path.name, secrets.token_hex(8), hidden=hidden)
        if not one.in_place:
            if one.kind is not _Kind.REMOVE:
                fresh = one.path.parent.child(new_name)
            if one.kind is not _Kind.INSTALL:
                kept = one.path.parent.child(old_name)
        pages = await self.runs.pages.answers(site)
        if one.kind is not _Kind.REMOVE:
            now = await self._now(one)
            items = beside(fresh, result, one.path, now) if fresh is not None else one_by_one(one.path, result, now)
            package = f"{one.title} {one.new_version}".strip()
            title = f"Building {package}" if fresh is not None else f"{package}, file by file"
            folder = fresh if fresh is not None else one.path
            kind = JobKind.BUILD if fresh is not None else JobKind.WRITE
            adding_job = self.runs.adding_job(account_id, site, title, folder, items, kind)
        await self.runs.go(site.id, account_id, self._store.building(one, fresh, kept, pages, adding_job))

    async def _now(self, one: Replacement) -> Manifest:
        return await self.plans.manifest(one.old_copy_id)

    async def go_on(self, account_id: int, site: Site, number: int) -> None:
        """Try again what failed half way. Raises Conflict where there is nothing to go on with."""
        one = await self.get(site, number)
        self._check(account_id, site, one.path)
        if one.state is not _State.FAILED or (one.fresh is None and one.kept is None and one.job_id is None):
            raise Conflict("There is nothing to resume.")
        job_id = one.job_id
        trying_again = self._jobs.trying_again(job_id) if job_id is not None else None
        await self.runs.go(site.id, account_id, self._store.going_on(one, _State.BUILDING, trying_again))

    async def back(self, account_id: int, site: Site, number: int) -> None:
        """Put the old one in its place again. Raises Conflict where it is not kept any more."""
        one = await self.get(site, number)
        self._check(account_id, site, one.path)
        if not one.can_go_back:
            raise Conflict("The old version is no longer kept next to it. You can restore its verified copy.")
        if not one.in_place and one.kept is not None:
            async with self._browse.side(site, _THERE) as side:
                if not await kept_still(side, one.kept):
                    await self._store.let_go(number)
                    raise Conflict("The old version no longer exists there. You can restore its verified copy.")
        await self.runs.go(site.id, account_id, self._store.going_on(one, _State.RESTORING))

    async def reopen(self, site: Site, number: int) -> None:
        """Read again what failed, to decide anew: what was built of it is removed. Raises Conflict."""
        need(Right.CHANGE, site.id)
        one = await self.get(site, number)
        if one.state is not _State.FAILED or (one.new_copy_id is None and one.kind is not _Kind.REMOVE):
            raise Conflict("There is nothing left to decide. Choose the version again.")
        await self.runs.undo(one, site)
        await self.reading.begin(site, one.account_id or 0, self._store.going_on(one, _State.READING), None)

    async def drop(self, site: Site, number: int) -> None:
        """Give a plan up, or what failed: what was built of it is removed."""
        need(Right.CHANGE, site.id)
        one = await self.get(site, number)
        if one.state not in (_State.PLANNED, _State.FAILED, _State.READING):
            raise Conflict("This is under way, or done.")
        await self.reading.end(number)
        if one.state is _State.FAILED:
            await self.runs.undo(one, site)
        await self._store.set_state(number, _State.DROPPED)
        await self.sources.let_go(site, one.new_copy_id)

    async def look_again(self, site: Site, number: int) -> Replacement:
        """One of a site; whether the old one is kept still is looked at. Raises NotFound."""
        one = await self.get(site, number)
        if one.can_go_back and one.kept is not None:
            async with self._browse.side(site, _THERE) as side:
                if not await kept_still(side, one.kept):
                    await self._store.let_go(number)
                    return await self.get(site, number)
        return one

    def _check(self, account_id: int, site: Site, path: SitePath) -> None:
        need_whole(site)
        need(Right.CHANGE, site.id)
        if path.is_root or any(root.folder.below(path) is not None for root in site.document_roots):
            raise InvalidInput(f"{path} is the folder of a web address, so it cannot be renamed like a package.")
        self._guarded.check(account_id, site, _THERE, path)
        if self.runs.busy(site.id):
            raise UnderWay("A package of this site is being replaced already.")

    async def _check_unchanged(self, account_id: int, site: Site, one: Replacement) -> None:
        if one.old_copy_id is None:
            return
        async with self._browse.side(site, _THERE) as side:
            now = await read_tree(side, one.path, Progress())
        changed = unagreed(tree_of(await self._now(one)), now)
        if changed:
            await self.reading.begin(site, account_id, self._store.going_on(one, _State.READING), None)
            names = count_text(len(changed), "item")
            raise Conflict(f"{names} of {one.path} changed since this was read. Nailer reads it again.")
