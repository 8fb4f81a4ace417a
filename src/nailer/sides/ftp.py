"""The side there by FTP: plain, over explicit TLS, over implicit TLS.

A line of FTP does one thing at a time, so a connection keeps several signed-in lines and lends them out; carrying leaves
one free for browsing. Every command names its whole path: no folder is changed into, except for LIST, whose argument
servers read each in their own way.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
import time
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from nailer.core.abilities import Abilities
from nailer.core.charset import to_wire
from nailer.core.entry import NS, Entry, Kind, Stamp
from nailer.core.listing import Clock, Facts, offset_of, parse_facts, parse_list, parse_time, quoted_path, time_text
from nailer.core.names import is_part_name
from nailer.core.protocol import Protocol
from nailer.core.room import Room, room_of_quota
from nailer.core.sitepath import SitePath
from nailer.errors import (
    AlreadyThere,
    ConnectionDropped,
    EncryptionMissing,
    FileMissing,
    FolderNotEmpty,
    LoginRefused,
    NoSpaceLeft,
    NotSupported,
    OutsideRoot,
    PermissionRefused,
    ProtocolViolation,
    ServerFailed,
    TooManyConnections,
    TransferError,
    WrongKind,
)
from nailer.sides.certificate import authorities
from nailer.sides.connection import Lane, Ran, SignIn, Stage, Wanted
from nailer.sides.dial import resolve
from nailer.sides.ftpline import FtpLine, Reply, has_line_break, line_break
from nailer.sides.recoded import recoded
from nailer.sides.side import CHUNK_BYTES, Digest, Side, whole_by_steps
from nailer.sides.tls import client_context
from nailer.sides.translate import from_reply
from nailer.unbroken import in_thread

_R = TypeVar("_R")
_Entries = list[Entry]  # inside the class `list` is the method

_MOST_LINKS = 40
_MOVED_ALONG = 4  # renamings that go along with the commands of one file
_READ_BYTES = 4 * CHUNK_BYTES
_MOST_LISTING_BYTES = 256 * 1024 * 1024
_STALE_S = 20.0
_LOOK_EVERY_S = 10.0
_FACTS = (
    b"type",
    b"size",
    b"modify",
    b"unix.mode",
    b"unix.owner",
    b"unix.ownername",
    b"unix.group",
    b"unix.groupname",
    b"unix.uid",
    b"unix.gid",
    b"unique",
)
_RawLines = list[bytes]
_Replies = list[Reply]


async def connect(wanted: Wanted) -> FtpConnection:
    """A connection with one signed-in line.

    Raises IdentityUnknown or IdentityChanged before anything secret is sent; EncryptionMissing where TLS is wanted and
    not on offer; HostUnreachable, LoginRefused, TooManyConnections, WeakServer.
    """
    connection = FtpConnection(wanted)
    await connection.begin()
    return connection


# Commands for a content's hash, the best first, with what each computes.
_HASHES = {"HASH": "", "XSHA256": "sha256", "XSHA1": "sha1", "XSHA": "sha1", "XMD5": "md5"}
_DIGEST_BYTES = {"sha512": 64, "sha256": 32, "sha1": 20, "md5": 16}


def digest_of(command: str, text: str) -> Digest | None:
    """The hash in a reply; None where it cannot be read for sure.

    >>> digest_of("HASH", "SHA-1 0-49 da39a3ee5e6b4b0d3255bfef95601890afd80709 a.html").algorithm
    'sha1'
    >>> digest_of("XMD5", "D41D8CD98F00B204E9800998ECF8427E").value[:2].hex()
    'd41d'
    """
    words = text.replace('"', " ").split()
    algorithm = _HASHES[command] or (words[0].lower().replace("-", "") if words else "")
    size = _DIGEST_BYTES.get(algorithm)
    for word in words:
        if size is not None and len(word) == 2 * size and re.fullmatch("[0-9a-fA-F]+", word):
            return Digest(algorithm, bytes.fromhex(word))
    return None


@dataclass(frozen=True, slots=True, eq=False)
class _Moving:
    """A renaming that waits for a line, or for another line's next commands to go along with. `ended` is set by whoever
    sends it, to an error or to None."""

    old: SitePath
    new: SitePath
    ended: asyncio.Future[TransferError | None]

    @property
    def commands(self) -> list[bytes]:
        return [b"RNFR " + self.old.raw, b"RNTO " + self.new.raw]

    def told(self, began: Reply, ended: Reply) -> None:
        """Take the replies to its two commands."""
        error = None
        if not began.is_good:
            error = from_reply(began.code, began.text, self.old.shown)
        elif not ended.is_good:
            error = from_reply(ended.code, ended.text, self.new.shown)
        self.end(error)

    def end(self, error: TransferError | None) -> None:
        if not self.ended.done():
            self.ended.set_result(error)


class FtpConnection:
    """The signed-in lines of one site. One that is cut leaves the others."""

    one_line = False

    def __init__(self, wanted: Wanted) -> None:
        self._wanted = wanted
        self._context = client_context(old_allowed=wanted.manner.old_allowed)
        self._most = max(1, wanted.manner.most)
        self._idle: list[FtpLine] = []
        self._lent: set[FtpLine] = set()
        self._opening = 0
        self._carrying = 0
        self._count = 0
        self._freed = asyncio.Condition()
        self._keeper: asyncio.Task[None] | None = None
        self._addresses: list[str] | None = None
        self._closed = False
        self.features: dict[str, str] = {}
        self.software = ""
        self.tells_links: bool | None = None
        self.lists_hidden = True
        self.offset_s = wanted.manner.offset_s
        self.sets_access: bool | None = None
        self.sets_times: bool | None = None
        self.swaps: bool | None = None
        self.moving: list[_Moving] = []
        self.says_room: bool | None = None
        self.takes_many = True

    @property
    def is_open(self) -> bool:
        if self._closed:
            return False
        return bool(self._lent or self._opening) or any(line.is_clear for line in self._idle)

    @property
    def lines(self) -> int:
        return len(self._idle) + len(self._lent)

    @property
    def most_lines(self) -> int:
        """How many lines may be open: as set, or fewer where the server has refused more."""
        return self._most

    @property
    def lists_facts(self) -> bool:
        return "MLST" in self.features

    @property
    def abilities(self) -> Abilities:
        facts = self.features.get("MLST", "").lower()
        reads_access = not self.lists_facts or "unix.mode" in facts
        return Abilities(
            software=self.software,
            access=False if self.sets_access is False or not reads_access else self.sets_access,
            times=self.sets_times if self.sets_times is not None else ("MFMT" in self.features or None),
            exact_times=self.lists_facts,
            links=self.tells_links,
            resume="STREAM" in self.features.get("REST", "").upper(),
            swap=self.swaps,
            room=self.says_room,
            features=tuple(f"{name} {value}".strip() for name, value in self.features.items()),
        )

    async def begin(self) -> None:
        line = await self._open_line(first=True)
        self._idle.append(line)
        self._keeper = asyncio.create_task(self._keep_alive())

    async def channel(self, lane: Lane) -> Side:
        return recoded(FtpSide(self, lane), self._wanted.manner.charset)

    async def run(self, script: bytes, *, within_s: float) -> Ran:
        raise NotSupported("FTP runs no commands.")

    @contextlib.asynccontextmanager
    async def line(self, lane: Lane) -> AsyncIterator[FtpLine]:
        """A line for one task. Carrying waits rather than take the last one, so that browsing goes on."""
        line = await self._lend(lane)
        line.takes_many = self.takes_many
        try:
            yield line
        finally:
            self.takes_many = line.takes_many
            self._lent.discard(line)
            self._carrying -= lane is Lane.CARRY
            if line.is_clear and not self._closed:
                self._idle.append(line)
            else:
                line.abort()
            await asyncio.shield(self._notify())

    async def measure_offset(self, folder: SitePath) -> int | None:
        """What the clock of LIST is ahead of UTC, in seconds; None where nothing says. Reckoned with from then on."""
        wire = SitePath(tuple(to_wire(name, self._wanted.manner.charset) for name in folder.names))
        measured = await FtpSide(self, Lane.BROWSE).measure_offset(wire)
        if measured is not None:
            self.offset_s = measured
        return measured

    async def raw(self, command: bytes) -> Reply:
        """One command as a person typed it, and the reply. Only what needs no data channel."""
        async with self.line(Lane.BROWSE) as line:
            line.folder = None
            return await line.ask(command)

    async def close(self) -> None:
        self._closed = True
        if self._keeper is not None:
            self._keeper.cancel()
            await asyncio.gather(self._keeper, return_exceptions=True)
        lines, self._idle = self._idle, []
        await asyncio.gather(*(line.close() for line in lines), return_exceptions=True)
        for line in list(self._lent):
            line.abort()

    async def _notify(self) -> None:
        async with self._freed:
            self._freed.notify_all()

    async def _lend(self, lane: Lane) -> FtpLine:
        async with self._freed:
            while True:
                if self._closed:
                    raise ConnectionDropped("The connection was closed.")
                if self._may_take(lane):
                    if line := self._take_idle():
                        self._lent.add(line)
                        self._carrying += lane is Lane.CARRY
                        return line
                    if self.lines + self._opening < self._most:
                        break
                await self._freed.wait()
            self._opening += 1
            self._carrying += lane is Lane.CARRY
        return await self._lend_new(lane)

    async def _lend_new(self, lane: Lane) -> FtpLine:
        try:
            line = await self._open_line(first=False)
        except (TooManyConnections, LoginRefused):
            # It let us in before: a refusal now means that it wants no more lines of us.
            self._carrying -= lane is Lane.CARRY
            self._opening -= 1
            others = self.lines + self._opening
            await self._notify()
            if not others:
                raise
            self._most = others
            self._wanted.wire.note(f"the server takes {others} connections and no more")
            return await self._lend(lane)
        except BaseException:
            self._carrying -= lane is Lane.CARRY
            self._opening -= 1
            await asyncio.shield(self._notify())
            raise
        self._opening -= 1
        self._lent.add(line)
        return line

    def _may_take(self, lane: Lane) -> bool:
        return lane is Lane.BROWSE or self._carrying < max(1, self._most - 1)

    def _take_idle(self) -> FtpLine | None:
        while self._idle:
            line = self._idle.pop()
            if line.is_clear:
                return line
            line.abort()
        return None

    async def _open_line(self, *, first: bool) -> FtpLine:
        wanted = self._wanted
        self._count += 1
        if self._addresses is None:
            self._addresses = await resolve(wanted.where)
            if first:
                wanted.heard(Stage.NAME, ", ".join(self._addresses) or "left to the proxy")
        line = FtpLine(wanted.where, wanted.wire, self._count, passive=wanted.manner.passive)
        await line.open(self._addresses or None)
        try:
            async with asyncio.timeout(60):
                await self._introduce(line, first)
        except TimeoutError as error:
            line.abort()
            raise ConnectionDropped(f"{wanted.where.host} took more than a minute to let us in.") from error
        except BaseException:
            line.abort()
            raise
        return line

    async def _introduce(self, line: FtpLine, first: bool) -> None:
        wanted = self._wanted
        heard = wanted.heard if first else _nothing
        heard(Stage.PORT, f"port {wanted.where.port} answers")
        if wanted.protocol is Protocol.FTP_IMPLICIT:
            await self._encrypt(line, heard)
        greeting = await line.greeting()
        if first:
            self.software = greeting.text
        if wanted.protocol is Protocol.FTP_TLS:
            reply = await line.ask(b"AUTH TLS")
            if reply.code not in (234, 334):
                sentence = f"{wanted.where.host} offers no encryption on port {wanted.where.port}."
                raise EncryptionMissing(sentence, server_words=f"{reply.code} {reply.text}")
            await self._encrypt(line, heard)
        if wanted.protocol is Protocol.FTP:
            heard(Stage.ENCRYPTION, "none")
            heard(Stage.IDENTITY, "nobody can tell")
        await self._sign_in(line, wanted.sign_in)
        if wanted.protocol is not Protocol.FTP:
            await line.protect_data()
        if first:
            await self._learn(line)
        await self._settle_in(line)
        heard(Stage.SIGN_IN, f"signed in as {wanted.sign_in.user}")

    async def _encrypt(self, line: FtpLine, heard: Callable[[Stage, str], None]) -> None:
        await line.start_tls(self._context)
        heard(Stage.ENCRYPTION, line.cipher.partition(",")[0])
        await in_thread(authorities)
        line.met(self._wanted.pinned)
        how = "trusted before" if self._wanted.pinned else "an authority vouches for it"
        heard(Stage.IDENTITY, how)

    async def _sign_in(self, line: FtpLine, sign_in: SignIn) -> None:
        user = sign_in.user.encode(self._wanted.manner.charset, "surrogateescape")
        password = (sign_in.password or "").encode("utf-8", "surrogateescape")
        reply = await line.ask(b"USER " + user)
        if reply.code in (331, 332):
            reply = await line.ask(b"PASS " + password)
        if reply.code not in (230, 202):
            error = from_reply(reply.code, reply.text, "the server")
            if isinstance(error, NotSupported | PermissionRefused | ServerFailed | ProtocolViolation):
                error = LoginRefused("The server refused this user and password.", server_words=error.server_words)
            raise error

    async def _learn(self, line: FtpLine) -> None:
        """What the server offers (RFC 2389)."""
        reply = await line.ask(b"FEAT")
        if reply.code == 211:
            for raw in reply.lines[1:-1]:
                name, _, value = raw.strip().decode("utf-8", "replace").partition(" ")
                if name:
                    self.features[name.upper()] = value

    async def _settle_in(self, line: FtpLine) -> None:
        """What each line needs once: names in UTF-8 where they are an option, the facts we want, bytes as they are."""
        if "UTF8" in self.features and self._wanted.manner.charset == "utf-8":
            await line.ask(b"OPTS UTF8 ON")
        offered = {one.strip("*").lower().encode() for one in self.features.get("MLST", "").split(";")}
        chosen = {one[:-1].lower().encode() for one in self.features.get("MLST", "").split(";") if one.endswith("*")}
        missing = [fact for fact in _FACTS if fact in offered and fact not in chosen]
        if missing:
            everything = [fact for fact in _FACTS if fact in offered]
            await line.ask(b"OPTS MLST " + b"".join(fact + b";" for fact in everything))
        reply = await line.ask(b"TYPE I")
        if not reply.is_good:
            raise from_reply(reply.code, reply.text, "the server")

    async def _keep_alive(self) -> None:
        """A line that lies idle is closed by many servers: say something now and then (NOOP, RFC 959)."""
        while True:
            await asyncio.sleep(_LOOK_EVERY_S)
            stale = [line for line in self._idle if time.monotonic() - line.used_at_s > _STALE_S]
            for line in stale:
                if line not in self._idle:
                    continue
                self._idle.remove(line)
                self._lent.add(line)
                with contextlib.suppress(TransferError):
                    await line.ask(b"NOOP")
                self._lent.discard(line)
                if line.is_clear:
                    self._idle.append(line)
                else:
                    line.abort()
                await self._notify()


def _nothing(stage: Stage, finding: str) -> None:
    """For lines after the first: the stages were told."""


class FtpSide:
    """A side over the lines of a connection. Many callers at once are served by as many lines as there may be."""

    def __init__(self, connection: FtpConnection, lane: Lane) -> None:
        self._connection = connection
        self._lane = lane

    async def list(self, folder: SitePath, *, careful: bool = False) -> list[Entry]:
        return await self._steady(lambda line: self._list(line, folder, careful))

    async def stat(self, path: SitePath) -> Entry:
        if self._connection.tells_links is False:
            return await self._steady(lambda line: self._stat_as_link(line, path))
        return await self._steady(lambda line: self._stat(line, path))

    async def resolve(self, path: SitePath) -> SitePath:
        async def follow(line: FtpLine) -> SitePath:
            done, todo, links = SitePath(), [*path.names], 0
            while todo:
                step = done.child(todo.pop(0))
                entry = await self._stat_as_link(line, step)
                if entry.kind is not Kind.LINK or entry.target is None:
                    done = step
                    continue
                links += 1
                if links > _MOST_LINKS:
                    raise OutsideRoot(f"{path} is a link, or links lead round in a circle.")
                done, names = _from(done, entry.target)
                todo[:0] = names
            return done

        return await self._steady(follow)

    holes_bytes = 0

    async def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        async with self._connection.line(self._lane) as line:
            try:
                async with line.transfer(b"RETR " + path.raw, path.shown, start=start) as channel:
                    while chunk := await channel.read(_READ_BYTES if ahead is None else ahead):
                        yield chunk
            except ServerFailed as failed:
                await self._explain(line, path, failed, wanted=Kind.FILE)

    async def whole(self, path: SitePath) -> tuple[Entry, bytes]:
        return await whole_by_steps(self, path)

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        async with self._connection.line(self._lane) as line:
            return await self._write(line, path, chunks, start)

    async def land(
        self,
        path: SitePath,
        chunks: AsyncIterator[bytes],
        *,
        start: int = 0,
        access: int | None = None,
        stamp: Stamp | None = None,
        free: SitePath | None = None,
    ) -> Entry:
        async with self._connection.line(self._lane) as line:
            await self._write(line, path, chunks, start)
            return await self._finish(line, path, access, stamp, free)

    async def make_folder(self, path: SitePath) -> None:
        async with self._connection.line(self._lane) as line:
            try:
                await line.need(b"MKD " + path.raw, path.shown)
            except (ServerFailed, PermissionRefused) as failed:
                if await self._there(line, path):
                    raise AlreadyThere(f"{path} exists already.", server_words=failed.server_words) from failed
                raise

    async def remove_file(self, path: SitePath) -> None:
        async with self._connection.line(self._lane) as line:
            try:
                await line.need(b"DELE " + path.raw, path.shown)
            except (ServerFailed, PermissionRefused) as failed:
                await self._explain(line, path, failed, wanted=Kind.FILE)

    async def remove_folder(self, path: SitePath) -> None:
        async with self._connection.line(self._lane) as line:
            try:
                await line.need(b"RMD " + path.raw, path.shown)
            except (ServerFailed, PermissionRefused) as failed:
                await self._explain(line, path, failed)
                if await self._list(line, path, careful=False):
                    raise FolderNotEmpty(
                        f"The folder {path} is not empty.", server_words=failed.server_words
                    ) from failed
                raise

    async def rename(self, old: SitePath, new: SitePath, *, replace: bool = False, looked: bool = False) -> None:
        if not (replace or looked):
            async with self._connection.line(self._lane) as line:
                if await self._there(line, new):
                    # RFC 959 does not say what happens to a name that is taken; most servers replace it.
                    raise AlreadyThere(f"{new} exists already.")
                await self._rename(line, old, new)
            return
        try:
            await self._move(old, new)
            if replace:
                self._connection.swaps = self._connection.swaps is not False
        except (AlreadyThere, ServerFailed, PermissionRefused, NotSupported):
            if not replace:
                raise
            async with self._connection.line(self._lane) as line:
                if not await self._there(line, new):
                    raise
                self._connection.swaps = False
                await line.need(b"DELE " + new.raw, new.shown)
                await self._rename(line, old, new)

    async def _move(self, old: SitePath, new: SitePath) -> None:
        """Rename over the first line that is free, or along with what another line sends next: of many small files each
        saves a round trip by that."""
        moving = _Moving(old, new, asyncio.get_running_loop().create_future())
        if any(has_line_break(command) for command in moving.commands):
            raise line_break()  # before it could spoil what it goes along with
        waiting = self._connection.moving
        waiting.append(moving)

        async def by_itself() -> None:
            async with self._connection.line(self._lane) as line:
                if moving in waiting:
                    waiting.remove(moving)
                    await self._send_moving(line, [moving], [], then_more=False)

        own = asyncio.create_task(by_itself())
        try:
            either: set[asyncio.Future[Any]] = {own, moving.ended}
            await asyncio.wait(either, return_when=asyncio.FIRST_COMPLETED)
            if moving in waiting:
                await own  # there was no line to be had: say why
            error = await moving.ended
        finally:
            if moving in waiting:
                waiting.remove(moving)
            own.cancel()
            await asyncio.gather(own, return_exceptions=True)
        if error is not None:
            raise error

    async def _send_moving(
        self, line: FtpLine, moves: Sequence[_Moving], commands: Sequence[bytes], *, then_more: bool
    ) -> _Replies:
        """Send commands, and renamings behind them, together; return the replies to the commands."""
        everything = [*commands, *(command for one in moves for command in one.commands)]
        try:
            replies = await line.ask_together(everything, then_more=then_more)
        except BaseException as failed:
            lost = failed if isinstance(failed, TransferError) else ConnectionDropped("The line was given up.")
            for one in moves:
                one.end(lost)
            raise
        for number, one in enumerate(moves):
            one.told(*replies[len(commands) + 2 * number : len(commands) + 2 * number + 2])
        return replies[: len(commands)]

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        return False

    async def make_link(self, path: SitePath, target: bytes) -> None:
        raise NotSupported("FTP has no command that makes a symbolic link.")

    async def set_attributes(self, path: SitePath, *, access: int | None = None, stamp: Stamp | None = None) -> None:
        connection = self._connection
        async with connection.line(self._lane) as line:
            if stamp is not None and connection.sets_times is not False:
                await self._set_time(line, path, stamp)
            if access is not None and connection.sets_access is not False:
                reply = await self._set_access(line, path, access)
                if not reply.is_good:
                    raise from_reply(reply.code, reply.text, path.shown)

    async def own_hash(self, path: SitePath) -> Digest | None:
        """By HASH (draft-bryan-ftpext-hash) or one of the older commands that many servers have, as FEAT says."""
        features = self._connection.features
        command = next((one for one in _HASHES if one in features), None)
        if command is None:
            return None
        async with self._connection.line(self._lane) as line:
            reply = await line.ask(command.encode() + b" " + path.raw)
        if not reply.is_good:
            return None
        return digest_of(command, reply.text)

    async def home(self) -> SitePath:
        async with self._connection.line(self._lane) as line:
            reply = await line.ask(b"PWD")  # no line ever changes its folder
        said = quoted_path(reply.lines[0]) if reply.code == 257 else None
        return SitePath.parse(said) if said is not None and said.startswith(b"/") else SitePath()

    async def room(self, folder: SitePath) -> Room | None:
        connection = self._connection
        if connection.says_room is False:
            return None
        async with connection.line(self._lane) as line:
            if "AVBL" in connection.features:
                reply = await line.ask(b"AVBL " + folder.raw)
                if reply.code == 213 and reply.text.split()[0].isdigit():
                    connection.says_room = True
                    return Room(0, int(reply.text.split()[0]))
            reply = await line.ask(b"SITE QUOTA")
            found = room_of_quota(one.decode("utf-8", "replace") for one in reply.lines) if reply.is_good else None
            connection.says_room = found is not None
            return found

    async def measure_offset(self, folder: SitePath) -> int | None:
        """What the clock of LIST is ahead of UTC, in seconds, by a file's exact time (MDTM); None where nothing says."""

        async def measure(line: FtpLine) -> int | None:
            listed = await self._list_text(line, folder, Clock(time.time()))
            files = [one for one in listed if one.is_file and one.stamp and one.stamp.precision_ns <= 60 * NS]
            newest = max(files, key=lambda one: one.stamp.at_ns if one.stamp else 0, default=None)
            if newest is None or newest.stamp is None:
                return None
            reply = await line.ask(b"MDTM " + folder.child(newest.name).raw)
            exact = parse_time(reply.lines[0]) if reply.code == 213 else None
            return offset_of(newest.stamp, exact) if exact is not None else None

        return await self._steady(measure)

    async def _steady(self, task: Callable[[FtpLine], Awaitable[_R]]) -> _R:
        """A task that only looks: where a line was closed while it lay idle, once more on another."""
        for last in (False, True):
            async with self._connection.line(self._lane) as line:
                lay_idle = time.monotonic() - line.used_at_s > 1
                try:
                    return await task(line)
                except ConnectionDropped:
                    if last or not lay_idle:
                        raise
        raise AssertionError("the second time returns or raises")

    async def _list(self, line: FtpLine, folder: SitePath, careful: bool) -> _Entries:
        connection = self._connection
        try:
            if not connection.lists_facts:
                entries = await self._list_text(line, folder, self._clock)
            else:
                entries = await self._list_facts(line, folder)
                # Some servers say that a name is a link and not where it goes; others hide links altogether.
                untold = any(one.kind is Kind.LINK and one.target is None for one in entries)
                hidden = careful and connection.tells_links is not True and any(one.opens_as_folder for one in entries)
                if untold or hidden:
                    entries = await self._with_links(line, folder, entries)
        except (ServerFailed, WrongKind, NotSupported) as failed:
            await self._explain(line, folder, failed, wanted=Kind.FOLDER)
        shown = [one for one in entries if not is_part_name(one.name) and b"/" not in one.name]
        return [await self._led(line, folder.child(one.name), one) for one in shown]

    async def _list_facts(self, line: FtpLine, folder: SitePath) -> _Entries:
        found: list[Facts] = []
        for raw in await self._lines(line, b"MLSD " + folder.raw, folder.shown):
            facts = parse_facts(raw)
            if facts is None:
                raise ProtocolViolation(f"The listing of {folder} cannot be read.", server_words=repr(raw)[:200])
            if not facts.is_own and facts.entry.name not in (b".", b".."):
                found.append(facts)
        if any(one.entry.kind is Kind.LINK for one in found):
            self._connection.tells_links = True
        if len(found) == 1 and found[0].entry.is_file and found[0].entry.name in (folder.raw, folder.name):
            raise WrongKind(f"{folder} is no folder.")  # some servers list a file as if it were its own folder
        return [one.entry for one in found]

    async def _list_text(self, line: FtpLine, folder: SitePath, clock: Clock) -> _Entries:
        if line.folder != folder.raw:
            line.folder = None
            await line.need(b"CWD " + folder.raw, folder.shown)
            line.folder = folder.raw
        command = b"LIST -a" if self._connection.lists_hidden else b"LIST"
        try:
            raw = await self._lines(line, command, folder.shown)
        except (FileMissing, NotSupported, ServerFailed):
            if not self._connection.lists_hidden:
                raise
            self._connection.lists_hidden = False
            raw = await self._lines(line, b"LIST", folder.shown)
        listed = parse_list(raw, clock)
        if listed.unread and not listed.entries:
            words = repr(listed.unread[0])[:200]
            raise ProtocolViolation(f"The listing of {folder} cannot be read.", server_words=words)
        return listed.entries

    async def _with_links(self, line: FtpLine, folder: SitePath, entries: _Entries) -> _Entries:
        """MLSD may show a link as what it leads to. LIST shows it: what is a link there is one."""
        links = {one.name: one for one in await self._list_text(line, folder, self._clock) if one.kind is Kind.LINK}
        seen = {one.name: one.kind for one in entries}
        if any(seen.get(name) is not Kind.LINK for name in links):
            self._connection.tells_links = False
        # A link that leads nowhere is left out of MLSD altogether.
        broken = [one for name, one in links.items() if name not in seen]
        return broken + [replace(links[one.name], stamp=one.stamp) if one.name in links else one for one in entries]

    async def _lines(self, line: FtpLine, command: bytes, shown_path: str) -> _RawLines:
        async with line.transfer(command, shown_path) as channel:
            parts, size = [], 0
            while chunk := await channel.read(CHUNK_BYTES):
                parts.append(chunk)
                size += len(chunk)
                if size > _MOST_LISTING_BYTES:
                    raise ProtocolViolation(f"The listing of {shown_path} does not end.")
        return [one for one in b"".join(parts).replace(b"\r\n", b"\n").split(b"\n") if one]

    async def _write(self, line: FtpLine, path: SitePath, chunks: AsyncIterator[bytes], start: int) -> int:
        written = 0
        try:
            async with line.transfer(b"STOR " + path.raw, path.shown, start=start) as channel:
                async for chunk in chunks:
                    for at in range(0, len(chunk), CHUNK_BYTES):
                        await channel.write(chunk[at : at + CHUNK_BYTES])
                    written += len(chunk)
        except ServerFailed as failed:
            if await self._is_full(line, path):
                sentence = f"The server has no room for {path}."
                raise NoSpaceLeft(sentence, server_words=failed.server_words) from failed
            await self._explain(line, path.parent, failed)
            raise
        return written

    async def _finish(
        self, line: FtpLine, path: SitePath, access: int | None, stamp: Stamp | None, free: SitePath | None
    ) -> Entry:
        """Set time and access, look at the file and at the name that must be free: in one round trip where the server
        is known to answer all of it."""
        connection = self._connection
        known = connection.lists_facts and connection.sets_times is not None and connection.sets_access is not None
        if not known:
            if stamp is not None and connection.sets_times is not False:
                await self._set_time(line, path, stamp)
            if access is not None and connection.sets_access is not False:
                await self._set_access(line, path, access)
            if free is not None and await self._there(line, free):
                raise AlreadyThere(f"{free} exists already.")
            return await self._stat(line, path)
        commands = []
        if stamp is not None and connection.sets_times:
            commands.append(self._time_command(path, stamp))
        if access is not None and connection.sets_access:
            commands.append(b"SITE CHMOD %o " % access + path.raw)
        commands += [b"MLST " + path.raw, *([b"MLST " + free.raw] if free is not None else [])]
        moves, connection.moving[:_MOVED_ALONG] = connection.moving[:_MOVED_ALONG], []
        *_, last = replies = await self._send_moving(line, moves, commands, then_more=True)
        if free is not None:
            replies.pop()
            if last.is_good:
                raise AlreadyThere(f"{free} exists already.")
        if (entry := _told(replies[-1], path)) is None or entry.kind is Kind.LINK:
            return await self._stat(line, path)
        return entry

    async def _stat(self, line: FtpLine, path: SitePath) -> Entry:
        if path.is_root:
            return Entry(b"", Kind.FOLDER)
        if self._connection.lists_facts:
            reply = await line.ask(b"MLST " + path.raw)
            if (entry := _told(reply, path)) is not None:
                return await self._led(line, path, entry)
            if reply.code not in (500, 501, 502, 504):
                error = from_reply(reply.code, reply.text, path.shown)
                raise (
                    FileMissing(f"{path} is not there.", server_words=error.server_words)
                    if isinstance(error, ServerFailed)
                    else error
                )
        try:
            around = await self._list_text(line, path.parent, self._clock)
        except ServerFailed as failed:
            raise FileMissing(f"{path.parent} is not there.", server_words=failed.server_words) from failed
        for entry in around:
            if entry.name == path.name:
                return await self._led(line, path, entry)
        raise FileMissing(f"{path} is not there.")

    async def _stat_as_link(self, line: FtpLine, path: SitePath) -> Entry:
        """As `_stat`, a link told from what it leads to also where the server's facts hide it."""
        entry = await self._stat(line, path)
        if path.is_root or not self._connection.lists_facts or self._connection.tells_links is True:
            return entry
        around = await self._list_text(line, path.parent, self._clock)
        return next((one for one in around if one.name == path.name and one.kind is Kind.LINK), entry)

    async def _led(self, line: FtpLine, path: SitePath, entry: Entry) -> Entry:
        """A link with the kind it leads to: what can be entered is a folder, what has a size is a file."""
        if entry.kind is not Kind.LINK:
            return entry
        leads_to: Kind | None = None
        line.folder = None
        if (await line.ask(b"CWD " + path.raw)).is_good:
            return replace(entry, size=0, leads_to=Kind.FOLDER)
        reply = await line.ask(b"SIZE " + path.raw)
        if reply.is_good:
            leads_to = Kind.FILE
        elif reply.code in (500, 502) and entry.target is not None:
            start, names = _from(path.parent, entry.target)
            with contextlib.suppress(TransferError):
                around = await self._list_text(line, start.join(tuple(names)).parent, self._clock)
                leads_to = next((one.kind for one in around if names and one.name == names[-1]), None)
        return replace(entry, size=0, leads_to=None if leads_to is Kind.LINK else leads_to)

    async def _there(self, line: FtpLine, path: SitePath) -> bool:
        try:
            await self._stat(line, path)
        except FileMissing:
            return False
        return True

    async def _explain(
        self, line: FtpLine, path: SitePath, failed: TransferError, *, wanted: Kind | None = None
    ) -> None:
        """Raise what a refusal without a reason most likely means; FTP has one code for a dozen causes."""
        entry = await self._stat(line, path)
        if wanted is Kind.FOLDER and not entry.opens_as_folder:
            raise WrongKind(f"{path} is no folder.", server_words=failed.server_words) from failed
        if wanted is Kind.FILE and entry.is_folder:
            raise WrongKind(f"{path} is a folder, not a file.", server_words=failed.server_words) from failed
        if wanted is not None or not entry.opens_as_folder:
            raise failed

    async def _rename(self, line: FtpLine, old: SitePath, new: SitePath) -> None:
        moving = _Moving(old, new, asyncio.get_running_loop().create_future())
        await self._send_moving(line, [moving], [], then_more=False)
        if (error := await moving.ended) is not None:
            raise error

    async def _set_time(self, line: FtpLine, path: SitePath, stamp: Stamp) -> None:
        connection = self._connection
        connection.sets_times = _learned(connection.sets_times, await line.ask(self._time_command(path, stamp)))

    def _time_command(self, path: SitePath, stamp: Stamp) -> bytes:
        features = self._connection.features
        command = b"MFMT" if "MFMT" in features or not features else b"MDTM"
        return command + b" " + time_text(stamp) + b" " + path.raw

    async def _set_access(self, line: FtpLine, path: SitePath, access: int) -> Reply:
        connection = self._connection
        reply = await line.ask(b"SITE CHMOD %o " % access + path.raw)
        connection.sets_access = _learned(connection.sets_access, reply)
        return reply

    async def _is_full(self, line: FtpLine, path: SitePath) -> bool:
        if "AVBL" not in self._connection.features:
            return False
        reply = await line.ask(b"AVBL " + path.parent.raw)
        return reply.code == 213 and reply.text.split()[0].isdigit() and int(reply.text.split()[0]) < CHUNK_BYTES

    @property
    def _clock(self) -> Clock:
        return Clock(time.time(), self._connection.offset_s or 0)


def _told(reply: Reply, path: SitePath) -> Entry | None:
    """The entry in a good answer to MLST."""
    for raw in reply.lines if reply.is_good else ():
        if (facts := parse_facts(raw.lstrip(b" "))) is not None:
            return replace(facts.entry, name=path.name)
    return None


def _learned(before: bool | None, reply: Reply) -> bool | None:
    """What a reply tells about an ability: a command the server does not know is never asked again."""
    if reply.is_good:
        return True
    return False if reply.code in (500, 501, 502, 504) and before is None else before


def _from(folder: SitePath, target: bytes) -> tuple[SitePath, list[bytes]]:
    """Where a link's text leads, seen from its folder: a start, and the names still to go."""
    start = SitePath() if target.startswith(b"/") else folder
    names: list[bytes] = []
    for name in target.split(b"/"):
        if name == b"..":
            if names:
                names.pop()
            else:
                start = start.parent
        elif name not in (b"", b"."):
            names.append(name)
    return start, names
