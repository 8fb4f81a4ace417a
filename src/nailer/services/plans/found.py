"""Finds what the picked names contain, and what is already at the places where they would land."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence
from dataclasses import replace

from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.core.plans.destination import Around, Sent
from nailer.core.plans.plan import (
    FoundFile,
)
from nailer.errors import FileMissing, InvalidInput, NotKnown, TransferError, WrongKind
from nailer.sides.side import Side, walk
from nailer.store.sites import Site

_LOOKS_AT_ONCE = 32
_MOST_CHILDREN = 12


async def find(
    side: Side, folder: SitePath, names: Sequence[bytes], *, tolerant: bool = False, with_parts: bool = False
) -> list[FoundFile]:
    """The picked names of a folder and all that is in them. `tolerant`: names that are not there are simply absent.
    `with_parts`: half files of Nailer's own, too, which would keep their folder from being removed."""
    found: list[FoundFile] = []
    for one in await picked_entries(side, folder, names, tolerant=tolerant):
        found.append(one)
        if one.entry.is_folder:
            found += await _tree(side, folder.child(one.below[0]), one.below, found, with_parts=with_parts)
    return found


async def picked_entries(
    side: Side, folder: SitePath, names: Sequence[bytes], *, tolerant: bool = False
) -> list[FoundFile]:
    """The picked names of a folder as they stand. What a listing that may not be whole does not show is looked for by its
    name. `tolerant`: names that are known not to be there are simply absent."""
    try:
        listing = await side.list(folder, careful=True)
    except FileMissing:
        if tolerant:
            return []
        raise
    entries = {entry.name: entry for entry in listing.entries}
    unsure = [name for name in names if name not in entries and listing.may_hide(name)]
    looked = await _looked_for(side, folder, [(name,) for name in unsure])
    entries |= {below[0]: entry for below, entry in looked.items()}
    absent = [name for name in names if name not in entries]
    if absent and not tolerant:
        raise FileMissing(f"{folder.child(absent[0])} no longer exists.")
    return [FoundFile((name,), entries[name]) for name in names if name in entries]


async def _looked_for(side: Side, top: SitePath, belows: Iterable[RelativePath]) -> dict[RelativePath, Entry]:
    """Names that are asked for one by one, with what is there under them. Raises NotKnown where that cannot be told."""
    gate = asyncio.Semaphore(_LOOKS_AT_ONCE)

    async def _one(below: RelativePath) -> tuple[RelativePath, Entry | None]:
        async with gate:
            try:
                return below, await side.stat(top.join(below))
            except (FileMissing, WrongKind):
                return below, None

    looked = await asyncio.gather(*(_one(below) for below in belows))
    return {below: entry for below, entry in looked if entry is not None}


async def met_of(
    side: Side, folder: SitePath, there: Sequence[FoundFile], sent: Sequence[FoundFile]
) -> dict[RelativePath, Entry]:
    """What the target has at the names that are sent. In folders whose listing may not be whole each is looked for."""
    met = {one.below: one.entry for one in there}
    doubtful = {one.below for one in there if one.doubt}
    unsure = [one.below for one in sent if one.below[:-1] in doubtful and one.below not in met]
    return met | await _looked_for(side, folder, unsure) if unsure else met


async def all_in(side: Side, folder: SitePath) -> list[Entry]:
    """Everything in a folder. Raises NotKnown where the listing may not be whole."""
    listing = await side.list(folder)
    if listing.lack is not None:
        raise NotKnown(f"What is in {folder} is not all known. {listing.lack.sentence}")
    return listing.entries


def sent_of(found: Sequence[FoundFile]) -> list[Sent]:
    """The tops of what is sent, with the names directly in them."""
    inside: dict[bytes, dict[bytes, bool]] = {one.below[0]: {} for one in found}
    for one in found:
        if len(one.below) == 2:
            inside[one.below[0]][one.below[1]] = one.entry.is_folder
    tops = [one for one in found if len(one.below) == 1]
    return [
        Sent(one.below[0], one.entry.is_folder, frozenset(inside[one.below[0]]), _only(inside[one.below[0]]))
        for one in tops
    ]


def _only(inside: dict[bytes, bool]) -> bytes | None:
    return next(iter(inside)) if len(inside) == 1 and all(inside.values()) else None


async def listed(side: Side, folder: SitePath) -> Around:
    """A folder near the destination; where it cannot be read nothing is known of it, which is no failure."""
    try:
        entries = (await side.list(folder)).entries
    except TransferError:
        return Around(frozenset())
    return Around(frozenset(one.name for one in entries), frozenset(one.name for one in entries if one.is_folder))


async def around(
    side: Side, site: Site, to_side: SideName, source: SitePath, target: SitePath
) -> dict[SitePath, Around]:
    """What lies at and around a destination: itself, its parent, its folders, and where the pair maps the source."""
    starts = (site.start_here, site.start_there)
    own, other = starts if to_side is SideName.THERE else starts[::-1]
    mapped = other.join(below) if (below := source.below(own)) is not None else None
    found = {target: await listed(side, target)}
    wanted = [target.parent, *([mapped] if mapped is not None else [])]
    wanted += [target.child(name) for name in sorted(found[target].folders)[:_MOST_CHILDREN]]
    rest = [one for one in dict.fromkeys(wanted) if one != target and not (one.is_root and to_side is SideName.HERE)]
    return found | dict(zip(rest, await asyncio.gather(*(listed(side, one) for one in rest)), strict=True))


def _belows(paths: Sequence[SitePath], top: SitePath) -> list[RelativePath]:
    """The names from a folder down to each path, without those that lie in another of them."""
    belows: set[RelativePath] = set()
    for path in paths:
        below = path.below(top)
        if not below:
            raise InvalidInput(f"{path} is not below {top}.")
        belows.add(below)
    return sorted(one for one in belows if not any(one[:depth] in belows for depth in range(1, len(one))))


async def _find_deep(
    side: Side, top: SitePath, belows: Sequence[RelativePath], *, with_parents: bool = True
) -> list[FoundFile]:
    """Names from anywhere below a folder with all that is in them, and the folders above them where wanted."""
    entries = await asyncio.gather(*(side.stat(top.join(below)) for below in belows))
    found: dict[RelativePath, FoundFile] = {}
    for below, entry in zip(belows, entries, strict=True):
        for depth in range(1, len(below)) if with_parents else ():
            found.setdefault(below[:depth], FoundFile(below[:depth], Entry(below[depth - 1], Kind.FOLDER)))
        own = [FoundFile(below, entry)]
        if entry.is_folder:
            own += await _tree(side, top.join(below), below, own, with_parts=not with_parents)
        found |= {one.below: one for one in own}
    return list(found.values())


async def met_at(side: Side, top: SitePath, belows: Iterable[RelativePath]) -> dict[RelativePath, Entry]:
    """What a side has at some names below a folder, by the listings of the folders they are in. A name that a listing may
    hide is looked for by itself."""
    wanted: dict[RelativePath, list[RelativePath]] = {}
    for below in belows:
        wanted.setdefault(below[:-1], []).append(below)

    async def _one(folder: RelativePath) -> dict[RelativePath, Entry]:
        try:
            listing = await side.list(top.join(folder), careful=True)
        except (FileMissing, WrongKind):
            return {}
        met = {(*folder, entry.name): entry for entry in listing.entries}
        unsure = [below for below in wanted[folder] if below not in met and listing.may_hide(below[-1])]
        return met | await _looked_for(side, top, unsure) if unsure else met

    found: dict[RelativePath, Entry] = {}
    for part in await asyncio.gather(*(_one(folder) for folder in wanted)):
        found |= part
    return found


async def _tree(
    side: Side, top: SitePath, below: RelativePath, found: list[FoundFile], *, with_parts: bool = False
) -> list[FoundFile]:
    inside: list[FoundFile] = []
    unread: dict[RelativePath, str] = {}
    unsure: dict[RelativePath, str] = {}
    async for reading in walk(side, top, careful=True):
        if reading.problem is not None:
            unread[(*below, *reading.below)] = reading.problem.what
        elif reading.lack is not None:
            unsure[(*below, *reading.below)] = reading.lack.sentence
        entries = [*reading.entries, *(reading.parts if with_parts else ())]
        inside += [FoundFile((*below, *reading.below, entry.name), entry) for entry in entries]
    if unread or unsure:
        for number, one in ((-1, found[-1]), *enumerate(inside)):
            if one.below in unread or one.below in unsure:
                known = replace(one, problem=unread.get(one.below), doubt=unsure.get(one.below, ""))
                (found if number < 0 else inside)[number] = known
    return inside
