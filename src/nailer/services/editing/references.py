"""Who refers to a name: the pages and styles of a side are read for it. A rename can rewrite them, too."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from contextlib import aclosing
from dataclasses import dataclass, replace

from nailer.bounded import bounded
from nailer.core.check.references import references, refers, renamed, rewritten, target_of
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import good_name, names_text
from nailer.core.files.sitepath import DocumentRoot, SitePath, address_of, shown_name
from nailer.core.words import count_text
from nailer.errors import AlreadyThere, FileMissing, InvalidInput, TransferError, Unreadable
from nailer.services.files import Browse
from nailer.services.plans import PreparedFiles, Rename, Write
from nailer.sides.side import Side, walk
from nailer.store.sites import Site

_AT_ONCE = 16
_LARGEST_BYTES = 2_000_000
_MOST_FILES = 20_000


@dataclass(frozen=True, slots=True)
class Referrer:
    """A file that refers to what was asked about: how often, and on which lines."""

    path: SitePath
    entry: Entry
    lines: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class FoundReferences:
    """The referrers, how many files were read, and what could not be."""

    referrers: tuple[Referrer, ...]
    read: int
    problems: tuple[str, ...]

    @property
    def count(self) -> int:
        """How many references there are in all."""
        return sum(len(one.lines) for one in self.referrers)

    @property
    def text(self) -> str:
        """`7 references in 3 files`, or that there is none."""
        if not self.referrers:
            return f"Nothing in {count_text(self.read, 'page and style', 'pages and styles')} links to it."
        where = names_text([one.path.name for one in self.referrers])
        return f"{count_text(self.count, 'reference')} in {count_text(len(self.referrers), 'file')}: {where}"


class References:
    def __init__(self, browse: Browse, writing: PreparedFiles) -> None:
        self._browse = browse
        self._writing = writing

    async def to(self, site: Site, side: SideName, paths: Sequence[SitePath]) -> FoundReferences:
        """Who refers to these paths, or to anything in them; what lies in them itself does not count."""
        roots = roots_of(site, side)
        wanted = set(paths)
        found: list[Referrer] = []
        async with self._browse.side(site, side) as reached:
            read, problems = await _read_all(reached, _top(roots, paths))
        for path, entry, data in read:
            if _within(path, wanted):
                continue
            try:
                listed = await bounded(references, path.name, data)
            except Unreadable as error:
                problems.append(f"{path}: {error.what}")
                continue
            hits = [one.line for one in listed if _leads(one.address, path, roots, wanted)]
            if hits:
                found.append(Referrer(path, entry, tuple(hits)))
        return FoundReferences(tuple(found), len(read), tuple(problems))

    async def rename(
        self, account_id: int, site: Site, side: SideName, renames: Mapping[SitePath, bytes]
    ) -> tuple[int, FoundReferences]:
        """Plan renaming names and rewriting what refers to them; return the job and who refers.

        Raises AlreadyThere where a new name is taken, FileMissing.
        """
        renames = {old: name for old, name in renames.items() if old.name != name}
        if not renames:
            raise InvalidInput("The name is the same as before.")
        roots = roots_of(site, side)
        async with self._browse.side(site, side) as reached:
            moves = await _moves(reached, renames)
            read, problems = await _read_all(reached, _top(roots, list(renames)))
        writes, found = [], []
        for path, entry, data in read:
            text, count = await bounded(rewritten, path.name, data, path, renames, roots)
            if count:
                goal = renamed(path, renames)
                reason = f"{count_text(count, 'reference')} rewritten"
                writes.append(Write(goal, text, replace(entry, name=goal.name), reason))
                found.append(Referrer(path, entry, (0,) * count))
        news = [f"{shown_name(old.name)} becomes {shown_name(name)}" for old, name in renames.items()]
        title = f"Rename: {news[0]}" + (f" and {len(news) - 1} more" if len(news) > 1 else "")
        job_id = await self._writing.add(account_id, site, side, title[:200], writes, moves)
        return job_id, FoundReferences(tuple(found), len(read), tuple(problems))

    async def lead_on(
        self, account_id: int, site: Site, side: SideName, leads: Mapping[SitePath, SitePath]
    ) -> tuple[int, FoundReferences]:
        """Plan writing new addresses into what refers to names that went elsewhere; return the job and who refers.

        Raises InvalidInput where nothing refers to them by a name that can be put in.
        """
        roots = roots_of(site, side)
        renames = {old: new.name for old, new in leads.items() if old.parent == new.parent}
        async with self._browse.side(site, side) as reached:
            read, problems = await _read_all(reached, _top(roots, list(leads)))
        writes, found = [], []
        for path, entry, data in read:
            text, count = await bounded(rewritten, path.name, data, path, renames, roots)
            if count:
                writes.append(Write(path, text, entry, f"{count_text(count, 'reference')} rewritten"))
                found.append(Referrer(path, entry, (0,) * count))
        if not writes:
            raise InvalidInput("The files moved to other folders. Update the links to them page by page in the editor.")
        title = f"Links to {names_text([old.name for old in leads])} will point to the new names"
        job_id = await self._writing.add(account_id, site, side, title[:200], writes)
        return job_id, FoundReferences(tuple(found), len(read), tuple(problems))


def better_names(folder: SitePath, belows: Sequence[tuple[bytes, ...]]) -> dict[SitePath, bytes]:
    """Names that will hurt on the web, below a folder, each with a better one."""
    found = {}
    for below in belows:
        for depth in range(1, len(below) + 1):
            if (better := good_name(below[depth - 1])) != below[depth - 1]:
                found[folder.join(below[:depth])] = better
    return found


def roots_of(site: Site, side: SideName) -> tuple[DocumentRoot, ...]:
    """The document roots as a side has them: here they are where the pair maps them. A site that says none has its start
    folder, by an address that nobody else has."""
    roots = site.document_roots or (DocumentRoot(site.start_there, "http://site.invalid/"),)
    if side is SideName.THERE:
        return roots
    mapped = [
        DocumentRoot(site.start_here.join(below), root.address)
        for root in roots
        if (below := root.folder.below(site.start_there)) is not None
    ]
    if mapped:
        return tuple(mapped)
    address = address_of(site.start_there, roots, is_folder=True)
    return (DocumentRoot(site.start_here, address or "http://site.invalid/"),)


def _top(roots: tuple[DocumentRoot, ...], paths: Sequence[SitePath]) -> SitePath:
    """The document root that the paths lie in. Raises InvalidInput where they lie outside all of them."""
    for root in sorted(roots, key=lambda one: -len(one.folder.names)):
        if all(path.below(root.folder) is not None for path in paths):
            return root.folder
    raise InvalidInput("This is outside the folders that the site's web address serves, so no page can link to it.")


async def _moves(side: Side, renames: Mapping[SitePath, bytes]) -> list[Rename]:
    """The renames, deepest first; names that are taken are refused before anything is planned."""
    listed = {
        folder: {one.name: one for one in (await side.list(folder)).entries}
        for folder in {old.parent for old in renames}
    }
    moves = []
    for old, name in sorted(renames.items(), key=lambda one: -len(one[0].names)):
        there = listed[old.parent]
        if old.name not in there:
            raise FileMissing(f"{old} no longer exists.")
        if name in there:
            raise AlreadyThere(f"{old.parent.child(name)} exists already.")
        moves.append(Rename(old, old.parent.child(name), there[old.name]))
    if len({one.new for one in moves}) != len(moves):
        raise AlreadyThere("Two files would get the same name.")
    return moves


async def _read_all(side: Side, top: SitePath) -> tuple[list[tuple[SitePath, Entry, bytes]], list[str]]:
    """Every page and style below a folder with its content, many read at once; and what could not be read."""
    gate, problems = asyncio.Semaphore(_AT_ONCE), []
    wanted: list[tuple[SitePath, Entry]] = []
    async with aclosing(walk(side, top)) as readings:
        async for reading in readings:
            if reading.doubt:
                problems.append(reading.doubt)
            where = top.join(reading.below)
            wanted += [(where.child(_one.name), _one) for _one in reading.entries if _one.is_file and refers(_one.name)]
    if len(wanted) > _MOST_FILES:
        raise InvalidInput(f"There are more than {_MOST_FILES} pages and styles: reading them all would take too long.")

    async def _one(path: SitePath, entry: Entry) -> tuple[SitePath, Entry, bytes] | None:
        if entry.size > _LARGEST_BYTES:
            problems.append(f"{path} is too large to be read for this.")
            return None
        try:
            async with gate:
                now, data = await side.read_all(path)
        except TransferError as error:
            problems.append(error.what)
            return None
        return path, now, data

    read = await asyncio.gather(*(_one(path, entry) for path, entry in wanted))
    return [_one for _one in read if _one is not None], problems


def _within(path: SitePath, wanted: set[SitePath]) -> bool:
    return any(above in wanted for above in path.ancestors())


def _leads(address: str, page: SitePath, roots: tuple[DocumentRoot, ...], wanted: set[SitePath]) -> bool:
    target = target_of(address, page, roots)
    return target is not None and _within(target, wanted)
