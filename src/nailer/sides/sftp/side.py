"""The side there by SFTP version 3 (draft-ietf-secsh-filexfer-02 and OpenSSH's extensions), through asyncssh.

One connection carries several channels: browsing has its own, so that a listing never waits behind a large file.
Within a channel many requests are in flight at once, across files and within one.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Iterator
from typing import Any, TypeVar

import asyncssh
from asyncssh.constants import OPEN_REQUEST_SESSION_FAILED
from asyncssh.packet import PacketDecodeError

from nailer.core.connecting.abilities import Abilities
from nailer.core.files.completeness import Listing
from nailer.core.files.entry import Entry, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.plans.room import Room
from nailer.core.words import size_text
from nailer.errors import (
    ConnectionDropped,
    HostUnreachable,
    LoginRefused,
    NoSpaceLeft,
    NotSupported,
    ProtocolViolation,
    ServerFailed,
    TooManyConnections,
    TransferError,
)
from nailer.sides.connection import CommandResult, Lane, Stage, Wanted
from nailer.sides.connection_log import ConnectionLog
from nailer.sides.dial import Endpoint, dial, resolve, taken_over
from nailer.sides.identities.identity import Identity, host_key
from nailer.sides.recoded import recoded
from nailer.sides.sftp.changing import Changing
from nailer.sides.sftp.looking import SftpLearned, SftpLooking
from nailer.sides.sftp.meeting import PERSON_S, Meeting, keys_of
from nailer.sides.sftp.open_file import READING, WRITING, OpenFile, SentLook, open_file
from nailer.sides.sftp.pipeline import (
    as_servers_are,
    check_file,
    is_open,
    join_requests,
    send_nothing_idle,
)
from nailer.sides.sftp.reading import FileReading
from nailer.sides.sftp.requests import closed, seconds, sent_look
from nailer.sides.sftp.silence import Silence
from nailer.sides.sftp.writing import Writing
from nailer.sides.side import CHUNK_BYTES, Digest, Names, Side, is_there
from nailer.sides.translate import from_os, from_ssh

_R = TypeVar("_R")

# AES-GCM runs in hardware nearly everywhere; the library's own order starts with the slower ChaCha20.
_CIPHERS = (
    "aes128-gcm@openssh.com",
    "aes256-gcm@openssh.com",
    "chacha20-poly1305@openssh.com",
    "aes128-ctr",
    "aes192-ctr",
    "aes256-ctr",
)
# What check-file-name may choose of, and what hashlib calls it; the best first.
_HASHES = {b"sha256": "sha256", b"sha512": "sha512", b"sha1": "sha1", b"md5": "md5"}
_KEY_KINDS = (
    ["ssh-ed25519"],
    ["ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521"],
    ["rsa-sha2-512", "rsa-sha2-256"],
)
_WINDOW_BYTES = 16 * 1024 * 1024
_PACKET_BYTES = 262_000
_BYTES_IN_FLIGHT = 16 * 1024 * 1024
_LEAST_BLOCKS_IN_FLIGHT = 2
_USUAL_BLOCK_BYTES = 32 * 1024  # what every server takes, where it does not say more (limits@openssh.com)
_KEEPALIVE_S = 15
_QUOTA = ("Look at the quota of the account: many servers fail so when it is used up.", "Try again.")
_TURN_S = 60.0
_FIRST_WORDS_S = 3.0
_FIRST_WORDS_BYTES = 2048
_MOST_LOOKS = 3
_SILENCES_ALLOWED = 3
_NO_ROOM_WORDS = ("no space", "quota", "disk full", "not enough space")


# Offered only where a person allowed it for a site: algorithms that were common before 2010 and are broken or near it.
_OLD_CIPHERS = ("aes128-cbc", "aes192-cbc", "aes256-cbc", "3des-cbc", "blowfish-cbc", "arcfour128", "arcfour")
_OLD_KEX = (
    "diffie-hellman-group14-sha1",
    "diffie-hellman-group-exchange-sha1",
    "diffie-hellman-group1-sha1",
)
_OLD_MACS = ("hmac-sha1", "hmac-md5", "hmac-sha1-96", "hmac-md5-96")
_OLD_KEYS = ("ssh-rsa", "ssh-dss")


class SftpConnection:
    """One signed-in connection to a server. `channel()` opens sides over it; `close()` ends them all."""

    one_line = True

    def __init__(self, connection: asyncssh.SSHClientConnection, wanted: Wanted) -> None:
        self._connection = connection
        self._wanted = wanted
        self._side: SftpSide | None = None
        self._silence = Silence(wanted.log.note)
        self._learned = SftpLearned()

    @property
    def is_open(self) -> bool:
        """True while the line stands."""
        return not self._connection.is_closed()

    @property
    def lines(self) -> int:
        """One line, or none."""
        return 1 if self.is_open else 0

    @property
    def abilities(self) -> Abilities:
        """What the server offers by extensions, and what trying has shown."""
        info = self._connection.get_extra_info
        algorithms = (f"cipher {info('send_cipher')}", f"key exchange {info('kex_alg') or 'not said'}")
        swap = self._side.changing.replaces_in_one_step if self._side else None
        room = self._side.says_room if self._side else None
        return Abilities(
            software=str(info("server_version") or ""),
            permissions=True,
            times=True,
            exact_times=True,
            links=True,
            resume=True,
            swap=swap,
            room=room,
            features=algorithms,
        )

    async def channel(self, lane: Lane) -> Side:
        """A new side with a channel of its own. Raises NotSupported where the account has no SFTP."""
        try:
            client = await self._connection.start_sftp_client()
        except asyncssh.ChannelOpenError as error:
            if error.code == OPEN_REQUEST_SESSION_FAILED:
                raise await self._no_file_service(error) from error  # the channel is open; there is no SFTP behind it
            sentence = "The server opens no further channel for this sign-in."
            raise TooManyConnections(sentence, server_words=error.reason) from error
        except (asyncssh.Error, OSError, PacketDecodeError) as error:
            raise await self._no_file_service(error) from error
        as_servers_are(client, self.abilities.software)
        join_requests(self._connection, client)
        software = self.abilities.software
        if "openssh" in software.lower():
            self._learned.lists_links = self._learned.looks_at_links = True  # it asks lstat(2) for both
        self._side = SftpSide(client, self._wanted.log, software=software, learned=self._learned)
        self._silence.watch(self._side)
        return recoded(self._side, self._wanted.manner.charset)

    async def _no_file_service(self, error: Exception) -> TransferError:
        """Why there is no SFTP although the sign-in worked: none is on offer, or the account's login shell prints text into
        it. What comes first is looked at once more for that."""
        if not self.is_open:
            return _translated(error, "the file service")
        first = b""
        with contextlib.suppress(asyncssh.Error, OSError, TimeoutError):
            async with asyncio.timeout(_FIRST_WORDS_S):
                process = await self._connection.create_process(subsystem="sftp", encoding=None)
                first = await process.stdout.read(_FIRST_WORDS_BYTES)
                process.close()
        lines = [line.strip() for line in first.decode("utf-8", "replace").splitlines() if line.strip()]
        if lines and all(letter.isprintable() for letter in lines[0]):
            return NotSupported(
                (
                    "The sign-in worked, but the account's shell prints text into the SFTP connection, so no files "
                    "can be transferred."
                ),
                server_words=" / ".join(lines)[:400],
                advice=(
                    (
                        "Remove the command that prints it from the account's shell start-up files (such as "
                        ".bashrc), or make it print only in interactive shells."
                    ),
                ),
            )
        return NotSupported(
            "The sign-in worked, but the server offers this account no file service (SFTP).",
            advice=("Ask your hosting provider whether your account includes SFTP, or try FTP over TLS.",),
        )

    async def run(self, script: bytes, *, within_s: float) -> CommandResult:
        # Through its standard input: any bytes may be in it, and the account's own shell may be one that reads otherwise.
        """Run a shell script through its standard input. Raises NotSupported, ConnectionDropped."""
        for line in script.splitlines():
            self._wanted.log.out(b"sh: " + line)
        try:
            async with asyncio.timeout(within_s):
                process = await self._connection.create_process("sh -s", encoding=None)
                # An account without a shell is answered and closed before it has read anything.
                with contextlib.suppress(BrokenPipeError):
                    process.stdin.write(script)
                    process.stdin.write_eof()
                done = await process.wait(check=False)
        except TimeoutError as error:
            raise ConnectionDropped(f"The command on the server did not end within {within_s:.0f} s.") from error
        except asyncssh.ChannelOpenError as error:
            raise NotSupported("This account may not run commands.", server_words=error.reason) from error
        except (asyncssh.Error, OSError) as error:
            raise _translated(error, "a command") from error
        out, err = (part if isinstance(part, bytes) else b"" for part in (done.stdout, done.stderr))
        self._wanted.log.heard(f"ended with {done.exit_status}")
        return CommandResult(done.exit_status if done.exit_status is not None else -1, out, err)

    async def measure_offset(self, folder: SitePath) -> int | None:
        """Times come in UTC: there is nothing to measure."""
        return None

    async def close(self) -> None:
        """Close the line and every channel over it."""
        await self._silence.stop()
        self._connection.close()
        # A server that does not answer the farewell must not hold us up.
        with contextlib.suppress(TimeoutError, asyncssh.Error, OSError):
            async with asyncio.timeout(3):
                await self._connection.wait_closed()
        self._connection.abort()
        self._silence.let_all_go()


async def connect(wanted: Wanted, *, timeout_s: float = 20.0) -> SftpConnection:
    """A signed-in connection.

    Raises IdentityUnknown or IdentityChanged before anything secret is sent, HostUnreachable, LoginRefused, WeakServer,
    AnswerNeeded where the server asks what only the person knows.
    """
    keys = await keys_of(wanted.sign_in)
    for _ in range(_MOST_LOOKS - 1):
        meeting = Meeting(wanted, keys)
        try:
            return await _attempt(wanted, meeting, timeout_s)
        except ConnectionDropped:
            # A server with which we share no algorithm may reset the line, and the reset outruns its reason. Nothing
            # secret was sent before its key was seen: look again.
            if meeting.met:
                raise
    return await _attempt(wanted, Meeting(wanted, keys), timeout_s)


async def _attempt(wanted: Wanted, meeting: Meeting, timeout_s: float) -> SftpConnection:
    where = wanted.where
    addresses = await resolve(where)
    wanted.heard(Stage.NAME, ", ".join(addresses) or "left to the proxy")
    made = await dial(where, addresses=addresses or None)
    wanted.heard(Stage.PORT, f"port {where.port} answers")
    wanted.log.note(f"reached {where.host}:{where.port}")
    try:
        async with asyncio.timeout(timeout_s) as limit:
            meeting.limit, meeting.step_s = limit, timeout_s
            with taken_over(made):
                connection = await asyncssh.connect(
                    where.dial_host, where.dial_port, sock=made, **_options(wanted, meeting)
                )
    except (TimeoutError, OSError) as error:
        if meeting.refusal is not None:
            raise meeting.refusal from error
        if not isinstance(error, TimeoutError):
            raise _translated(error, where.host) from error
        raise HostUnreachable(meeting.silence) from error
    except (asyncssh.Error, ValueError) as error:
        if meeting.refusal is not None:
            raise meeting.refusal from error
        if isinstance(error, ValueError):
            raise ProtocolViolation(f"What answers at {where.host} cannot be read.", server_words=str(error)) from error
        refusal = _translated(error, where.host)
        raise meeting.explained(refusal) if isinstance(refusal, LoginRefused) else refusal from error
    # The limit has ended with the steps it was for.
    meeting.limit = None
    wanted.heard(Stage.SIGN_IN, f"signed in as {wanted.sign_in.user}, {meeting.how}")
    wanted.log.note(f"signed in as {wanted.sign_in.user}, {meeting.how}")
    send_nothing_idle(connection)
    return SftpConnection(connection, wanted)


async def host_keys(where: Endpoint) -> list[Identity]:
    """Every key that a server shows, one of each kind that it has: asked for kind by kind, and nothing is sent but that."""

    async def _one(algorithms: list[str]) -> Identity | None:
        try:
            made = await dial(where)
        except TransferError:
            return None
        try:
            with taken_over(made):
                async with asyncio.timeout(_FIRST_WORDS_S):
                    key = await asyncssh.get_server_host_key(
                        where.dial_host, where.dial_port, sock=made, server_host_key_algs=algorithms, config=None
                    )
        except (asyncssh.Error, OSError, TimeoutError):
            return None
        return host_key(key) if key is not None else None

    found = await asyncio.gather(*(_one(kinds) for kinds in _KEY_KINDS))
    return [key for key in found if key is not None]


def _options(wanted: Wanted, meeting: Meeting) -> dict[str, Any]:
    options: dict[str, Any] = {
        "username": wanted.sign_in.user,
        "client_keys": None,
        "agent_path": None,
        "config": None,
        "known_hosts": ([], [], []),
        "client_factory": lambda: meeting,
        "encryption_algs": _CIPHERS,
        "compression_algs": None,
        # The password before the questions: a refusal is then counted once by the server, not twice.
        "preferred_auth": "publickey,password,keyboard-interactive",
        "window": _WINDOW_BYTES,
        "max_pktsize": _PACKET_BYTES,
        "keepalive_interval": _KEEPALIVE_S,
        "keepalive_count_max": _SILENCES_ALLOWED,
        # Each step has its own limit (`Meeting.limit`); these only end what got past it.
        "connect_timeout": 4 * PERSON_S,
        "login_timeout": 4 * PERSON_S,
    }
    # A pinned key's algorithm is asked for first: a server with several keys must not look changed.
    known = [pin.algorithm for pin in wanted.pinned]
    if known or wanted.manner.old_allowed:
        options["server_host_key_algs"] = _pinned_first(known, old_allowed=wanted.manner.old_allowed)
    if wanted.manner.old_allowed:
        options["encryption_algs"] = "+" + ",".join(_OLD_CIPHERS)
        options["kex_algs"] = "+" + ",".join(_OLD_KEX)
        options["mac_algs"] = "+" + ",".join(_OLD_MACS)
    return options


def _pinned_first(pinned: list[str], *, old_allowed: bool) -> list[str]:
    wanted: list[str] = []
    for algorithm in pinned:
        wanted += ["rsa-sha2-256", "rsa-sha2-512", "ssh-rsa"] if algorithm == "ssh-rsa" else [algorithm]
    usual = ["ssh-ed25519", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521", "rsa-sha2-256"]
    old = _OLD_KEYS if old_allowed else ()
    return list(dict.fromkeys([*wanted, *usual, "rsa-sha2-512", *old]))


def _translated(error: Exception, shown_path: str) -> TransferError:
    if isinstance(error, PacketDecodeError):
        error = asyncssh.SFTPBadMessage(str(error))
    return from_os(error, shown_path) if isinstance(error, OSError) else from_ssh(error, shown_path)


class SftpSide:
    """A side over one SFTP channel."""

    def __init__(
        self, client: asyncssh.SFTPClient, log: ConnectionLog, *, software: str = "", learned: SftpLearned | None = None
    ) -> None:
        self.client = client
        self.log = log
        self.active = 0
        # Its version 3 rename links and unlinks, and so fails where the name is taken (sftp-server, process_rename).
        self.rename_refuses = "openssh" in software.lower()
        self.says_room: bool | None = None
        self._one_by_one = False
        self.slow = 0  # requests under way that may take minutes
        self._open_files = 0
        self._closed = asyncio.Event()
        self._hashes: bool | None = None
        limits = client.limits
        self.read_bytes = min(CHUNK_BYTES, limits.max_read_len or _USUAL_BLOCK_BYTES)
        self.write_bytes = min(CHUNK_BYTES, limits.max_write_len or _USUAL_BLOCK_BYTES)
        self.looking = SftpLooking(self, learned or SftpLearned())
        self.changing = Changing(self)
        self.writing = Writing(self)
        self.reading = FileReading(self)

    def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        """A file's bytes, a window of blocks asked for ahead (SSH_FXP_READ)."""
        return self.reading.read(path, start=start, ahead=ahead)

    async def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        """A small file's entry and bytes: open, look, read and close leave together."""
        return await self.reading.read_all(path)

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        """As `Side.write`, many blocks on their way at once."""
        return await self.writing.write(path, chunks, start=start)

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
        """As `Side.land`: the last blocks, permissions, time, look and close leave together."""
        return await self.writing.land(
            path, chunks, start=start, permissions=permissions, at_most=at_most, stamp=stamp, free=free
        )

    @property
    def is_open(self) -> bool:
        """False once this channel was closed, which the server may do while the connection lives."""
        return is_open(self.client)

    def close(self) -> None:
        """End this channel; the connection stays."""
        self.client.exit()

    async def wait_closed(self) -> None:
        """Wait until the channel has ended."""
        await self.client.wait_closed()

    async def list(self, folder: SitePath, *, careful: bool = False) -> Listing:
        """A folder's names; packets are asked for ahead (SSH_FXP_READDIR), links looked at afterwards."""
        self.log.out(f"read folder {folder}")
        return await self.looking.folder(folder, careful=careful)

    async def stat(self, path: SitePath) -> Entry:
        """What stands under a name, links not followed (SSH_FXP_LSTAT)."""
        self.log.out(f"look at {path}")
        return await self.looking.one(path)

    async def resolve(self, path: SitePath) -> SitePath:
        """Where a path leads (SSH_FXP_REALPATH)."""
        self.log.out(f"resolve {path}")
        resolved = SitePath.parse(await self.ask(self.client.realpath(path.raw), path))
        # Many servers resolve names that are not there; a look tells.
        await self.ask(self.client.stat(resolved.raw), path)
        return resolved

    async def home(self) -> SitePath:
        """Where the account starts (SSH_FXP_REALPATH of '.')."""
        self.log.out("where the account starts")
        return SitePath.parse(await self.ask(self.client.realpath(b"."), SitePath()))

    holes_bytes = _BYTES_IN_FLIGHT
    renames: bool | None = True  # as good as every server does; where one does not, it says so

    def window(self, block_bytes: int) -> int:
        """How many blocks may be in flight for one file: memory stays bounded whatever the block size and however many
        files are under way."""
        return max(_LEAST_BLOCKS_IN_FLIGHT, _BYTES_IN_FLIGHT // (block_bytes * max(1, self.active)))

    async def make_folder(self, path: SitePath) -> None:
        """Make a folder, and see that it is there."""
        self.log.out(f"make folder {path}")
        await self.changing.make_folder(path)

    async def remove_file(self, path: SitePath) -> None:
        """Remove a file or a link, and see that it is gone."""
        self.log.out(f"remove {path}")
        await self.changing.remove_file(path)

    async def remove_folder(self, path: SitePath) -> None:
        """Remove an empty folder, and see that it is gone."""
        self.log.out(f"remove folder {path}")
        await self.changing.remove_folder(path)

    async def rename(
        self,
        old: SitePath,
        new: SitePath,
        *,
        replace: bool = False,
        looked: bool = False,
        landed: Entry | None = None,
    ) -> None:
        """Rename, and see that it is so."""
        self.log.out(f"rename {old} to {new}")
        await self.changing.rename(old, new, replace=replace, looked=looked, landed=landed)

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        """Both requests leave as one packet."""
        self.log.out(f"rename {first[0]} to {first[1]}, and {second[0]} to {second[1]}")
        return await self.changing.rename_both(first, second)

    def sent_look(self, path: SitePath) -> SentLook:
        """A look that leaves with what was asked before it."""
        return sent_look(self.client, path.raw)

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        """By the server itself where it offers copy-data (draft-ietf-secsh-filexfer-extensions-00)."""
        if not self.client.supports_remote_copy:
            return False
        self.log.out(f"copy {source} to {target}")
        reading = await self.open(source, READING)
        try:
            writing = await self.open(target, WRITING)
            try:
                with self._slowly():
                    await self.landed(reading.copy_to(writing), target, "as it copied it")
                await self.landed(writing.close(), target, "as it closed the copy")
            except BaseException:
                await closed(writing)
                raise
        finally:
            reading.close().abandon()
        return True

    @contextlib.contextmanager
    def _slowly(self) -> Iterator[None]:
        """What the server does by itself with a large file takes its time: its silence is no loss."""
        self.slow += 1
        try:
            yield
        finally:
            self.slow -= 1

    async def make_link(self, path: SitePath, target: bytes) -> None:
        """Make a symbolic link. Servers take the two names in the order of OpenSSH's, not of the draft."""
        await self.changing.make_link(path, target)

    async def set_attributes(
        self, path: SitePath, *, permissions: int | None = None, stamp: Stamp | None = None
    ) -> None:
        """Set permissions and time (SSH_FXP_SETSTAT)."""
        self.log.out(f"set permissions or time of {path}")
        await self.ask(self.client.setstat(path.raw, _attributes(permissions, stamp)), path)

    async def own_hash(self, path: SitePath) -> Digest | None:
        """The server's own hash by check-file; None where it offers none."""
        if self._hashes is False:
            return None
        self.log.out(f"hash of {path}")
        try:
            with self._slowly():
                chosen, value = await check_file(self.client, path.raw, b",".join(_HASHES))
        except asyncssh.SFTPOpUnsupported:
            self._hashes = False
            return None
        except (asyncssh.SFTPError, PacketDecodeError):
            return None  # this file, or these algorithms, not: reading tells
        except (asyncssh.Error, OSError) as error:
            raise _translated(error, path.shown) from error
        algorithm = _HASHES.get(chosen)
        fits = algorithm is not None and len(value) == hashlib.new(algorithm).digest_size
        return Digest(algorithm, value) if algorithm is not None and fits else None

    async def room(self, folder: SitePath) -> Room | None:
        """Space by statvfs@openssh.com; None where the server does not offer it."""
        try:
            space = await self.client.statvfs(folder.raw)
        except asyncssh.SFTPError:
            self.says_room = False
            return None
        except (asyncssh.Error, OSError) as error:
            raise _translated(error, folder.shown) from error
        self.says_room = True
        return Room((space.blocks or 0) * (space.frsize or 0), (space.bavail or 0) * (space.frsize or 0))

    async def ask(self, request: Awaitable[_R], path: SitePath) -> _R:
        """Await a request; the library's errors become ours, about `path`."""
        try:
            return await request
        except (asyncssh.Error, OSError, PacketDecodeError) as error:
            translated = _translated(error, path.shown)
            self.log.heard(f"{type(error).__name__}: {translated.server_words or translated.what}")
            raise translated from error

    async def taken(self, path: SitePath) -> bool:
        """True where something stands under a name."""
        return await is_there(self, path)

    async def landed(self, request: Awaitable[object], path: SitePath, step: str) -> None:
        """Await a write. A plain 'failure' is read as a full disk where the words or the room left say so; else what is
        known is said: at which `step` it came, and what room the server tells."""
        try:
            await self.ask(request, path)
        except ServerFailed as failed:
            words = (failed.server_words or "").lower()
            room = await self.room(path.parent)
            if any(word in words for word in _NO_ROOM_WORDS) or (room is not None and room.free_bytes < CHUNK_BYTES):
                raise NoSpaceLeft(
                    "The server has no space for {path}.", path=path, server_words=failed.server_words
                ) from failed
            free = "an unknown amount" if room is None else size_text(room.free_bytes)
            sentence = f"The server failed at {{path}} {step}. It reports {free} of free space."
            raise ServerFailed(sentence, path=path, server_words=failed.server_words, advice=_QUOTA) from failed

    async def open(self, path: SitePath, how: int, mode: int | None = None) -> OpenFile:
        """Open a file of the server. One that lets only so many be open at once is waited for."""
        while True:
            others = self._open_files
            if self._one_by_one and others:
                await self._until_one_is_closed(path)
                continue
            try:
                self._open_files += 1
                file = await self.ask(open_file(self.client, path.raw, how, mode), path)
            except BaseException as why:
                self._has_closed()
                if not isinstance(why, ServerFailed):
                    raise
                # It may be refused because others are open: once they are closed it is tried alone, and fails or not.
                self._one_by_one = others > 0
                if not others:
                    raise
                continue
            file.when_closed = self._has_closed
            return file

    async def _until_one_is_closed(self, path: SitePath) -> None:
        try:
            async with asyncio.timeout(_TURN_S):
                await self._closed.wait()
        except TimeoutError as error:
            raise ServerFailed("The server lets no second file be open beside {path}.", path=path) from error

    def _has_closed(self) -> None:
        self._open_files -= 1
        self._closed.set()
        self._closed = asyncio.Event()


def _attributes(permissions: int | None, stamp: Stamp | None) -> asyncssh.SFTPAttrs:
    attributes = asyncssh.SFTPAttrs()
    if permissions is not None:
        attributes.permissions = permissions
    if stamp is not None:
        attributes.atime = attributes.mtime = seconds(stamp)
    return attributes
