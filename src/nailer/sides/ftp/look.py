"""Looking at what is there by FTP: listings, single names, links; and what is remembered of it for a moment.

FTP has three ways to look, and servers have each in part. MLSD and MLST give facts (RFC 3659); LIST gives text for people;
SIZE and MDTM tell of one file. What one of them cannot say, or says in a way that may not be all, is asked by another. What
remains open is said: a listing carries why it may not be whole, and a name of which nobody can tell raises NotKnown.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import TypeVar

from nailer.core.files.completeness import Incomplete, Lack, Listing, lack_in_words, listing_of, says_nothing_there
from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.listing import (
    Clock,
    Rows,
    offset_of,
    parse_facts,
    parse_facts_rows,
    parse_list,
    parse_time,
    rows_of,
)
from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    FileMissing,
    NotKnown,
    NotSupported,
    PermissionRefused,
    ProtocolViolation,
    ServerFailed,
    TransferError,
    WrongKind,
)
from nailer.sides.ftp.line import FtpLine
from nailer.sides.ftp.links import REFUSED, Links
from nailer.sides.ftp.replies import Reply
from nailer.sides.side import CHUNK_BYTES
from nailer.sides.translate import from_reply

_R = TypeVar("_R")

_MOST_LISTING_BYTES = 256 * 1024 * 1024
_MANY_BYTES = 200_000  # a listing of more is read off the event loop
_FRESH_S = 3.0
_LEAST_CUT = 20  # no server is known that stops earlier
_MEMORY_S = 60.0
_MOST_REMEMBERED = 100_000
_UNKNOWN_COMMAND = (500, 501, 502, 504)


@dataclass(slots=True)
class _Remembered:
    rows: dict[bytes, Entry]
    lack: Incomplete | None
    at_s: float
    counted: int  # of the bound on what is remembered: the names it had when it was listed


class FolderMemory:
    """Folders as they were listed less than a minute ago, with what was done there since by ourselves. It spares listing a
    large folder anew for each file that is carried into it; whether a name is still as remembered is asked by SIZE and
    MDTM each time."""

    def __init__(self) -> None:
        self._folders: OrderedDict[SitePath, _Remembered] = OrderedDict()
        self._names = 0

    def put(self, folder: SitePath, entries: Iterable[Entry], lack: Incomplete | None) -> None:
        """Remember a folder as it was just read."""
        self._drop(folder)
        rows = {one.name: one for one in entries}
        found = _Remembered(rows, lack, time.monotonic(), len(rows) + 1)
        self._folders[folder] = found
        self._names += found.counted
        while len(self._folders) > 1 and self._names > _MOST_REMEMBERED:
            self._drop(next(iter(self._folders)))

    def get(self, folder: SitePath, *, within_s: float = _MEMORY_S) -> Listing | None:
        """A folder that was read within so many seconds, with what we did there since; None otherwise."""
        found = self._folders.get(folder)
        if found is None or time.monotonic() - found.at_s > within_s:
            return None
        return Listing(list(found.rows.values()), found.lack)

    def one(self, path: SitePath, *, within_s: float = _MEMORY_S) -> tuple[bool, Entry | None]:
        """Whether the folder of a name is remembered, and what it holds under that name."""
        found = self._folders.get(path.parent)
        if found is None or time.monotonic() - found.at_s > within_s:
            return False, None
        return True, found.rows.get(path.name)

    def made(self, path: SitePath, entry: Entry) -> None:
        """A name that we made or changed."""
        if (found := self._folders.get(path.parent)) is not None:
            found.rows[path.name] = replace(entry, name=path.name)

    def gone(self, path: SitePath) -> None:
        """A name that we removed."""
        found = self._folders.get(path.parent)
        entry = found.rows.pop(path.name, None) if found is not None else None
        if entry is None or not entry.is_file:
            self._forget_below(path)

    def moved(self, old: SitePath, new: SitePath) -> None:
        """A name that we renamed, over another or not."""
        _, entry = self.one(old)
        self.gone(old)
        if entry is None or not entry.is_file:
            self._forget_below(new)
        if entry is not None:
            self.made(new, entry)
        elif (found := self._folders.get(new.parent)) is not None:
            found.at_s = 0.0  # what it is now nobody has seen

    def doubt(self, folder: SitePath) -> None:
        """Forget a folder: what is in it now is asked anew."""
        self._drop(folder)

    def forget(self) -> None:
        """Forget every folder."""
        self._folders.clear()
        self._names = 0

    def _drop(self, folder: SitePath) -> None:
        old = self._folders.pop(folder, None)
        self._names -= old.counted if old is not None else 0

    def _forget_below(self, path: SitePath) -> None:
        for folder in [one for one in self._folders if one.below(path) is not None]:
            self._drop(folder)


@dataclass(slots=True)
class Learned:
    """What a connection has found out about its server, so that nothing is tried twice. None: not known yet.

    `features` is what FEAT said. `facts_worked` and `facts_refused` are about MLSD, `tells_facts` about MLST. `tells_links`:
    MLSD shows links as links; `stats_links`: MLST does; `hides_links`: MLSD leaves links out or shows what they lead to.
    `lists_hidden`: LIST takes `-a`; `shows_itself`: it shows `.` then. `swaps`: renaming replaces a taken name; `renames`:
    anything can be renamed at all; `stores_over`: a file that is there can be stored again. `new_files` has the permissions
    that a file gets when it is made.
    """

    features: dict[str, str] = field(default_factory=dict)
    offset_s: int | None = None
    home: bytes | None = None
    folders: FolderMemory = field(default_factory=FolderMemory)
    facts_worked: bool = False
    facts_refused: bool = False
    tells_facts: bool = False
    tells_links: bool | None = None
    stats_links: bool | None = None
    hides_links: bool = False
    lists_hidden: bool = True
    shows_itself: bool | None = None
    says_size: bool = True
    size_worked: bool = False
    sets_permissions: bool | None = None
    new_files: int | None = None
    sets_times: bool | None = None
    sets_ahead_s: int = 0
    swaps: bool | None = None
    renames: bool | None = None
    stores_over: bool | None = None
    says_room: bool | None = None

    def look_commands(self, path: SitePath) -> list[bytes]:
        """What asks for one name in the same breath as another command: facts, or size and time, where they are known."""
        if self.tells_facts:
            return [b"MLST " + path.raw]
        return [b"SIZE " + path.raw, b"MDTM " + path.raw] if self.size_worked else []

    @property
    def lists_facts(self) -> bool:
        """True where the server lists facts (MLSD) and was not found to fail at it."""
        return "MLST" in self.features and not self.facts_refused


class Looking:
    """Looks over one line, for one task. What it learns of the server stays with the learned."""

    def __init__(self, learned: Learned, line: FtpLine) -> None:
        self.learned = learned
        self.line = line
        self.links = Links(self)

    async def folder(self, folder: SitePath, *, careful: bool = False) -> Listing:
        """Everything in a folder. Raises FileMissing only where the folder is known not to be there."""
        try:
            entries, lack = await self.read(folder, careful)
        except REFUSED as failed:
            await self.explain(folder, failed, wanted=Kind.FOLDER)
            raise
        self.learned.folders.put(folder, entries, lack)
        return listing_of([await self.links.led(folder.child(one.name), one) for one in entries], lack)

    async def one(self, path: SitePath, *, surely: bool = False) -> Entry:
        """One name. Raises FileMissing where it is known not to be there, NotKnown where nothing tells. `surely`: a link as
        a link even on a server that was never seen to have one, which takes a listing."""
        if path.is_root:
            return Entry(b"", Kind.FOLDER)
        if not self.learned.tells_facts:
            return await self._by_text(path)
        reply = await self.line.ask(b"MLST " + path.raw)
        entry = told(reply, path)
        if entry is None and reply.code in _UNKNOWN_COMMAND:
            self.learned.tells_facts = False
        if entry is None and (reply.is_good or not self.learned.tells_facts):
            return await self._by_text(path)  # it knows no facts, or keeps back what must be known
        if entry is not None and entry.kind is Kind.LINK:
            self.learned.stats_links = True
        if entry is not None and self.learned.stats_links:
            return await self.links.led(path, entry)
        link = await self.links.link_at(path, found=entry is not None, surely=surely)
        if link is not None:
            return await self.links.led(path, link)
        if entry is not None:
            return entry
        refused = from_reply(reply.code, reply.text, path.shown)
        if isinstance(refused, ServerFailed):
            refused = FileMissing("{path} is not there.", path=path, server_words=refused.server_words)
        raise refused

    async def is_there(self, path: SitePath) -> bool:
        """True where there is something under a name."""
        try:
            await self.one(path)
        except FileMissing:
            return False
        return True

    async def explain(self, path: SitePath, failed: TransferError, *, wanted: Kind | None = None) -> None:
        """Raise the most likely cause of a refusal that gives none. FTP has one code (550) for a dozen causes."""
        entry = await self.one(path)
        if wanted is Kind.FOLDER and not entry.opens_as_folder:
            raise WrongKind("{path} is not a folder.", path=path, server_words=failed.server_words) from failed
        if wanted is Kind.FILE and entry.is_folder:
            raise WrongKind("{path} is a folder, not a file.", path=path, server_words=failed.server_words) from failed
        if isinstance(failed, FileMissing):
            sentence = "{path} exists, but the server does not allow reading it."
            raise PermissionRefused(sentence, path=path, server_words=failed.server_words) from failed
        if wanted is not None or not entry.opens_as_folder:
            raise failed

    async def measured_offset(self, folder: SitePath) -> int | None:
        """What the clock of LIST is ahead of UTC, in seconds, by a file's exact time (MDTM); None where nothing says."""
        await self._enter(folder)
        rows, _, _ = await self._list(folder, Clock(time.time()))
        files = [one for one in rows.entries if one.is_file and one.stamp and one.stamp.precision_ns <= 60 * NS]
        newest = max(files, key=lambda one: one.stamp.at_ns if one.stamp else 0, default=None)
        if newest is None or newest.stamp is None:
            return None
        reply = await self.line.ask(b"MDTM " + folder.child(newest.name).raw)
        exact = stamp_in(reply)
        return offset_of(newest.stamp, exact) if exact is not None else None

    async def read(self, folder: SitePath, careful: bool) -> tuple[list[Entry], Incomplete | None]:
        """A folder's listing by whatever way the server answers, facts first."""
        learned = self.learned
        if not learned.lists_facts:
            return await self.text(folder)
        try:
            rows, words = await self._facts(folder)
        except REFUSED as refused:
            if isinstance(refused, PermissionRefused) and learned.facts_worked:
                raise
            entries, lack = await self.text(folder)
            if lack is not None and lack.why is Lack.UNPROVED:
                raise refused from None
            # What refuses facts and gives text is not asked for facts again, unless it gave them once.
            learned.facts_refused = not learned.facts_worked
            return entries, lack
        entries = rows.entries
        lack = self._lack(rows, words)
        if not entries and not rows.shows_itself:
            # Nothing at all, not even itself: some servers answer so where they could not look.
            entries, second = await self.text(folder)
            return entries, lack or second
        if any(one.kind is Kind.LINK for one in entries):
            learned.tells_links = True
        # Some servers say that a name is a link and not where it goes; others hide links altogether, or broken ones.
        untold = any(one.kind is Kind.LINK and one.target is None for one in entries)
        hidden = careful and learned.tells_links is not True and any(one.opens_as_folder for one in entries)
        if untold or hidden or learned.hides_links:
            entries = await self.links.with_links(folder, entries)
        return entries, lack

    async def _facts(self, folder: SitePath) -> tuple[Rows, str]:
        raw, words = await self._lines(b"MLSD " + folder.raw, folder)
        lines, complete = rows_of(raw)
        read = partial(parse_facts_rows, bare=b"\r\n" not in raw)
        rows = await _off_the_loop(raw, read, lines if complete else lines[:-1])
        if not complete:
            rows.unread.append(lines[-1])
        only = rows.entries[0] if len(rows.entries) == 1 and not rows.shows_itself else None
        is_own_name = only is not None and only.is_file and only.name == folder.name
        if is_own_name and not (await self.line.ask(b"CWD " + folder.raw)).is_good:
            raise WrongKind(
                "{path} is not a folder.", path=folder
            )  # some servers list a file as if it were its own folder
        if rows.entries or rows.shows_itself:
            self.learned.facts_worked = True
        elif rows.unread:
            raise ProtocolViolation(
                "The listing of {path} cannot be read.", path=folder, server_words=_shown(rows.unread[0])
            )
        return rows, words

    async def text(self, folder: SitePath) -> tuple[list[Entry], Incomplete | None]:
        """A folder by LIST. That it can be entered was seen first: what is refused then is no missing folder."""
        await self._enter(folder)
        try:
            rows, words, shown_dots = await self._list(folder, self._clock)
        except (FileMissing, ServerFailed, NotSupported) as refused:
            said = refused.server_words or ""
            if says_nothing_there(said):
                return [], Incomplete(Lack.UNPROVED, said)
            sentence = "{path} is there, but the server does not list it."
            raise ServerFailed(sentence, path=folder, server_words=refused.server_words) from refused
        if rows.unread and not rows.entries and not rows.shows_itself:
            raise ProtocolViolation(
                "The listing of {path} cannot be read.", path=folder, server_words=_shown(rows.unread[0])
            )
        if (lack := self._lack(rows, words)) is not None:
            return rows.entries, lack
        if not rows.entries and not rows.shows_itself:
            return [], await self._emptiness(folder, words)
        is_round = _is_round(len(rows.entries)) or _is_round(len(rows.entries) + 2 * rows.shows_itself)
        if is_round and (lack := await self._cut_unsaid(folder, rows)) is not None:
            return rows.entries, lack
        if not shown_dots and not rows.dots:
            return rows.entries, Incomplete(Lack.DOTTED)
        return rows.entries, None

    async def _cut_unsaid(self, folder: SitePath, rows: Rows) -> Incomplete | None:
        """A listing of a round number of rows may have been cut at a limit, and some servers do so without a word: their
        names are asked for in another way, whose limit counts other names."""
        try:
            raw, said = await self._lines(b"NLST", folder)
        except REFUSED:
            return None
        known = {entry.name for entry in rows.entries} | {b".", b".."}
        more = [name for name in rows_of(raw)[0] if name.rpartition(b"/")[2] not in known]
        if not more:
            return lack_in_words(said, 0)
        return Incomplete(Lack.CUT, "", len(rows.entries))

    async def _list(self, folder: SitePath, clock: Clock) -> tuple[Rows, str, bool]:
        """The rows of LIST in the folder that was entered, the server's words, and whether hidden names were asked for."""
        learned = self.learned
        rows, words = Rows([], []), ""
        if learned.lists_hidden:
            try:
                rows, words = await self._list_once(b"LIST -a", folder, clock)
            except (FileMissing, NotSupported, ServerFailed, PermissionRefused):
                pass  # it takes the option for a name, or knows none
            else:
                if rows.entries or rows.unread or rows.shows_itself:
                    learned.shows_itself = rows.shows_itself
                    return rows, words, True
        plain, plain_words = await self._list_once(b"LIST", folder, clock)
        if plain.entries or not learned.lists_hidden:
            # With the option it showed nothing, without it something.
            learned.lists_hidden = False
            return plain, plain_words, False
        return rows, words or plain_words, True

    async def _list_once(self, command: bytes, folder: SitePath, clock: Clock) -> tuple[Rows, str]:
        raw, words = await self._lines(command, folder)
        lines, complete = rows_of(raw)
        rows = await _off_the_loop(raw, lambda read: parse_list(read, clock), lines if complete else lines[:-1])
        if not complete:
            rows.unread.append(lines[-1])
        return rows, words

    async def _emptiness(self, folder: SitePath, words: str) -> Incomplete | None:
        """Why a folder that was listed as empty may hold names; None where it is known to be empty. A server that
        shows a folder itself
        (`.`) when it can look has not looked where it does not."""
        learned = self.learned
        if learned.shows_itself is None and not folder.is_root:
            with contextlib.suppress(*REFUSED):
                # How it lists a folder that holds something: this one's own.
                await self._enter(folder.parent)
                await self._list(folder.parent, self._clock)
                await self._enter(folder)
        if learned.shows_itself or (learned.shows_itself is None and not folder.is_root):
            return Incomplete(Lack.UNPROVED, words)
        try:
            raw, said = await self._lines(b"NLST", folder)
        except REFUSED as refused:
            said = refused.server_words or ""
            return None if says_nothing_there(said) else Incomplete(Lack.UNPROVED, said)
        names = [name for name in rows_of(raw)[0] if name not in (b".", b"..")]
        return Incomplete(Lack.DOUBTED, said) if names else lack_in_words(said, 0)

    def _lack(self, rows: Rows, words: str) -> Incomplete | None:
        if rows.unread:
            return Incomplete(Lack.UNREAD, _shown(rows.unread[0]), len(rows.unread))
        return lack_in_words(words, len(rows.entries) + 2 * rows.shows_itself)

    async def _by_text(self, path: SitePath) -> Entry:
        """One name on a server that has no facts: size and time by their own commands, the rest from its folder."""
        size, stamp = await self._size_and_time(path)
        known, row = self.learned.folders.one(path, within_s=_MEMORY_S if size is not None else _FRESH_S)
        if not known or (row is None and size is not None):
            row = await self._row(path)
        if size is None and row is not None and row.is_file and known:
            row = await self._row(path)  # remembered, and no file any more
        if row is not None:
            if size is not None and row.is_file:
                return replace(row, size=size, stamp=stamp or row.stamp)
            return await self.links.led(path, row)
        if size is not None:
            return Entry(path.name, Kind.FILE, size, stamp)
        listing = self.learned.folders.get(path.parent)
        if listing is not None and listing.may_hide(path.name):
            if (await self.line.ask(b"CWD " + path.raw)).is_good:
                return Entry(path.name, Kind.FOLDER)
            if self.learned.size_worked:
                # Neither a file nor a folder by the two commands that ask for just this name.
                raise FileMissing("{path} is not there.", path=path)
            why = listing.lack.sentence if listing.lack else ""
            raise NotKnown(f"It is not known whether {{path}} exists. {why}".strip(), path=path)
        raise FileMissing("{path} is not there.", path=path)

    async def _size_and_time(self, path: SitePath) -> tuple[int | None, Stamp | None]:
        """The size and the time of a file, or of what a link leads to; None where the server says neither."""
        learned = self.learned
        if not learned.says_size:
            return None, None
        size, changed = await self.line.ask_together([b"SIZE " + path.raw, b"MDTM " + path.raw])
        if size.code in _UNKNOWN_COMMAND:
            learned.says_size = False
            return None, None
        if (count := size_in(size)) is None:
            return None, None
        learned.size_worked = True
        return count, stamp_in(changed)

    async def _row(self, path: SitePath) -> Entry | None:
        """What its folder's listing says of a name, read now."""
        try:
            entries, lack = await self.text(path.parent)
        except REFUSED as refused:
            if (await self.line.ask(b"CWD " + path.raw)).is_good:
                return Entry(path.name, Kind.FOLDER)
            above = await self.one(path.parent)
            if not above.opens_as_folder:
                raise WrongKind("{path} is not a folder.", path=path.parent) from refused
            sentence = "Its folder cannot be read, so it is not known whether {path} exists."
            raise NotKnown(sentence, path=path, server_words=refused.server_words) from refused
        self.learned.folders.put(path.parent, entries, lack)
        return next((one for one in entries if one.name == path.name), None)

    async def _enter(self, folder: SitePath) -> None:
        """Change into a folder. Each time anew: another may have its name by now, and the line would stay in the old one."""
        await self.line.need(b"CWD " + folder.raw, folder.shown)

    async def _lines(self, command: bytes, folder: SitePath) -> tuple[bytes, str]:
        """All bytes of a listing, and what the server said around it, without the folder's own name."""
        line = self.line
        async with line.transfer(command, folder.shown) as channel:
            parts, size = [], 0
            while chunk := await channel.read(CHUNK_BYTES):
                parts.append(chunk)
                size += len(chunk)
                if size > _MOST_LISTING_BYTES:
                    raise ProtocolViolation("The list of {path} is endless; Nailer stopped reading it.", path=folder)
        words = line.said
        for name in sorted((folder.raw, *folder.names), key=len, reverse=True):
            if len(name) > 1:
                words = words.replace(name.decode("utf-8", "replace"), "")
        return b"".join(parts), words

    @property
    def _clock(self) -> Clock:
        return Clock(time.time(), self.learned.offset_s or 0)


def told(reply: Reply, path: SitePath) -> Entry | None:
    """The entry in a good answer to MLST."""
    for raw in reply.lines if reply.is_good else ():
        if (facts := parse_facts(raw.lstrip(b" "))) is not None:
            return replace(facts.entry, name=path.name)
    return None


def shown_in(replies: Sequence[Reply], path: SitePath) -> Entry | None:
    """What the answers to `look_commands` show of a name; None where they show nothing that is sure to be it."""
    if len(replies) == 1:
        return told(replies[0], path)
    if len(replies) == 2 and (size := size_in(replies[0])) is not None:
        return Entry(path.name, Kind.FILE, size, stamp_in(replies[1]))
    return None


def size_in(reply: Reply) -> int | None:
    """The size in an answer to SIZE (RFC 3659, 4)."""
    said = reply.text.split()
    return int(said[0]) if reply.code == 213 and said and said[0].isdigit() and len(said[0]) <= 19 else None


def stamp_in(reply: Reply) -> Stamp | None:
    """The time in an answer to MDTM."""
    return parse_time(reply.lines[0]) if reply.code == 213 and reply.lines else None


async def _off_the_loop(raw: bytes, read: Callable[[list[bytes]], _R], lines: list[bytes]) -> _R:
    """Read rows; many of them in a thread, so that nobody else waits."""
    return await asyncio.to_thread(read, lines) if len(raw) > _MANY_BYTES else read(lines)


def _is_round(number: int) -> bool:
    return number >= _LEAST_CUT and number % 10 == 0


def _shown(row: bytes) -> str:
    return repr(row)[1:][:200]
