"""Proved copies of a folder there: taken between two listings that agree, every file with its hash, rehearsed, restored by a
plan."""

from __future__ import annotations

import asyncio
from dataclasses import replace
from pathlib import Path
from shutil import rmtree
from tempfile import mkdtemp

import structlog
from blake3 import blake3

from nailer.acting import Acting, acting_as, need
from nailer.core.files.access import octal
from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import Below, Tree
from nailer.core.jobs.kinds import JobKind
from nailer.core.packages.manifest import (
    Copied,
    Manifest,
    RestoreStep,
    names_of,
    restore_steps,
    still_known,
)
from nailer.core.people.rights import Right
from nailer.core.plans.plan import Action, Verdict
from nailer.core.words import count_text
from nailer.engine.engine import Engine
from nailer.errors import Busy, InvalidInput, NailerError, NotFound
from nailer.services.checks import need_whole
from nailer.services.files import Browse, Files, Progress, read_tree
from nailer.services.packages.taking import CUT, CopyStanding, Taker
from nailer.sides.connection import Lane
from nailer.store.jobs import NewItem, NewJob
from nailer.store.packages.copies import CopyState, ProvedCopy
from nailer.store.sites import Site
from nailer.store.stores import Stores
from nailer.unbroken import in_thread

_log = structlog.get_logger()
_THERE = SideName.THERE


class ProvedCopies:
    def __init__(self, stores: Stores, engine: Engine, files: Files) -> None:
        self._store = stores.copies
        self._sites = stores.sites
        self._grants = stores.grants
        self._jobs = stores.jobs
        self._kept = engine.kept
        self._taker = Taker(stores.copies, engine.kept)
        self._browse: Browse = files.browse
        self._standing: dict[int, CopyStanding] = {}

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

    async def of(self, site: Site) -> list[ProvedCopy]:
        """The copies of a site, newest first."""
        need_whole(site)
        return await self._store.of(site.id)

    def standing(self, site_id: int) -> CopyStanding | None:
        """How far the copy of a site is that is being taken; None for none."""
        return self._standing.get(site_id)

    async def take(self, account_id: int, site: Site, path: SitePath, title: str) -> int:
        """Begin to take a copy of a folder there; return its number. Raises Busy, NotAllowed."""
        need_whole(site)
        need(Right.DOWNLOAD, site.id)
        if site.id in self._standing:
            raise Busy("A copy of this site is being taken already.")
        copy_id = await self._store.begin(site.id, account_id, path, title)
        standing = self._standing[site.id] = CopyStanding(copy_id)
        standing.task = asyncio.create_task(self._run(account_id, site.id, path, standing))
        return copy_id

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
            problem = "Something unforeseen ended it; the log of Nailer says what."
        finally:
            if problem:
                await asyncio.shield(self._store.fail(standing.copy_id, problem))
            self._standing.pop(site_id, None)

    async def _of_site(self, site: Site, path: SitePath, standing: CopyStanding) -> str:
        async def _known(tree: Tree) -> dict[Below, tuple[bytes, int]]:
            return await self._known_already(site, path, tree, standing)

        return await self._taker.attempts(lambda: self._browse.side(site, _THERE, Lane.CARRY), path, standing, _known)

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
            if copy.state is CopyState.PROVED and copy.path == path:
                manifest = {one.below: one for one in (await self._store.manifest(copy.id)).names}
                begun_s = copy.begun_at.timestamp()
                return {
                    below: (digest, entry.size)
                    for below, entry in names_of(tree).items()
                    if entry.is_file and (digest := still_known(entry, manifest.get(below), begun_s)) is not None
                }
        return {}

    async def _one(self, site: Site, copy_id: int) -> ProvedCopy:
        """A copy that is whole. Raises NotFound, NotAllowed."""
        need_whole(site)
        for copy in await self._store.of(site.id):
            if copy.id == copy_id and copy.state is CopyState.PROVED:
                return copy
        raise NotFound("There is no such copy, or it is not whole.")

    async def look_inside(self, site: Site, copy_id: int) -> tuple[ProvedCopy, Manifest]:
        """A copy with everything in it. Raises NotFound."""
        return await self._one(site, copy_id), await self._store.manifest(copy_id)

    async def rehearse(self, site: Site, copy_id: int) -> str:
        """Restore a copy into a scratch folder of this machine, compare every file, and forget the folder; return how that
        went, in a sentence. Raises NotFound."""
        need(Right.DOWNLOAD, site.id)
        await self._one(site, copy_id)
        manifest = await self._store.manifest(copy_id)
        scratch = Path(await in_thread(mkdtemp, None, "nailer-rehearsal-"))
        try:
            wrong = [one for one in manifest.files if not await self._comes_back(scratch / "file", one)]
        finally:
            await in_thread(rmtree, scratch, True)
        words = f"{count_text(len(manifest.files), 'file')} came back byte for byte"
        if wrong:
            first = b"/".join(wrong[0].below).decode("utf-8", "replace")
            words = f"{count_text(len(wrong), 'file')} did not come back as they were, first {first}"
        await self._store.rehearsed(copy_id, words)
        return words

    async def _comes_back(self, file: Path, one: Copied) -> bool:
        """True where a file of a copy, written to the disk and read again, is what it was."""
        try:
            with await in_thread(open, file, "wb") as opened:
                async for chunk in self._kept.read(one.digest or b""):
                    await in_thread(opened.write, chunk)
        except NotFound:
            return False
        data = await in_thread(file.read_bytes)
        return len(data) == one.entry.size and await in_thread(lambda: blake3(data).digest()) == one.digest

    async def restore(self, account_id: int, site: Site, copy_id: int, below: Below = ()) -> int:
        """Plan to bring back a copy, or what lies below one of its folders, or one file; return the job. What is there
        beside it stays. Raises NotFound, and InvalidInput where all of it is as it was."""
        need(Right.CHANGE, site.id)
        copy = await self._one(site, copy_id)
        manifest = await self._store.manifest(copy_id)
        inside = tuple(one for one in manifest.names if one.below[: len(below)] == below)
        if not inside:
            raise NotFound("This is not in the copy.")
        async with self._browse.side(site, _THERE) as side:
            now = await read_tree(side, copy.path, Progress())
        steps = list(restore_steps(Manifest(inside), now))
        if blocked := [one for one in steps if one.now is not None and one.now.kind is not one.copied.entry.kind]:
            where = copy.path.join(blocked[0].copied.below)
            raise InvalidInput(f"{where} is of another kind by now. Rename that first.")
        if not steps:
            raise InvalidInput("All of it is as it was.")
        items = [item for step in steps for item in _items(copy.path, step)]
        items.sort(key=lambda item: _ORDER.index(item.action))
        above = [] if not now.missing else [_folder_item(copy.path)]
        title = f"Restore of {copy.title} as of {copy.begun_at:%Y-%m-%d %H:%M} UTC"
        job = NewJob(account_id, site.id, JobKind.TAKE_BACK, title, _THERE, copy.path, copy.path)
        return await self._jobs.add(job, [*above, *items])

    async def drop(self, site: Site, copy_id: int) -> None:
        """Forget a copy."""
        need_whole(site)
        need(Right.REMOVE, site.id)
        await self._store.drop(site.id, copy_id)


_ORDER = (Action.MAKE_FOLDER, Action.RESTORE, Action.SET_ACCESS)


def _items(top: SitePath, step: RestoreStep) -> list[NewItem]:
    """What brings one name back: a folder gets its access after all that goes into it."""
    path, entry = top.join(step.copied.below), step.copied.entry
    access = []
    if entry.access is not None and entry.kind is not Kind.LINK and (entry.is_folder or step.access_only):
        seen = step.now if step.access_only else None
        wanted = replace(entry, size=0)
        expected = replace(seen, size=0) if seen is not None else None
        access = [NewItem(Action.SET_ACCESS, Verdict.SETS, f"gets {octal(entry.access)}", path, path, wanted, expected)]
    if step.access_only:
        return access
    if entry.is_folder:
        return [_folder_item(path), *access]
    verdict = Verdict.REPLACES if step.now is not None else Verdict.NEW
    reason = "as it was then" if step.now is not None else "comes back"
    return [NewItem(Action.RESTORE, verdict, reason, path, path, entry, step.now, step.copied.digest)]


def _folder_item(path: SitePath) -> NewItem:
    folder = Entry(path.name, Kind.FOLDER)
    return NewItem(Action.MAKE_FOLDER, Verdict.NEW, "comes back", path, path, folder)
