"""What the SSH library keeps inside and carrying needs: requests sent together, and folders read ahead.

The library's public calls wait for each answer, and each small request becomes a packet, a cipher call and a system call
of its own. Everything here leans on names the library does not promise; its version is pinned in the lock file, and a
test holds that what is used is there.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections import deque
from collections.abc import Callable, Generator
from typing import Any

import asyncssh
from asyncssh.packet import SSHPacket, String, UInt32, UInt64

from nailer.core.files.entry import Entry
from nailer.sides.sftp.names import entries_of

_JOINED_BYTES = 30_000  # servers take packets of 32 KiB at least (RFC 4253, 6.1)
_FIRST_READS = 2
_MOST_READS = 16
_CHECK_FILE = b"check-file-name"
# draft-ietf-secsh-filexfer-02, 3
STATUS, HANDLE, DATA, NAMES, ATTRIBUTES, EXTENDED_REPLY = 101, 102, 103, 104, 105, 201
_CLOSE, _OPEN_FOLDER, _READ_FOLDER = 4, 11, 12
_OK = b"\0\0\0\0"
_IGNORE = 2
# A server of version 2 differs in nothing that is asked for here but links and the texts of a status (draft 02, 10).
asyncssh.sftp.MIN_SFTP_VERSION = 2
_USERAUTH_FAILURE = 51


class _Joined:
    """Stands before the library's writer: small requests of one turn of the event loop leave as one packet."""

    def __init__(self, writer: Any) -> None:
        self._writer = writer
        self._parts: list[bytes] = []
        self._size = 0

    def write(self, data: bytes) -> None:
        """Keep small packets until the turn ends, so that they leave as one."""
        if len(data) > _JOINED_BYTES:
            self._flush()
            self._writer.write(data)
            return
        if not self._parts:
            asyncio.get_running_loop().call_soon(self._flush)
        elif self._size + len(data) > _JOINED_BYTES:
            self._flush()
            asyncio.get_running_loop().call_soon(self._flush)
        self._parts.append(data)
        self._size += len(data)

    def _flush(self) -> None:
        if not self._parts:
            return
        parts, self._parts, self._size = self._parts, [], 0
        if not self._writer.channel.is_closing():
            # A line that has just been lost: every waiting request hears of it by itself.
            with contextlib.suppress(OSError, BrokenPipeError):
                self._writer.write(b"".join(parts))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._writer, name)


class _Quiet:
    """Takes the place of a logger that nobody reads."""

    def __getattr__(self, name: str) -> Callable[..., None]:
        return _nothing


def _nothing(*_: object, **__: object) -> None:
    """Says nothing."""


def write_nothing_after_a_cut(connection: asyncssh.SSHClientConnection) -> None:
    """Let what is sent in the moment between the loss of a line and the word of it be dropped, as the library expects:
    it minds a ConnectionError there, and the event loop's own refusal is a RuntimeError."""
    inner: Any = connection
    send = inner._send

    def _send(data: bytes) -> None:
        transport = inner._transport
        if transport is not None and not transport.is_closing():
            send(data)

    inner._send = _send


def send_nothing_idle(connection: asyncssh.SSHClientConnection) -> None:
    """Let no empty packet go before each real one, where the cipher does not need that: the library guards the chained
    vectors of CBC so (RFC 4251, 9.3.1), also with counter modes and ciphers that seal each packet by itself."""
    if "cbc" in str(connection.get_extra_info("send_cipher")):
        return
    send, empty = connection.send_packet, String(b"")

    def _send_packet(kind: int, *parts: bytes, handler: Any = None) -> None:
        if kind != _IGNORE or parts != (empty,):
            send(kind, *parts, handler=handler)

    connection.send_packet = _send_packet  # type: ignore[method-assign, assignment]


def hear_refusals(connection: asyncssh.SSHClientConnection, told: Callable[[list[str], bool], None]) -> None:
    """Let `told` know of every refusal of a sign-in: the methods that can go on, and whether what was tried was accepted as
    one step of several (RFC 4252, 5.1). The library keeps both to itself."""
    inner: Any = connection
    plain = inner._packet_handlers[_USERAUTH_FAILURE]

    def _refused(handler: Any, kind: int, number: int, packet: SSHPacket) -> None:
        said = SSHPacket(packet.get_remaining_payload())
        told([name.decode("ascii", "replace") for name in said.get_namelist()], said.get_boolean())
        plain(handler, kind, number, packet)

    inner._packet_handlers = {**inner._packet_handlers, _USERAUTH_FAILURE: _refused}


def is_open(client: asyncssh.SFTPClient) -> bool:
    """False once the channel of this client is closed: the library lets go of its writer then."""
    handler: Any = client._handler
    return handler._writer is not None


def join_requests(connection: asyncssh.SSHClientConnection, client: asyncssh.SFTPClient) -> None:
    """Let the requests of this client leave together from now on, and nothing be written down about each packet."""
    handler: Any = client._handler
    handler._writer = _Joined(handler._writer)
    # The library prepares several lines of its own log for each request, and throws them away.
    handler._logger = _Quiet()
    for one in (handler, connection):
        one.log_sent_packet = one.log_received_packet = _nothing  # type: ignore[method-assign]


def let_go(client: asyncssh.SFTPClient) -> None:
    """Tell whoever still waits for an answer that the line is lost, also where the library has lost track of that."""
    handler: Any = client._handler
    for waiter in handler._requests.values():
        if not waiter.done():
            waiter.set_exception(asyncssh.SFTPConnectionLost("The connection was closed."))
            waiter.exception()  # looked at: some have nobody left who waits


def as_servers_are(client: asyncssh.SFTPClient, software: str) -> None:
    """Speak version 3 from now on: the library knows no attributes of version 2, which are the same. And name the two ends
    of a link in OpenSSH's order, as nearly every server reads them, where the library keeps to the draft's for most."""
    handler: Any = client._handler
    handler._version = max(3, handler._version)
    handler._nonstandard_symlink = "asyncssh" not in software.lower()


def waiting_longest(client: asyncssh.SFTPClient) -> tuple[int, int] | None:
    """The number of the request that waits longest for its answer, and how many were answered in all; None where none
    waits."""
    handler: Any = client._handler
    if not handler._requests:
        return None
    return next(iter(handler._requests)), handler._next_pktid - len(handler._requests)


def replaces_in_one_step(client: asyncssh.SFTPClient) -> bool:
    """True where the server offers posix-rename@openssh.com."""
    return bool(client._handler._supports_posix_rename)


class Answer:
    """What a request will be answered. It was sent when this was made, and is heard when this is awaited, as the packet
    behind its header; then the library's own errors are raised."""

    __slots__ = ("_coming", "_handler", "_wanted")

    def __init__(self, handler: Any, wanted: int, kind: int | bytes, *parts: bytes) -> None:
        self._handler = handler
        self._wanted = wanted
        self._coming: asyncio.Future[tuple[int, SSHPacket]] = asyncio.get_running_loop().create_future()
        try:
            handler._send_request(kind, parts, self._coming)
        except (asyncssh.Error, OSError) as error:
            # Not left among those that wait: the library would answer it a second time when the line ends, and fail there.
            handler._requests.pop((handler._next_pktid - 1) & 0xFFFFFFFF, None)
            self._coming.set_exception(error)

    def __await__(self) -> Generator[Any, None, SSHPacket]:
        # Who stops waiting leaves the request under way: what it opens must be closed.
        kind, packet = yield from asyncio.shield(self._coming).__await__()
        if kind == self._wanted != STATUS:
            return packet
        if kind == STATUS:
            told = packet.get_remaining_payload()
            if not told.startswith(_OK):
                # A packet is read once; this may be awaited again.
                self._handler._packet_handlers[STATUS](self._handler, SSHPacket(told))  # raises
            if self._wanted == STATUS:
                return packet
        raise asyncssh.SFTPBadMessage(f"An answer is of kind {kind}, and not {self._wanted}.")

    def when_heard(self, act: Callable[[], None]) -> None:
        """Act once it is answered, or the line is lost."""
        self._coming.add_done_callback(lambda _: act())

    def abandon(self) -> None:
        """Nobody will hear it."""
        self._coming.add_done_callback(_looked_at)

    def when_late(self, use: Callable[[SSHPacket], None]) -> None:
        """What is done with an answer of the wanted kind that nobody waits for any more."""

        def _heard(coming: asyncio.Future[tuple[int, SSHPacket]]) -> None:
            if not coming.cancelled() and coming.exception() is None and coming.result()[0] == self._wanted:
                use(coming.result()[1])

        self._coming.add_done_callback(_heard)


def _looked_at(coming: asyncio.Future[Any]) -> None:
    if not coming.cancelled():
        coming.exception()


async def check_file(client: asyncssh.SFTPClient, path: bytes, algorithms: bytes) -> tuple[bytes, bytes]:
    """The hash of a whole file by the server itself, and the algorithm it chose of those named (separated by commas): the
    extension `check-file-name` of draft-ietf-secsh-filexfer-13, 9.1.2. Raises what the library raises."""
    whole = UInt64(0) + UInt64(0) + UInt32(0)  # from the first byte, to the last, in one block
    reply = await Answer(client._handler, EXTENDED_REPLY, _CHECK_FILE, String(path), String(algorithms), whole)
    chosen = reply.get_string()
    if chosen == b"check-file":
        chosen = reply.get_string()
    return chosen, reply.get_remaining_payload()


async def read_folder(client: asyncssh.SFTPClient, path: bytes) -> list[Entry]:
    """Every name in a folder, with requests ahead of the answers: two round trips for a folder of some hundred names.

    Raises what the library raises.
    """
    handler: Any = client._handler
    opening = Answer(handler, HANDLE, _OPEN_FOLDER, String(path))
    try:
        handle = String((await opening).get_string())
    except asyncio.CancelledError:
        opening.when_late(lambda packet: Answer(handler, STATUS, _CLOSE, String(packet.get_string())).abandon())
        raise
    entries: list[Entry] = []
    ahead, waiting = _FIRST_READS, deque[Answer]()
    try:
        while True:
            waiting.extend(Answer(handler, NAMES, _READ_FOLDER, handle) for _ in range(ahead))
            while waiting:
                entries += entries_of((await waiting[0]).get_remaining_payload())
                waiting.popleft()
            ahead = min(2 * ahead, _MOST_READS)
    except asyncssh.SFTPEOFError:
        return entries
    finally:
        for one in waiting:
            one.abandon()
        Answer(handler, STATUS, _CLOSE, handle).abandon()
