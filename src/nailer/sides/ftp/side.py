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
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable
from typing import TypeVar

from nailer.core.connecting.abilities import Abilities
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.charset import to_wire
from nailer.core.files.completeness import Listing
from nailer.core.files.entry import Entry, Kind, Stamp
from nailer.core.files.listing import quoted_path
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.plans.room import Room, room_of_quota
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
)
from nailer.sides.connection import CommandResult, Lane, SignIn, Stage, Wanted
from nailer.sides.dial import resolve
from nailer.sides.ftp.finishing import Finishing, WantedPermissions
from nailer.sides.ftp.line import FtpLine, line_break
from nailer.sides.ftp.links import from_link
from nailer.sides.ftp.look import Learned, Looking
from nailer.sides.ftp.renaming import Moving, Renaming
from nailer.sides.ftp.replies import Reply, has_line_break
from nailer.sides.ftp.tls import client_context
from nailer.sides.identities.certificate import authorities
from nailer.sides.recoded import recoded
from nailer.sides.seen import see_gone, see_landed, see_made
from nailer.sides.side import CHUNK_BYTES, Digest, Names, Side, look, once, read_all_by_steps
from nailer.sides.translate import demands_encryption, from_reply
from nailer.unbroken import in_thread

_R = TypeVar("_R")

_MOST_LINKS = 40
_READ_BYTES = 4 * CHUNK_BYTES
_STALE_S = 20.0
_CHEAP_S = 5.0
_LOOK_EVERY_S = 10.0
_NOT_THERE = (450, 550)
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
        self._transferring = 0
        self._count = 0
        self._freed = asyncio.Condition()
        self._keeper: asyncio.Task[None] | None = None
        self._addresses: list[str] | None = None
        self._closed = False
        self.learned = Learned(offset_s=wanted.manner.offset_s)
        self.software = ""
        self.moving: list[Moving] = []
        self.takes_many = True

    @property
    def is_open(self) -> bool:
        """True while at least one line can be used."""
        if self._closed:
            return False
        return bool(self._lent or self._opening) or any(line.is_clear for line in self._idle)

    @property
    def lines(self) -> int:
        """How many lines are open."""
        return len(self._idle) + len(self._lent)

    @property
    def most_lines(self) -> int:
        """How many lines may be open: as set, or fewer where the server has refused more."""
        return self._most

    @property
    def lists_facts(self) -> bool:
        """True where listings come as facts (RFC 3659, 7), with times in UTC."""
        return self.learned.lists_facts

    @property
    def abilities(self) -> Abilities:
        """What the server announces (FEAT, RFC 2389), corrected by what trying has shown."""
        learned, features = self.learned, self.learned.features
        reads_permissions = not self.lists_facts or "unix.mode" in features.get("MLST", "").lower()
        return Abilities(
            software=self.software,
            permissions=False
            if learned.sets_permissions is False or not reads_permissions
            else learned.sets_permissions,
            times=learned.sets_times if learned.sets_times is not None else ("MFMT" in features or None),
            exact_times=self.lists_facts,
            links=learned.tells_links,
            resume="STREAM" in features.get("REST", "").upper(),
            swap=learned.swaps,
            renames=learned.renames,
            room=learned.says_room,
            features=tuple(f"{name} {value}".strip() for name, value in features.items()),
        )

    async def begin(self) -> None:
        """Open and sign in the first line."""
        line = await self._open_line(first=True)
        self._idle.append(line)
        self._keeper = asyncio.create_task(self._keep_alive())

    async def channel(self, lane: Lane) -> Side:
        """A side over the lines of this connection; a lane is only who waits for whom."""
        return recoded(FtpSide(self, lane), self._wanted.manner.charset)

    async def run(self, script: bytes, *, within_s: float) -> CommandResult:
        """FTP runs no commands: raises NotSupported."""
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
            self._transferring -= lane is Lane.TRANSFER
            if line.is_clear and not self._closed:
                self._idle.append(line)
            else:
                line.abort()
            await asyncio.shield(self._notify())

    async def measure_offset(self, folder: SitePath) -> int | None:
        """What the clock of LIST is ahead of UTC, in seconds; None where nothing says. Reckoned with from then on."""
        raw = SitePath(tuple(to_wire(name, self._wanted.manner.charset) for name in folder.names))
        measured = await FtpSide(self, Lane.BROWSE).measure_offset(raw)
        if measured is not None:
            self.learned.offset_s = measured
        return measured

    async def raw(self, command: bytes) -> Reply:
        """One command as a person typed it, and the reply. Only what needs no data channel."""
        async with self.line(Lane.BROWSE) as line:
            self.learned.folders.forget()
            return await line.ask(command)

    async def close(self) -> None:
        """Close every line."""
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
                        self._transferring += lane is Lane.TRANSFER
                        return line
                    if self.lines + self._opening < self._most:
                        break
                await self._freed.wait()
            self._opening += 1
            self._transferring += lane is Lane.TRANSFER
        return await self._lend_new(lane)

    async def _lend_new(self, lane: Lane) -> FtpLine:
        try:
            line = await self._open_line(first=False)
        except (TooManyConnections, LoginRefused):
            # It let us in before: a refusal now means that it wants no more lines of us.
            self._transferring -= lane is Lane.TRANSFER
            self._opening -= 1
            others = self.lines + self._opening
            await self._notify()
            if not others:
                raise
            self._most = others
            self._wanted.log.note(f"the server takes {others} connections and no more")
            return await self._lend(lane)
        except BaseException:
            self._transferring -= lane is Lane.TRANSFER
            self._opening -= 1
            await asyncio.shield(self._notify())
            raise
        self._opening -= 1
        self._lent.add(line)
        return line

    def _may_take(self, lane: Lane) -> bool:
        return lane is Lane.BROWSE or self._transferring < max(1, self._most - 1)

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
        line = FtpLine(wanted.where, wanted.log, self._count, passive=wanted.manner.passive)
        await line.open(self._addresses or None)
        try:
            async with asyncio.timeout(60):
                await self._introduce(line, first)
        except TimeoutError as error:
            line.abort()
            raise ConnectionDropped(f"{wanted.where.host} took more than one minute to accept the sign-in.") from error
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
            heard(Stage.IDENTITY, "unknown")
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
        how = "trusted before" if self._wanted.pinned else "signed by a trusted authority"
        heard(Stage.IDENTITY, how)

    async def _sign_in(self, line: FtpLine, sign_in: SignIn) -> None:
        user = sign_in.user.encode(self._wanted.manner.charset, "surrogateescape")
        password = (sign_in.password or "").encode("utf-8", "surrogateescape")
        reply = await line.ask(b"USER " + user)
        if reply.code in (331, 332):
            reply = await line.ask(b"PASS " + password)
        if reply.code not in (230, 202):
            code = 530 if demands_encryption(reply.text) else reply.code  # some say 550, and mean that
            error = from_reply(code, reply.text, "the server")
            if isinstance(error, NotSupported | PermissionRefused | ServerFailed | ProtocolViolation):
                error = LoginRefused(
                    "The server rejected this user name and password.", server_words=error.server_words
                )
            raise error

    async def _learn(self, line: FtpLine) -> None:
        """What the server offers (RFC 2389)."""
        reply = await line.ask(b"FEAT")
        if reply.code == 211:
            for raw in reply.lines[1:-1]:
                name, _, value = raw.strip().decode("utf-8", "replace").partition(" ")
                if name:
                    self.learned.features[name.upper()] = value
        self.learned.tells_facts = "MLST" in self.learned.features
        # Before any folder is changed into.
        where = await line.ask(b"PWD")
        self.learned.home = quoted_path(where.lines[0]) if where.code == 257 and where.lines else None

    async def _settle_in(self, line: FtpLine) -> None:
        """What each line needs once: names in UTF-8 where they are an option, the facts we want, bytes as they are."""
        if "UTF8" in self.learned.features and self._wanted.manner.charset == "utf-8":
            await line.ask(b"OPTS UTF8 ON")
        offered = {one.strip("*").lower().encode() for one in self.learned.features.get("MLST", "").split(";")}
        chosen = {
            one[:-1].lower().encode() for one in self.learned.features.get("MLST", "").split(";") if one.endswith("*")
        }
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
        self.connection = connection
        self.lane = lane
        self.renaming = Renaming(self)
        self.finishing = Finishing(self)

    async def rename(
        self,
        old: SitePath,
        new: SitePath,
        *,
        replace: bool = False,
        looked: bool = False,
        landed: Entry | None = None,
    ) -> None:
        return await self.renaming.rename(old, new, replace=replace, looked=looked, landed=landed)

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        return await self.renaming.rename_both(first, second)

    async def list(self, folder: SitePath, *, careful: bool = False) -> Listing:
        """A folder's names, by facts (MLSD), text (LIST) or names alone (NLST), whichever keeps least back."""
        return await self._steady(lambda line: self.looking(line).folder(folder, careful=careful))

    async def stat(self, path: SitePath) -> Entry:
        """One name: by MLST where there is one, else out of its folder's listing."""
        return await self._steady(lambda line: self.looking(line).one(path))

    async def look_anew(self, path: SitePath) -> Entry | None:
        """What stands under a name, of which nothing is remembered; None where it is known that nothing does."""
        self._learned.folders.doubt(path.parent)
        return await look(self, path)

    async def resolve(self, path: SitePath) -> SitePath:
        """The path as the server calls it after entering the folder (CWD, PWD)."""

        async def _follow(line: FtpLine) -> SitePath:
            done, todo, links = SitePath(), [*path.names], 0
            while todo:
                step = done.child(todo.pop(0))
                entry = await self.looking(line).one(step, surely=True)
                if entry.kind is not Kind.LINK or entry.target is None:
                    done = step
                    continue
                links += 1
                if links > _MOST_LINKS:
                    raise OutsideRoot("{path} is a symbolic link, or its links form a loop.", path=path)
                done, names = from_link(done, entry.target)
                todo[:0] = names
            return done

        return await self._steady(_follow)

    holes_bytes = 0

    @property
    def renames(self) -> bool | None:
        """Whether the server renames at all. None until that was tried on this connection."""
        return self._learned.renames

    @renames.setter
    def renames(self, works: bool | None) -> None:
        self._learned.renames = works

    async def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        """A file's bytes (RETR), from `start` on by REST (RFC 3659, 5)."""
        async with self.connection.line(self.lane) as line:
            try:
                async with line.transfer(b"RETR " + path.raw, path.shown, start=start) as channel:
                    while chunk := await channel.read(_READ_BYTES if ahead is None else ahead):
                        yield chunk
            except (ServerFailed, PermissionRefused) as failed:
                await self.looking(line).explain(path, failed, wanted=Kind.FILE)

    async def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        """A file's entry and bytes, one step after another: FTP has nothing in between."""
        return await read_all_by_steps(self, path)

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        """Write a file (STOR), or go on behind what is there (REST, else APPE)."""
        async with self.connection.line(self.lane) as line:
            return await self._write(line, path, chunks, start)

    async def land(
        self,
        path: SitePath,
        chunks: AsyncIterator[bytes],
        *,
        start: int = 0,
        permissions: int | None = None,
        at_most: int | None = None,
        stamp: Stamp | None = None,
        free: SitePath | None = None,
    ) -> Entry:
        """As `write`, then permissions, time and a look together, in as few round trips as the server bears."""
        async with self.connection.line(self.lane) as line:
            bits = permissions if permissions is not None else at_most
            if bits is not None and not start and self.finishing.begins_shut(bits):
                await self._make_shut(line, path, bits)
            written = await self._write(line, path, chunks, start)
            try:
                landed = await self.finishing.finish(line, path, WantedPermissions(permissions, at_most), stamp, free)
            except FileMissing:
                landed = None
        if landed is not None and landed.size == start + written:
            return landed
        return await see_landed(self.look_anew, path, start + written)

    async def _make_shut(self, line: FtpLine, path: SitePath, permissions: int) -> None:
        """Make an empty file with these permissions. A server that lets nothing be stored over it, which is tried once,
        makes the file as it likes."""
        learned = self._learned
        await self._write(line, path, once(b""), 0)
        await self.finishing.set_permissions(line, path, permissions)
        if learned.stores_over is None:
            try:
                await self._write(line, path, once(b""), 0)
                learned.stores_over = True
            except (ServerFailed, PermissionRefused):
                learned.stores_over = False
        if learned.stores_over is False:  # found out now, or by another line meanwhile
            await self._removed(line, b"DELE ", path)

    async def make_folder(self, path: SitePath) -> None:
        """Make a folder (MKD); a reply of failure is explained by looking. That it is there shows by entering it (CWD)."""
        if has_line_break(path.raw):
            raise line_break()
        async with self.connection.line(self.lane) as line:
            reply, entered = await line.ask_together([b"MKD " + path.raw, b"CWD " + path.raw])
            try:
                if not reply.is_good:
                    raise from_reply(reply.code, reply.text, path.shown)
            except (ServerFailed, PermissionRefused, NotSupported) as failed:
                if await self.looking(line).is_there(path):
                    raise AlreadyThere(
                        "{path} exists already.", path=path, server_words=failed.server_words
                    ) from failed
                raise
        if not entered.is_good:
            await see_made(self.look_anew, path)
        self._learned.folders.made(path, Entry(path.name, Kind.FOLDER))

    async def remove_file(self, path: SitePath) -> None:
        """Remove a file or a link (DELE)."""
        async with self.connection.line(self.lane) as line:
            try:
                gone = await self._removed(line, b"DELE ", path)
            except (ServerFailed, PermissionRefused) as failed:
                await self.looking(line).explain(path, failed, wanted=Kind.FILE)
                raise
        if not gone:
            await see_gone(self.look_anew, path)
        self._learned.folders.gone(path)

    async def _removed(self, line: FtpLine, verb: bytes, path: SitePath) -> bool:
        """Ask for a removal, and look in the same breath; True where the look shows it done. Raises what a refusal means."""
        learned = self._learned
        looks = learned.look_commands(path)
        if not learned.tells_facts and verb == b"RMD ":
            looks = [b"CWD " + path.raw]
        commands = [verb + path.raw, *looks]
        if any(has_line_break(command) for command in commands):
            raise line_break()
        reply, *looked = await line.ask_together(commands)
        if not reply.is_good:
            raise from_reply(reply.code, reply.text, path.shown)
        _, known = learned.folders.one(path)
        # A link may show to neither command while it is there: only what was seen to be no link is known to be gone.
        tells = (
            verb == b"RMD " or (known is not None and known.is_file) or (learned.tells_facts and learned.tells_links)
        )
        return bool(looked and tells) and looked[0].code in _NOT_THERE

    async def remove_folder(self, path: SitePath) -> None:
        """Remove an empty folder (RMD). Servers that empty it themselves are not trusted: it is looked at first."""
        async with self.connection.line(self.lane) as line:
            try:
                gone = await self._removed(line, b"RMD ", path)
            except (ServerFailed, PermissionRefused) as failed:
                looking = self.looking(line)
                await looking.explain(path, failed)
                inside = await looking.folder(path, careful=True)
                if inside.entries or inside.parts:
                    # A link may show in no other listing, so that nobody would find what keeps the folder.
                    link = next((one for one in inside.entries if one.kind is Kind.LINK), None)
                    holds = f": it holds the link {shown_name(link.name)}" if link is not None else ""
                    raise FolderNotEmpty(
                        f"The folder {{path}} is not empty{holds}.",
                        path=path,
                        server_words=failed.server_words,
                        advice=("Remove the link first.",) if link is not None else (),
                    ) from failed
                raise
        if not gone:
            await see_gone(self.look_anew, path)
        self._learned.folders.gone(path)

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        """FTP cannot copy within a server: False."""
        return False

    async def make_link(self, path: SitePath, target: bytes) -> None:
        """FTP makes no links: raises NotSupported."""
        raise NotSupported("FTP has no command that makes a symbolic link.")

    async def set_attributes(
        self, path: SitePath, *, permissions: int | None = None, stamp: Stamp | None = None
    ) -> None:
        """Access by SITE CHMOD, time by MFMT or what else the server takes."""
        learned = self._learned
        async with self.connection.line(self.lane) as line:
            if stamp is not None and learned.sets_times is not False:
                await self.finishing.set_time(line, path, stamp)
            if permissions is not None and learned.sets_permissions is False:
                raise NotSupported("This server does not allow setting the permissions of {path}.", path=path)
            if permissions is not None:
                reply = await self.finishing.set_permissions(line, path, permissions)
                if not reply.is_good:
                    raise from_reply(reply.code, reply.text, path.shown)

    async def own_hash(self, path: SitePath) -> Digest | None:
        """By HASH (draft-bryan-ftpext-hash) or one of the older commands that many servers have, as FEAT says."""
        features = self._learned.features
        command = next((one for one in _HASHES if one in features), None)
        if command is None:
            return None
        async with self.connection.line(self.lane) as line:
            reply = await line.ask(command.encode() + b" " + path.raw)
        if not reply.is_good:
            return None
        return digest_of(command, reply.text)

    async def home(self) -> SitePath:
        """The folder that the sign-in began in (PWD)."""
        said = self._learned.home
        return SitePath.parse(said) if said is not None and said.startswith(b"/") else SitePath()

    async def room(self, folder: SitePath) -> Room | None:
        """Space by AVBL, or by what SITE QUOTA says; None where neither is understood."""
        learned = self._learned
        if learned.says_room is False:
            return None
        async with self.connection.line(self.lane) as line:
            if (free := await self._available(line, folder)) is not None:
                learned.says_room = True
                return Room(0, free)
            reply = await line.ask(b"SITE QUOTA")
            found = room_of_quota(one.decode("utf-8", "replace") for one in reply.lines) if reply.is_good else None
            learned.says_room = found is not None
            return found

    async def _available(self, line: FtpLine, folder: SitePath) -> int | None:
        """The bytes that AVBL (draft-peterson-streamlined-ftp-command-extensions) says are left; None where it says none."""
        if "AVBL" not in self._learned.features:
            return None
        reply = await line.ask(b"AVBL " + folder.raw)
        words = reply.text.split()
        return int(words[0]) if reply.code == 213 and words and words[0].isdigit() and len(words[0]) < 20 else None

    async def measure_offset(self, folder: SitePath) -> int | None:
        """What the clock of LIST is ahead of UTC, in seconds, by a file's exact time (MDTM); None where nothing says."""
        return await self._steady(lambda line: self.looking(line).measured_offset(folder))

    @property
    def _learned(self) -> Learned:
        return self.connection.learned

    def looking(self, line: FtpLine) -> Looking:
        """A look at what is there, over one line."""
        return Looking(self._learned, line)

    async def _steady(self, task: Callable[[FtpLine], Awaitable[_R]]) -> _R:
        """A task that only looks changes nothing: where its line was cut, once more on another. Not where the server was
        silent for long: it would be waited for twice."""
        for last in (False, True):
            async with self.connection.line(self.lane) as line:
                begun = time.monotonic()
                try:
                    return await task(line)
                except ConnectionDropped:
                    if last or time.monotonic() - begun > _CHEAP_S:
                        raise
        raise AssertionError("the second time returns or raises")

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
                sentence = "The server has no space for {path}."
                raise NoSpaceLeft(sentence, path=path, server_words=failed.server_words) from failed
            await self.looking(line).explain(path.parent, failed)
            raise
        self._learned.folders.made(path, Entry(path.name, Kind.FILE, start + written))
        return written

    async def _is_full(self, line: FtpLine, path: SitePath) -> bool:
        free = await self._available(line, path.parent)
        return free is not None and free < CHUNK_BYTES
