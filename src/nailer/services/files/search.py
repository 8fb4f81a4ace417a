"""Searching a tree of either side: hits as they are found, what could not be read said, and an end at any time."""

from __future__ import annotations

from collections.abc import AsyncGenerator
from contextlib import aclosing
from dataclasses import dataclass

from nailer.acting import grant_on
from nailer.core.files.charset import to_wire
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.search import SearchWanted
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.engine.tasks import at_once
from nailer.errors import TransferError
from nailer.services.files.browse import Browse
from nailer.services.files.folder_pair import FolderPair
from nailer.sides.side import CHUNK_BYTES, Side, walk
from nailer.store.sites import Site

_READ_AT_ONCE = 8
_MOST_READ_BYTES = 8 * 1024 * 1024
_SHOWN_AROUND = 40


@dataclass(frozen=True, slots=True)
class Hit:
    """A name that fits, and the line around the text that was found inside; `number` is that line's, from 1 (0: none)."""

    path: SitePath
    entry: Entry
    line: str = ""
    number: int = 0


@dataclass(frozen=True, slots=True)
class Passed:
    """How far the search is: folders read, names seen, and what could not be read."""

    folders: int
    names: int
    problem: str = ""


async def search(side: Side, top: SitePath, wanted: SearchWanted) -> AsyncGenerator[Hit | Passed, None]:
    """Hits under a folder in the order they are found, each folder's progress between them.

    Text is looked for in files up to 8 MiB that are no pictures, sound or archives; several are read at once, and
    reading one ends where the text was found. Links are shown, never entered.
    """
    folders = names = 0
    async with aclosing(walk(side, top)) as readings:
        async for reading in readings:
            folders += 1
            names += len(reading.entries)
            where = top.join(reading.below)
            fitting = [one for one in reading.entries if wanted.fits(one)]
            if wanted.inside:
                async with aclosing(_holding(side, where, fitting, wanted)) as holding:
                    async for hit in holding:
                        yield hit
            else:
                for one in fitting:
                    yield Hit(where.child(one.name), one)
            yield Passed(folders, names, reading.doubt)


async def _holding(
    side: Side, where: SitePath, entries: list[Entry], wanted: SearchWanted
) -> AsyncGenerator[Hit, None]:
    async def _look(entry: Entry) -> Hit | None:
        found = await _line_with(side, where.child(entry.name), wanted.inside)
        return Hit(where.child(entry.name), entry, *found) if found is not None else None

    steps = (_look(one) for one in entries if wanted.may_hold_text(one))
    async with aclosing(at_once(steps, _READ_AT_ONCE)) as ended:
        async for hit in ended:
            if hit is not None:
                yield hit


async def _line_with(side: Side, path: SitePath, text: str) -> tuple[str, int] | None:
    """The line of a file that holds a text, whatever its case, with its number; None where none does or it cannot be
    read."""
    needle, kept, size, lines = text.casefold(), "", 0, 0
    try:
        async with aclosing(side.read(path, ahead=CHUNK_BYTES)) as chunks:
            async for chunk in chunks:
                size += len(chunk)
                shown = kept + chunk.decode("utf-8", "replace")
                at = shown.casefold().find(needle)
                if at >= 0:
                    return _around(shown, at, len(text)), lines + shown.count("\n", 0, at) + 1
                if size > _MOST_READ_BYTES or b"\0" in chunk:
                    return None
                kept = shown[-len(text) - _SHOWN_AROUND :]
                lines += shown.count("\n") - kept.count("\n")
    except TransferError:
        return None
    return None


def _around(text: str, at: int, length: int) -> str:
    begins = max(text.rfind("\n", 0, at) + 1, at - _SHOWN_AROUND)
    ends = text.find("\n", at)
    ends = min(len(text) if ends < 0 else ends, at + length + _SHOWN_AROUND)
    return text[begins:ends].strip()


async def folders_like(browse: Browse, site: Site, side: SideName, folder: SitePath, begun: str) -> list[SitePath]:
    """Folders in a folder whose name begins so, at most twenty. Raises what reading the folder raises."""
    listing = await browse.listing(site, side, folder, max_age_s=600)
    wanted = begun.casefold()
    names = [one.name for one in listing.entries if one.opens_as_folder]
    return [folder.child(name) for name in sorted(names) if shown_name(name).casefold().startswith(wanted)][:20]


def names_beyond_ascii(browse: Browse, site: Site, most: int = 40) -> list[bytes]:
    """Names of the server that were read and hold more than ASCII, as the server keeps them: what a character set
    must explain."""
    found: dict[bytes, None] = {}
    for (side, _), listing in browse.memory(site.id).listings.items():
        if side is SideName.THERE:
            found |= {to_wire(one.name, site.charset): None for one in listing.entries if not one.name.isascii()}
    return list(found)[:most]


def known_folders(browse: Browse, site: Site, text: str) -> list[FolderPair]:
    """Folders of a site that were read and whose name holds `text`: nothing is asked of the server."""
    found: dict[FolderPair, None] = {}
    grant = grant_on(site.id)
    for (side, folder), listing in browse.memory(site.id).listings.items():
        if grant is not None and not grant.reaches(side, folder):
            continue
        start, other = (
            (site.start_here, site.start_there) if side is SideName.HERE else (site.start_there, site.start_here)
        )
        below = folder.below(start)
        if below is None:
            continue
        for entry in listing.entries:
            if entry.is_folder and text in shown_name(entry.name).casefold():
                one, two = folder.child(entry.name), other.join((*below, entry.name))
                found[(one, two) if side is SideName.HERE else (two, one)] = None
    return list(found)
