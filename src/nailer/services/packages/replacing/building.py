"""The items of the job that builds a version: beside the old one, or name by name in its place; and whether it is whole."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Iterator
from dataclasses import replace

from nailer.core.files.entry import Entry, Kind
from nailer.core.files.names import landing_rank
from nailer.core.files.permissions import octal
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import Tree
from nailer.core.packages.manifest import Copied, Manifest, names_of
from nailer.core.packages.replacing import same_content
from nailer.core.plans.plan import Action, Verdict
from nailer.errors import FileMissing
from nailer.services.files import Progress, read_tree
from nailer.sides.side import Side
from nailer.store.jobs import NewItem

_AT_ONCE = 16
_WORTH_COPYING = 64 * 1024


def folder_item(path: SitePath, reason: str = "comes back") -> NewItem:
    """The item that makes a folder."""
    return NewItem(Action.MAKE_FOLDER, Verdict.NEW, reason, path, path, Entry(path.name, Kind.FOLDER))


def permissions_item(path: SitePath, entry: Entry, seen: Entry | None) -> NewItem | None:
    """The item that gives a file or folder its permissions; None where that is not known, or a link's."""
    if entry.permissions is None or entry.kind is Kind.LINK:
        return None
    wanted = replace(entry, name=path.name, size=0)
    expected = replace(seen, size=0) if seen is not None else None
    return NewItem(
        Action.SET_PERMISSIONS, Verdict.SETS, f"gets {octal(entry.permissions)}", path, path, wanted, expected
    )


def content_item(
    path: SitePath, one: Copied, now: Entry | None, reason: str, *, same: SitePath | None = None
) -> NewItem:
    """The item that gives a file its content, or makes a link. `same` is a name on that side that holds the same."""
    verdict = Verdict.REPLACES if now is not None else Verdict.NEW
    return NewItem(Action.RESTORE, verdict, reason, same or path, path, one.entry, now, one.digest)


def beside(fresh: SitePath, result: Manifest, place: SitePath, now: Manifest) -> list[NewItem]:
    """Build a whole version under a name of its own: folders, then files and links, then the permissions of folders. What
    lies at `place` already need not go over the wire again where the server copies; small files go as fast."""
    lies = {one.digest: place.join(one.below) for one in now.files if one.entry.size >= _WORTH_COPYING}
    folders = [one for one in result.names if one.entry.is_folder]
    others = [one for one in result.names if not one.entry.is_folder]
    items = [folder_item(fresh, "is built here")]
    items += [folder_item(fresh.join(one.below), "is built here") for one in folders]
    items += [
        content_item(fresh.join(one.below), one, None, "is built here", same=lies.get(one.digest))
        for one in _by_rank(others)
    ]
    permissions = [permissions_item(fresh.join(one.below), one.entry, None) for one in reversed(folders)]
    return [*items, *(one for one in permissions if one is not None)]


def one_by_one(place: SitePath, result: Manifest, now: Manifest) -> list[NewItem]:
    """Bring a version into the place of another name by name: what pages refer to first, then pages."""
    before = {one.below: one for one in now.names}
    made = [folder_item(place.join(one.below), "comes with it") for one in result.names if _is_new_folder(one, before)]
    changed = [one for one in result.names if not one.entry.is_folder and _differs(one, before.get(one.below))]
    written = []
    for one in _by_rank(changed):
        was = before.get(one.below)
        path = place.join(one.below)
        written.append(content_item(path, one, was.entry if was is not None else None, "the new version's"))
    return [*made, *written]


def leftovers(place: SitePath, result: Manifest, now: Manifest) -> list[NewItem]:
    """What goes once every name of the new version is there: files, then the folders that are empty then."""
    after = {one.below for one in result.names}
    gone = [one for one in now.names if one.below not in after]
    files = [(Action.REMOVE, one, "is not in the new version") for one in gone if not one.entry.is_folder]
    folders = [(Action.REMOVE_FOLDER, one, "is empty then") for one in reversed(gone) if one.entry.is_folder]
    items = []
    for action, one, reason in [*files, *folders]:
        path = place.join(one.below)
        items.append(NewItem(action, Verdict.REMOVES, reason, path, path, one.entry, one.entry))
    return items


def _by_rank(names: list[Copied]) -> list[Copied]:
    return sorted(names, key=lambda one: landing_rank(one.entry.name))


def _is_new_folder(one: Copied, before: dict[tuple[bytes, ...], Copied]) -> bool:
    was = before.get(one.below)
    return one.entry.is_folder and (was is None or not was.entry.is_folder)


def _differs(one: Copied, was: Copied | None) -> bool:
    return was is None or not same_content(one, was)


def unlike(result: Manifest, tree: Tree) -> Iterator[str]:
    """Where what was built is not what was wanted: names, kinds, sizes, link targets; each in a sentence."""
    there = names_of(tree)
    wanted = {one.below: one.entry for one in result.names}
    for below, why in tree.problems.items():
        yield f"{_shown(below)} could not be read: {why}"
    for below in sorted(there.keys() - wanted.keys()):
        yield f"{_shown(below)} exists but was not created by Nailer"
    for below, entry in wanted.items():
        found = there.get(below)
        if found is None:
            yield f"{_shown(below)} is not there"
        elif found.kind is not entry.kind:
            yield f"{_shown(below)} is of another kind"
        elif entry.is_file and found.size != entry.size:
            yield f"{_shown(below)} has {found.size} bytes, not {entry.size}"
        elif entry.kind is Kind.LINK and found.target != entry.target:
            yield f"{_shown(below)} leads elsewhere"


async def other_content(
    side: Side, top: SitePath, result: Manifest, hashed: Callable[[bytes, str], Awaitable[bytes]]
) -> list[str]:
    """Files whose content is not what was wanted, by the server's own hashes; none where it has no hashes. `hashed` gives
    the hash of a kept content by another algorithm."""
    gate = asyncio.Semaphore(_AT_ONCE)

    async def _one(one: Copied) -> str:
        async with gate:
            said = await side.own_hash(top.join(one.below))
        if said is None or one.digest is None or await hashed(one.digest, said.algorithm) == said.value:
            return ""
        return f"{_shown(one.below)} has another content than was sent"

    files = result.files
    if not files or await side.own_hash(top.join(files[0].below)) is None:
        return []
    return [text for text in await asyncio.gather(*(_one(one) for one in files)) if text]


async def clear(side: Side, top: SitePath) -> None:
    """Remove a folder of Nailer's own with everything in it; fine where it is not there."""
    tree = await read_tree(side, top, Progress())
    if tree.missing:
        return
    gate = asyncio.Semaphore(_AT_ONCE)

    async def _file(path: SitePath) -> None:
        async with gate:
            with contextlib.suppress(FileMissing):
                await side.remove_file(path)

    names = names_of(tree)
    await asyncio.gather(*(_file(top.join(below)) for below, entry in names.items() if not entry.is_folder))
    for below in sorted((below for below, entry in names.items() if entry.is_folder), key=len, reverse=True):
        await side.remove_folder(top.join(below))
    await side.remove_folder(top)


def _shown(below: tuple[bytes, ...]) -> str:
    return b"/".join(below).decode("utf-8", "replace") or "the folder"
