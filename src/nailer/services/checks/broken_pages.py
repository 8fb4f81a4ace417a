"""Why a page is blank or broken: everything that can be looked at for one address, gathered at once."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from urllib.parse import urlsplit

from nailer.acting import need
from nailer.bounded import bounded
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import DocumentRoot, SitePath, address_of, path_of
from nailer.core.files.tree import Tree
from nailer.core.people.rights import Right
from nailer.core.site.broken import ChangedLately, Lead, PageEvidence, leads
from nailer.core.site.error_log import FOLDERS, TAIL_BYTES, LogTail, is_error_log, lines_of
from nailer.core.site.findings import REFERENCES
from nailer.core.site.links import visible_letters
from nailer.core.site.names import Names, is_index
from nailer.errors import FileMissing, InvalidInput, TransferError, Unreadable
from nailer.services.checks.ground import here_of, need_whole, roots_there
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files
from nailer.sides.side import Side
from nailer.store.changes import WHAT_WORDS, Change
from nailer.store.sites import Site
from nailer.store.stores import Stores

_LATELY = timedelta(hours=72)
_MOST_LOGS = 3
_MOST_CHANGES = 8
_FLUSH_S = 0.25  # a server may write its log a moment after its answer
_THERE = SideName.THERE


@dataclass(frozen=True, slots=True)
class Diagnosed:
    """An address, what was looked at for it, and where that leads."""

    address: str
    seen: PageEvidence
    leads: tuple[Lead, ...]


@dataclass(frozen=True, slots=True)
class _Ground:
    """What lies where an address leads."""

    path: SitePath | None = None
    entry: Entry | None = None
    entry_here: Entry | None = None
    other: SitePath | None = None
    chain: tuple[tuple[SitePath, int | None], ...] = ()
    by_time: tuple[ChangedLately, ...] = ()
    knows_there: bool = False
    knows_here: bool = False


class BrokenPages:
    def __init__(self, stores: Stores, files: Files, editing: Editing) -> None:
        self._browse: Browse = files.browse
        self._live = editing.live_check
        self._changes = stores.changes
        self._findings = stores.findings

    async def look(self, site: Site, asked: str) -> Diagnosed:
        """Gather what there is about a page, by its web address or its path there. Nothing is changed. Raises InvalidInput
        where it is neither of this site."""
        need_whole(site)
        need(Right.LOOK, site.id)
        address = address_asked(site, asked)
        not_looked: list[str] = []
        try:
            async with self._browse.side(site, _THERE) as side:
                ground = await self._ground(site, side, path_asked(site, address), not_looked)
                before = await self._logs(site, side, ground.path, [])
                seen = await self._fetched(address)
                if seen.fails:
                    await asyncio.sleep(_FLUSH_S)
                unread: list[str] = []
                log, no_log = await self._tail(
                    site, side, before, await self._logs(site, side, ground.path, unread), unread
                )
                room = await self._room(side, ground.path)
        except TransferError as error:
            not_looked.append(f"The files there: {error.what}")
            ground, log, no_log, room = _Ground(), None, "the server could not be reached", None
            seen = await self._fetched(address)
        changes = await self._changed(site)
        seen = replace(
            seen,
            path=ground.path,
            entry=ground.entry,
            entry_here=ground.entry_here,
            other=ground.other,
            chain=ground.chain,
            log=log,
            no_log=no_log,
            room=room,
            changed=_together(changes, ground.by_time),
            missing=await self._missing(site, ground.path),
            not_looked=tuple(dict.fromkeys(not_looked)),
            knows_there=ground.knows_there,
            knows_here=ground.knows_here,
        )
        return Diagnosed(address, seen, tuple(leads(seen)))

    async def _fetched(self, address: str) -> PageEvidence:
        begun = time.monotonic()
        answer, body = await self._live.content(address)
        took_ms = round((time.monotonic() - begun) * 1000)
        is_text = answer.media_type.startswith(("text/html", "application/xhtml"))
        visible = await _visible(body) if is_text and answer.size else None
        return PageEvidence(answer, took_ms, visible)

    async def _ground(self, site: Site, side: Side, path: SitePath | None, not_looked: list[str]) -> _Ground:
        """What lies where the address leads: of a folder its first page, of nothing what is called alike."""
        if path is None:
            return _Ground()
        unseen = len(not_looked)
        entry = await _stat(side, path, not_looked)
        knows_there = len(not_looked) == unseen
        listing = await self._list(side, path if entry is not None and entry.is_folder else path.parent, not_looked)
        if entry is not None and entry.is_folder:
            indexes = [one for one in listing if one.is_file and is_index(one.name)]
            if indexes:
                path, entry = path.child(indexes[0].name), indexes[0]
        other = None
        if entry is None and listing:
            names = Names({path.parent: Tree({(): listing})})
            other = names.other_writing(path)
        above = path.ancestors()[1:-1]
        found = await asyncio.gather(*(_stat(side, one, not_looked) for one in above))
        chain = [(one, seen.permissions if seen is not None else None) for one, seen in zip(above, found, strict=True)]
        if entry is not None:
            chain.append((path, entry.permissions))
        by_time = [
            ChangedLately(path.parent.child(one.name), _time(one), "changed by its time")
            for one in listing
            if one.is_file and one.stamp is not None and datetime.now(UTC) - _time(one) < _LATELY
        ]
        unseen = len(not_looked)
        entry_here = await self._here(site, path, not_looked)
        knows_here = len(not_looked) == unseen
        return _Ground(path, entry, entry_here, other, tuple(chain), tuple(by_time), knows_there, knows_here)

    @staticmethod
    async def _list(side: Side, folder: SitePath, unread: list[str]) -> Sequence[Entry]:
        try:
            return (await side.list(folder)).entries
        except FileMissing:
            return ()
        except TransferError as error:
            unread.append(error.what)
            return ()

    async def _here(self, site: Site, path: SitePath, not_looked: list[str]) -> Entry | None:
        folder = here_of(site, path.parent)
        if folder is None:
            return None
        async with self._browse.side(site, SideName.HERE) as here:
            return await _stat(here, folder.child(path.name), not_looked)

    async def _logs(self, site: Site, side: Side, path: SitePath | None, unread: list[str]) -> dict[SitePath, Entry]:
        """The error logs that may tell of a page, the one that was written last first: beside it, in a folder above, in the
        folder for logs of the account, and of what lies above a document root. Folders that could not be read are added to
        `unread`."""
        roots = [root.folder for root in roots_there(site)]
        above = path.ancestors()[:-1] if path is not None else roots
        parents = [root.parent for root in roots if not root.is_root]
        places = dict.fromkeys([*reversed(above), *parents])
        folders = dict.fromkeys([*places, *(place.child(name) for place in (*parents, *roots) for name in FOLDERS)])
        listings = await asyncio.gather(*(self._list(side, folder, unread) for folder in folders))
        found = [
            (folder.child(one.name), one)
            for folder, entries in zip(folders, listings, strict=True)
            for one in entries
            if one.is_file and is_error_log(one.name)
        ]
        found.sort(key=lambda one: -(one[1].stamp.at_ns if one[1].stamp else 0))
        return dict(found[:_MOST_LOGS])

    async def _tail(
        self,
        site: Site,
        side: Side,
        before: Mapping[SitePath, Entry],
        now: Mapping[SitePath, Entry],
        unread: Sequence[str],
    ) -> tuple[LogTail | None, str]:
        """The log that grew or began while the page was fetched, else the one that was written last."""
        if not now and unread:
            return None, f"none was found, and a possible log folder could not be read ({unread[0]})"
        if not now:
            return None, "no error log was found beside the page, above it, or in the account's folder for logs"
        sizes = {path: before[path].size if path in before else 0 for path in now}
        grown = [path for path, entry in now.items() if entry.size > sizes[path]]
        path = grown[0] if grown else next(iter(now))
        was, entry = sizes[path] if grown else None, now[path]
        start = max(0, entry.size - TAIL_BYTES)
        try:
            data = b"".join([chunk async for chunk in side.read(path, start=start)])
        except TransferError as error:
            return None, error.what
        roots = roots_there(site)
        try:
            lines = await bounded(lines_of, data, roots, is_cut=start > 0)
            new = data[max(0, was - start) :] if was is not None else b""
            fresh = await bounded(lines_of, new, roots, is_cut=False) if new else ()
        except Unreadable as error:
            return None, f"{path}: {error.what}"
        return LogTail(path, lines[-30:], fresh[-30:]), ""

    @staticmethod
    async def _room(side: Side, path: SitePath | None) -> int | None:
        try:
            room = await side.room(path.parent if path is not None else await side.home())
        except TransferError:
            return None
        return room.free_bytes if room is not None else None

    async def _changed(self, site: Site) -> list[ChangedLately]:
        """What Nailer changed there lately, newest first."""
        latest = await self._changes.latest(site.id, side=_THERE, limit=40)
        since = datetime.now(UTC) - _LATELY
        return [_of_change(one) for one in latest if one.at.replace(tzinfo=UTC) > since and one.taken_back_at is None]

    async def _missing(self, site: Site, path: SitePath | None) -> tuple[SitePath, ...]:
        """What a page refers to and does not get, as the last scan found it."""
        if path is None:
            return ()
        stored = [one.finding for one in await self._findings.of(site.id) if one.ignored_at is None]
        return tuple(
            one.path for one in stored if one.kind in REFERENCES and one.path is not None and path in one.pages
        )


def address_asked(site: Site, asked: str) -> str:
    """The web address that somebody means by it or by a path. Raises InvalidInput where it is none of this site."""
    text, roots = asked.strip(), roots_there(site)
    if text.lower().startswith(("http://", "https://")):
        if _own(text, roots) is not None:
            return text
    elif text.startswith("/"):
        path = SitePath.parse(text.encode("utf-8", "surrogateescape"))
        address = address_of(path, roots, is_folder=text.endswith("/"))
        if address is not None:
            return address
    raise InvalidInput(
        f"{text[:80] or 'Nothing'} is not a page of this site. Type its web address, or its path there.",
        fields={"address": "A web address, or a path in the document root."},
    )


def path_asked(site: Site, address: str) -> SitePath | None:
    """The path there that a web address of this site leads to, by whichever of its ways in it is written."""
    own = _own(address, roots_there(site))
    return path_of(own, roots_there(site)) if own is not None else None


def _own(address: str, roots: Sequence[DocumentRoot]) -> str | None:
    """The same address as the settings write its beginning; None where it is another site's, or none at all."""
    try:
        asked = urlsplit(address)
        host, port = (asked.hostname or "").removeprefix("www."), asked.port
    except ValueError:
        return None
    for root in roots:
        own = urlsplit(root.address)
        if host == (own.hostname or "").removeprefix("www.") and port in (None, 80, 443, own.port):
            return asked._replace(scheme=own.scheme, netloc=own.netloc).geturl()
    return None


async def _stat(side: Side, path: SitePath, not_looked: list[str]) -> Entry | None:
    """What is at a path; None where nothing is, or (which is added to `not_looked`) nobody may look."""
    try:
        return await side.stat(path)
    except FileMissing:
        return None
    except TransferError as error:
        if error.retryable:
            raise
        not_looked.append(error.what)
        return None


def _time(entry: Entry) -> datetime:
    return datetime.fromtimestamp(entry.stamp.at_s if entry.stamp is not None else 0, UTC)


def _of_change(one: Change) -> ChangedLately:
    path = one.path
    return ChangedLately(
        path, one.at, WHAT_WORDS[one.what], one.account_name or "", one.id if one.can_be_taken_back else None
    )


def _together(changes: Sequence[ChangedLately], by_time: Sequence[ChangedLately]) -> tuple[ChangedLately, ...]:
    """Changes and times, newest first; of a name that a change tells of, its time says nothing more."""
    told = {one.path for one in changes}
    rest = [one for one in by_time if one.path not in told]
    return tuple(sorted([*changes, *rest], key=lambda one: one.at.replace(tzinfo=UTC), reverse=True)[:_MOST_CHANGES])


async def _visible(body: bytes) -> int | None:
    """How many letters of a page a visitor sees; None where it cannot be read."""
    try:
        return await bounded(visible_letters, body)
    except Unreadable:
        return None
