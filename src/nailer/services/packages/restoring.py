"""What a verified copy brings back, and where to: to its own place, here, or to another site; and how it stands to what is
there now."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass

from blake3 import blake3

from nailer.acting import need
from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.jobs.kinds import JobKind
from nailer.core.packages.keeping import published_by
from nailer.core.packages.manifest import (
    Copied,
    Difference,
    Manifest,
    RestoreStep,
    difference,
    differences,
    names_of,
    restore_steps,
)
from nailer.core.people.rights import Right
from nailer.core.plans.plan import Action
from nailer.engine.engine import Engine
from nailer.errors import Conflict, FileMissing, InvalidInput, NotFound
from nailer.services.files import Browse, Files, Progress, read_tree
from nailer.services.packages.copies import VerifiedCopies
from nailer.services.packages.packing import manifest_name, manifest_text
from nailer.services.packages.replacing.building import content_item, folder_item, permissions_item
from nailer.services.plans import folder_items, missing_folders
from nailer.sides.side import Side, once
from nailer.store.jobs import NewItem, NewJob
from nailer.store.packages.copies import VerifiedCopy
from nailer.store.sites import Site
from nailer.store.stores import Stores

_THERE = SideName.THERE
_AT_ONCE = 8
_ORDER = (Action.MAKE_FOLDER, Action.RESTORE, Action.SET_PERMISSIONS)


@dataclass(frozen=True, slots=True)
class RestoreTarget:
    """Where a copy is brought to: the folder that becomes what the copy's folder was."""

    site: Site
    side: SideName
    folder: SitePath


@dataclass(frozen=True, slots=True)
class CopyRow:
    """One name of one folder: as it was copied, and as it is now (None: it is not there). `difference` says how both stand;
    of a folder only whether it is there."""

    name: bytes
    then: Copied | None
    now: Entry | None
    difference: Difference


class Restoring:
    def __init__(self, stores: Stores, engine: Engine, files: Files, copies: VerifiedCopies) -> None:
        self._store = stores.copies
        self._kept = engine.kept
        self._jobs = stores.jobs
        self._sites = stores.sites
        self._browse: Browse = files.browse
        self._copies = copies

    async def restore(
        self,
        account_id: int,
        site: Site,
        copy_id: int,
        below: RelativePath = (),
        to: RestoreTarget | None = None,
        *,
        with_manifest: bool = False,
    ) -> int:
        """Plan to bring back a copy, or what lies below one of its folders, or one file; return the job. What is there
        beside it stays. `to`: it is brought elsewhere. Raises NotFound, and InvalidInput where all of it is as it was."""
        copy = await self._copies.one(site, copy_id)
        target = to or RestoreTarget(site, _THERE, copy.path)
        need(Right.CHANGE, target.site.id)
        manifest = await self._store.manifest(copy_id)
        inside = tuple(one for one in manifest.names if one.below[: len(below)] == below)
        if not inside:
            raise NotFound("This is not in the copy.")
        async with self._browse.side(target.site, target.side) as side:
            now = await read_tree(side, target.folder, Progress())
            missing = await missing_folders(side, target.folder) if now.missing else []
            part = Manifest(inside)
            found = await self._known(side, target.folder, part, now, copy.begun_at.timestamp())
        steps = list(restore_steps(part, now, found))
        if blocked := [one for one in steps if one.now is not None and one.now.kind is not one.copied.entry.kind]:
            where = target.folder.join(blocked[0].copied.below)
            raise InvalidInput(f"{where} is now a different kind. Rename it first.")
        if not steps:
            raise InvalidInput("Nothing has changed since the copy.")
        items = [item for step in steps for item in _items(target.folder, step)]
        if with_manifest:
            items.append(await self._manifest_item(copy, manifest, target.folder))
        items.sort(key=lambda item: _ORDER.index(item.action))
        title = f"Restore of {copy.title} as of {copy.begun_at:%Y-%m-%d %H:%M} UTC"
        folder = target.folder
        job = NewJob(account_id, target.site.id, JobKind.TAKE_BACK, title, target.side, folder, folder)
        return await self._jobs.add(job, [*folder_items(missing), *items])

    async def here(self, account_id: int, site: Site, copy_id: int, folder: SitePath) -> int:
        """Plan to lay a copy down in a folder here that is not there yet, or empty, its manifest with it. Raises Conflict,
        InvalidInput."""
        await self.check_place(folder, site)
        return await self.restore(
            account_id, site, copy_id, (), RestoreTarget(site, SideName.HERE, folder), with_manifest=True
        )

    async def _manifest_item(self, copy: VerifiedCopy, manifest: Manifest, folder: SitePath) -> NewItem:
        kept = await self._kept.put(once(manifest_text(copy, manifest)), held_by=copy.id)
        name = manifest_name(manifest).encode()
        one = Copied((name,), Entry(name, Kind.FILE, kept.size), kept.hash)
        return content_item(folder.child(name), one, None, "its manifest")

    async def check_place(self, folder: SitePath, site: Site) -> None:
        """A copy never lies in what is published, or among other things. Raises InvalidInput, Conflict."""
        published = published_by(folder, [one.start_here for one in await self._sites.all()])
        if published is not None:
            raise InvalidInput(f"{folder} is inside {published}, which is on the web. Choose a folder outside it.")
        async with self._browse.side(site, SideName.HERE) as side:
            tree = await read_tree(side, folder, Progress(), enter=lambda _, __: False)
        if not tree.missing and not tree.is_empty:
            raise Conflict(f"{folder} is not empty. Choose an empty folder for the copy.")

    async def folder(self, site: Site, copy_id: int, below: RelativePath) -> tuple[VerifiedCopy, list[CopyRow]]:
        """One folder of a copy beside the same folder now. Raises NotFound."""
        copy = await self._copies.one(site, copy_id)
        manifest = await self._store.manifest(copy_id)
        then = {one.below[-1]: one for one in manifest.names if one.below[:-1] == below}
        if not then and below and not any(one.below == below and one.entry.is_folder for one in manifest.names):
            raise NotFound("This is not in the copy.")
        async with self._browse.side(site, _THERE) as side:
            tree = await read_tree(side, copy.path.join(below), Progress(), enter=lambda _, __: False)
        now = {one.name: one for one in tree.folders.get((), ())}
        rows = [
            CopyRow(
                name,
                then.get(name),
                now.get(name),
                _difference(then.get(name), now.get(name), copy.begun_at.timestamp()),
            )
            for name in sorted(then.keys() | now.keys())
        ]
        return copy, rows

    async def compared(
        self, site: Site, copy_id: int
    ) -> tuple[VerifiedCopy, tuple[tuple[RelativePath, Difference], ...]]:
        """Every name of a copy that is not as it was, and every name that came since. Raises NotFound."""
        copy = await self._copies.one(site, copy_id)
        async with self._browse.side(site, _THERE) as side:
            now = await read_tree(side, copy.path, Progress())
            manifest = await self._store.manifest(copy_id)
            found = await self._known(side, copy.path, manifest, now, copy.begun_at.timestamp())
        return copy, tuple(sorted(found.items()))

    async def _known(
        self, side: Side, top: SitePath, manifest: Manifest, now: Tree, read_at_s: float
    ) -> dict[RelativePath, Difference]:
        """What is not as it was copied. Files whose time cannot tell are read, and told by their content."""
        found = dict(differences(manifest, now, read_at_s))
        copied = {one.below: one for one in manifest.names}
        gate = asyncio.Semaphore(_AT_ONCE)

        async def _read(below: RelativePath) -> None:
            digest = blake3()
            async with gate:
                try:
                    async for chunk in side.read(top.join(below)):
                        digest.update(chunk)
                except FileMissing:
                    found[below] = Difference.GONE
                    return
            found[below] = Difference.SAME if digest.digest() == copied[below].digest else Difference.CHANGED

        await asyncio.gather(*(_read(below) for below, how in list(found.items()) if how is Difference.UNSURE))
        there = names_of(now)
        for below, how in list(found.items()):
            if how is Difference.SAME:
                # Its content is as it was; its permissions may not be.
                permissions, was = there[below].permissions, copied[below].entry.permissions
                if was is not None and permissions not in (None, was):
                    found[below] = Difference.PERMISSIONS
                else:
                    del found[below]
        return found


def _difference(then: Copied | None, now: Entry | None, read_at_s: float) -> Difference:
    return difference(then.entry if then is not None else None, now, read_at_s)


def _items(top: SitePath, step: RestoreStep) -> list[NewItem]:
    """What brings one name back: a folder gets its permissions after all that goes into it."""
    path, entry = top.join(step.copied.below), step.copied.entry
    needs_permissions = entry.kind is not Kind.LINK and (entry.is_folder or step.permissions_only)
    permissions = (
        permissions_item(path, entry, step.now if step.permissions_only else None) if needs_permissions else None
    )
    after = [permissions] if permissions is not None else []
    if step.permissions_only:
        return after
    if entry.is_folder:
        return [folder_item(path), *after]
    return [content_item(path, step.copied, step.now, "as it was then" if step.now is not None else "comes back")]
