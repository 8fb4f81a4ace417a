"""One control line of FTP and the data channels beside it (RFC 959, 2228, 2389, 2428, 4217).

The line knows commands and replies; what they mean for files is in `sides.ftp`. Own code rather than a library's: each
wait must be cancellable and have its limit, data channels must resume the TLS session of the line, and the person may
read along. Replies that carry addresses are read by the standard library (`ftplib`).
"""

from __future__ import annotations

import asyncio
import contextlib
import ftplib
import ipaddress
import socket
import ssl
import time
from collections.abc import AsyncIterator, Callable, Coroutine, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from nailer.errors import (
    ConnectionDropped,
    EncryptionMissing,
    HostUnreachable,
    NotSupported,
    ProtocolViolation,
    TooManyConnections,
    TransferError,
)
from nailer.sides.dial import Endpoint, dial
from nailer.sides.ftp.tls import FAREWELL_S, chain_of, encrypted, from_tls
from nailer.sides.identities.certificate import doubts_of, identity_of_certificate
from nailer.sides.identities.identity import Identity, judged
from nailer.sides.translate import from_reply
from nailer.sides.wire import MASK, Wire

REPLY_S = 30.0
GREETING_S = 20.0
_EXPLAIN_S = 10.0
_STUCK_S = 60.0
_READY_S = 5.0  # how long a port that was asked for ahead is trusted to be open
_LINE_BYTES = 64 * 1024
_MOST_REPLY_BYTES = 1024 * 1024
_DATA_BYTES = 1024 * 1024
_IAC = b"\xff"
_SECRET_COMMANDS = (b"PASS", b"ACCT")

_Connect = Callable[[], Coroutine[Any, Any, socket.socket]]


@dataclass(frozen=True, slots=True)
class Reply:
    """A whole reply: its code and all its lines, the code taken off the first and the last."""

    code: int
    lines: tuple[bytes, ...]

    @property
    def text(self) -> str:
        return b" ".join(line.strip() for line in self.lines).decode("utf-8", "replace").strip()

    @property
    def is_good(self) -> bool:
        return 200 <= self.code < 400


def has_line_break(command: bytes) -> bool:
    """True where a command cannot be sent as one line."""
    return b"\n" in command or b"\r" in command or b"\0" in command


def line_break() -> NotSupported:
    return NotSupported("FTP cannot send a name with a line break in it.")


class DataChannel:
    """The open data channel of one transfer: bytes in chunks, either way, straight from the socket."""

    def __init__(self, made: socket.socket) -> None:
        self._socket = made

    async def read(self, most: int) -> bytes:
        """Bytes, or none at the end. Raises ConnectionDropped where nothing comes for too long."""
        try:
            async with asyncio.timeout(_STUCK_S):
                return await self._take(most)
        except TimeoutError as error:
            raise ConnectionDropped(f"Nothing has come for {_STUCK_S:.0f} s.") from error
        except OSError as error:
            raise ConnectionDropped("The line was cut.", server_words=error.strerror) from error

    async def write(self, chunk: bytes) -> None:
        try:
            async with asyncio.timeout(_STUCK_S):
                await self._give(chunk)
        except TimeoutError as error:
            raise ConnectionDropped(f"The server has taken nothing for {_STUCK_S:.0f} s.") from error
        except OSError as error:
            raise ConnectionDropped("The line was cut.", server_words=error.strerror) from error

    async def close(self) -> None:
        """End the channel properly: what was written still arrives."""
        self._socket.close()

    def abort(self) -> None:
        self._socket.close()

    async def _take(self, most: int) -> bytes:
        return await asyncio.get_running_loop().sock_recv(self._socket, most)

    async def _give(self, chunk: bytes) -> None:
        await asyncio.get_running_loop().sock_sendall(self._socket, chunk)


class ProtectedChannel(DataChannel):
    """A data channel within TLS."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._reader = reader
        self._writer = writer

    async def close(self) -> None:
        """With TLS's closing message, so that the server knows the file is whole."""
        self._writer.close()
        with contextlib.suppress(OSError, TimeoutError):
            async with asyncio.timeout(FAREWELL_S):
                await self._writer.wait_closed()

    def abort(self) -> None:
        self._writer.transport.abort()

    async def _take(self, most: int) -> bytes:
        return await self._reader.read(most)

    async def _give(self, chunk: bytes) -> None:
        _write(self._writer, chunk)
        await self._writer.drain()


class FtpLine:
    """A control line. Not for two callers at once; `is_clear` tells whether it can take a command."""

    def __init__(self, where: Endpoint, wire: Wire, number: int, *, passive: bool) -> None:
        self.where = where
        self.number = number
        self.said = ""  # the server's words around the last transfer that ended well
        self.used_at_s = time.monotonic()
        self._wire = wire
        self._passive = passive
        self._extended = True
        self._context: ssl.SSLContext | None = None
        self._protected = False
        self._awaiting = 0
        self._strays = 0
        self._telnet: bool | None = None
        self._ready: tuple[int, float] | None = None
        self.takes_many = True
        self._reader: asyncio.StreamReader
        self._writer: asyncio.StreamWriter

    @property
    def is_clear(self) -> bool:
        """Open, and every reply that was asked for has come."""
        return not (self._awaiting or self._writer.is_closing() or self._reader.at_eof())

    async def open(self, address: list[str] | None = None) -> None:
        """Reach the port. Raises HostUnreachable."""
        self._wire.note(f"reaching {self.where.host}:{self.where.port}", self.number)
        made = await dial(self.where, addresses=address)
        self._reader, self._writer = await asyncio.open_connection(sock=made, limit=_LINE_BYTES)

    async def greeting(self) -> Reply:
        """The server's first reply. Raises ProtocolViolation where it is none of FTP."""
        reply = await self._reply(GREETING_S)
        while reply.code == 120:
            reply = await self._reply(GREETING_S)
        if reply.code == 421:
            sentence = f"{self.where.host} asks to come back a little later."
            raise TooManyConnections(sentence, server_words=f"421 {reply.text}")
        if reply.code != 220:
            raise from_reply(reply.code, reply.text, "the server")
        return reply

    async def start_tls(self, context: ssl.SSLContext) -> None:
        """From here on everything on the line is encrypted (RFC 4217). Raises WeakServer and others."""
        self._plain = self._writer  # a writer that nobody holds any more closes its line
        try:
            self._reader, self._writer = await encrypted(
                self._plain.transport, context, _server_name(self.where), limit=_LINE_BYTES
            )
        except (ssl.SSLError, OSError) as error:
            self.abort()
            raise from_tls(error, self.where.host) from error
        self._context = context

    def met(self, pinned: tuple[Identity, ...]) -> Identity:
        """The server's identity, judged. Raises IdentityUnknown or IdentityChanged."""
        chain = chain_of(self._tls)
        shown = identity_of_certificate(chain[0])
        doubts = doubts_of(chain, self.where.host, datetime.now(UTC))
        judged(shown, pinned, host=self.where.host, port=self.where.port, doubts=doubts)
        return shown

    @property
    def cipher(self) -> str:
        if self._context is None:
            return ""
        name, version, _ = self._tls.cipher() or ("", "", 0)
        return f"{version}, {name}"

    async def ask(self, command: bytes, *, within_s: float = REPLY_S) -> Reply:
        """Send one command and return its reply, whatever it says. Raises NotSupported for a name with a line break."""
        await self._learn_telnet(command)
        await self._send(command)
        return await self._first_reply(within_s)

    async def ask_together(self, commands: Sequence[bytes], *, then_more: bool = False) -> list[Reply]:
        """Send commands without waiting in between, and return their replies in order. One after another over a line
        whose server was once found to lose some of what came at once (`takes_many`). With `then_more` the port of the
        next data channel is asked for in the same breath."""
        if not self.takes_many:
            return [await self.ask(command) for command in commands]
        await self._learn_telnet(*commands)
        ahead = [b"EPSV"] if then_more and self._passive and self._extended else []
        for command in [*commands, *ahead]:
            await self._send(command)
        replies: list[Reply] = []
        try:
            while len(replies) < len(commands) + len(ahead):
                replies.append(await self._first_reply(REPLY_S))
        except ConnectionDropped as dropped:
            # Silence after the first replies: the commands behind it were thrown away.
            self.takes_many = not (replies and isinstance(dropped.__cause__, TimeoutError))
            raise
        if ahead and (reply := replies.pop()).code == 229:
            self._ready = (_extended_port(reply), time.monotonic())
        return replies

    async def need(self, command: bytes, shown_path: str) -> Reply:
        """As `ask`, where only a good reply is one. Raises what the reply means."""
        reply = await self.ask(command)
        if not reply.is_good:
            raise from_reply(reply.code, reply.text, shown_path)
        return reply

    async def protect_data(self) -> None:
        """Data channels are encrypted from now on. Raises EncryptionMissing where the server refuses."""
        await self.ask(b"PBSZ 0")
        reply = await self.ask(b"PROT P")
        if not reply.is_good:
            sentence = f"{self.where.host} encrypts the sign-in, but not the files."
            raise EncryptionMissing(sentence, server_words=reply.text)
        self._protected = True

    @contextlib.asynccontextmanager
    async def transfer(self, command: bytes, shown_path: str, *, start: int = 0) -> AsyncIterator[DataChannel]:
        """A transfer: its data channel inside, and the server's last word heard after.

        Left early or with an error the channel is cut, and the line is used on where the server answers that in time.
        """
        await self._learn_telnet(command)
        async with self._incoming() as connect:
            if start:
                await self.need(b"REST %d" % start, shown_path)
            await self._send(command)
            # Encrypted as soon as it is there, while the server is still about to answer.
            opening = asyncio.ensure_future(self._opened(connect))
            try:
                reply = await self._first_reply(REPLY_S)
                if not 100 <= reply.code < 200:
                    raise from_reply(reply.code, reply.text, shown_path)
                begun = reply.text
                # Its last word is still to come.
                self._awaiting += 1
                channel = await opening
            except BaseException:
                await self._close_unused(opening)
                raise
        try:
            yield channel
        except asyncio.CancelledError:
            channel.abort()
            raise
        except ConnectionDropped as dropped:
            channel.abort()
            await self._explain_cut(shown_path, dropped)
            raise
        except BaseException:
            channel.abort()
            with contextlib.suppress(TransferError):
                await self._reply(FAREWELL_S)
            raise
        await channel.close()
        reply = await self._reply(_STUCK_S)
        if not reply.is_good:
            raise from_reply(reply.code, reply.text, shown_path)
        self.said = f"{begun}\n{reply.code} {reply.text}"

    async def close(self) -> None:
        """Take leave, shortly, and close."""
        with contextlib.suppress(TransferError, OSError, TimeoutError):
            if self.is_clear:
                await self.ask(b"QUIT", within_s=FAREWELL_S)
        self._writer.close()
        with contextlib.suppress(OSError, TimeoutError):
            async with asyncio.timeout(FAREWELL_S):
                await self._writer.wait_closed()
        self.abort()

    def abort(self) -> None:
        self._writer.transport.abort()

    @property
    def _tls(self) -> ssl.SSLObject:
        found: ssl.SSLObject = self._writer.get_extra_info("ssl_object")
        return found

    async def _learn_telnet(self, *commands: bytes) -> None:
        """A control line follows Telnet (RFC 959, 2.3), in which the byte 255 begins a command and is written twice to stand
        for itself. Some servers hold to that and some take every byte as it is. Asked before the first name with that byte:
        one that follows Telnet answers `DONT` with `WONT` (RFC 854)."""
        if self._telnet is not None or not any(_IAC in command for command in commands):
            return
        self._telnet = False
        await self._send(b"NOOP " + _IAC + b"\xfe\x01")
        await self._first_reply(REPLY_S)

    async def _send(self, command: bytes) -> None:
        if has_line_break(command):
            raise line_break()
        verb = command.partition(b" ")[0]
        shown = verb + b" " + MASK.encode() if verb.upper() in _SECRET_COMMANDS else command
        self._wire.out(shown, self.number)
        self._awaiting += 1
        try:
            _write(self._writer, (command.replace(_IAC, _IAC * 2) if self._telnet else command) + b"\r\n")
            async with asyncio.timeout(REPLY_S):
                await self._writer.drain()
        except (OSError, TimeoutError) as error:
            raise self._cut(error) from error

    async def _first_reply(self, within_s: float) -> Reply:
        """The reply to a command, past a report that was out of turn."""
        reply = await self._reply(within_s)
        if self._strays and reply.code == 226:
            self._strays -= 1
            self._awaiting += 1
            reply = await self._reply(within_s)
        return reply

    async def _reply(self, within_s: float) -> Reply:
        self._awaiting = max(self._awaiting, 1)
        try:
            async with asyncio.timeout(within_s):
                reply = await self._read_reply()
        except TimeoutError as error:
            raise ConnectionDropped(f"{self.where.host} has said nothing for {within_s:.0f} s.") from error
        except asyncio.IncompleteReadError as error:
            said = error.partial.decode("utf-8", "replace").strip()
            raise ConnectionDropped(f"{self.where.host} closed the line.", server_words=said or None) from error
        except (asyncio.LimitOverrunError, ValueError) as error:
            raise ProtocolViolation(
                f"What {self.where.host} answers is no FTP.", server_words=str(error)[:200]
            ) from error
        except OSError as error:
            raise self._cut(error) from error
        self._awaiting -= 1
        self.used_at_s = time.monotonic()
        if reply.code == 421:
            self.abort()
        return reply

    async def _read_reply(self) -> Reply:
        """RFC 959, 4.2: `123-` opens a reply of many lines, and a line that begins with `123 ` ends it."""
        first = await self._read_line()
        if len(first) < 3 or not first[:3].isdigit() or first[3:4] not in (b" ", b"-", b""):
            raise ValueError(first[:200].decode("utf-8", "replace"))
        code, lines, size = first[:3], [first[4:]], len(first)
        if first[3:4] == b"-":
            while True:
                line = await self._read_line()
                size += len(line)
                if size > _MOST_REPLY_BYTES:
                    raise ValueError("a reply without an end")
                if line[:3] == code and line[3:4] in (b" ", b""):
                    lines.append(line[4:])
                    break
                lines.append(line)
        return Reply(int(code), tuple(lines))

    async def _read_line(self) -> bytes:
        line = (await self._reader.readuntil(b"\n")).rstrip(b"\r\n")
        if line.startswith(_IAC + b"\xfc"):
            self._telnet = True
            line = line[3:]
        self._wire.heard(line, self.number)
        return line

    async def _opened(self, connect: _Connect) -> DataChannel:
        return await self._channel(await connect())

    async def _close_unused(self, opening: asyncio.Future[DataChannel]) -> None:
        """Close a data channel that the server refused to use. Over TLS some servers make a transfer of it all the same,
        and report its end (226) out of turn: let them have the handshake they wait for, and listen for that report."""
        if self._protected:
            await asyncio.wait({opening}, timeout=FAREWELL_S)
        if not opening.done():
            opening.cancel()
        with contextlib.suppress(asyncio.CancelledError, TransferError, OSError, TimeoutError):
            channel = await opening
            self._strays += self._protected
            async with asyncio.timeout(FAREWELL_S):
                await channel.close()

    async def _explain_cut(self, shown_path: str, dropped: ConnectionDropped) -> None:
        """Raise what the server says on the line about a channel that was cut: it knows better than the cut itself."""
        reply: Reply | None = None
        with contextlib.suppress(TransferError):
            reply = await self._reply(_EXPLAIN_S)
        if reply is not None and reply.code >= 400:
            raise from_reply(reply.code, reply.text, shown_path) from dropped

    def _cut(self, error: OSError) -> ConnectionDropped:
        return ConnectionDropped(
            f"The line to {self.where.host} was cut.", server_words=getattr(error, "strerror", None)
        )

    async def _channel(self, made: socket.socket) -> DataChannel:
        if self._context is None or not self._protected:
            return DataChannel(made)
        try:
            reader, writer = await encrypted(
                made, self._context, _server_name(self.where), limit=_DATA_BYTES, session=self._tls.session
            )
        except (ssl.SSLError, OSError) as error:
            made.close()
            raise from_tls(error, self.where.host) from error
        shown: ssl.SSLObject = writer.get_extra_info("ssl_object")
        if not shown.session_reused and shown.getpeercert(binary_form=True) != self._tls.getpeercert(binary_form=True):
            writer.transport.abort()
            raise ProtocolViolation("The data channel shows another certificate than the line to the server.")
        return ProtectedChannel(reader, writer)

    @contextlib.asynccontextmanager
    async def _incoming(self) -> AsyncIterator[_Connect]:
        """How the next data channel comes about: we reach the server (passive), or it reaches us (active)."""
        if self._passive:
            port = await self._passive_port()
            yield lambda: self._reached(port)
            return
        listener = self._listener()
        try:
            await self._say_port(listener)
            yield lambda: _accepted(listener, self._peer_host())
        finally:
            listener.close()

    async def _reached(self, port: int) -> socket.socket:
        """The server's data port. Where nobody answers there the line itself is no use any more, or a firewall is."""
        try:
            return await dial(self.where, port=port)
        except HostUnreachable as error:
            raise ConnectionDropped("No data connection came about.", server_words=error.server_words) from error

    async def _passive_port(self) -> int:
        """EPSV (RFC 2428), else PASV. The address in a PASV reply is left aside: behind a router it is a private one,
        and any other than the server's own would send the file to somebody else."""
        ready, self._ready = self._ready, None
        if ready is not None and time.monotonic() - ready[1] < _READY_S:
            return ready[0]
        if self._extended:
            reply = await self.ask(b"EPSV")
            if reply.code == 229:
                return _extended_port(reply)
            self._extended = False
        reply = await self.ask(b"PASV")
        if reply.code != 227:
            raise from_reply(reply.code, reply.text, "a data channel")
        return _port_of(reply, lambda text: ftplib.parse227(text)[1])  # noqa: S321  # only reads a reply

    def _listener(self) -> socket.socket:
        own = self._writer.get_extra_info("sockname")[0]
        listener = socket.socket(socket.AF_INET6 if ":" in own else socket.AF_INET, socket.SOCK_STREAM)
        listener.setblocking(False)
        listener.bind((own, 0))
        listener.listen(1)
        return listener

    async def _say_port(self, listener: socket.socket) -> None:
        address, port = listener.getsockname()[:2]
        if ":" in address:
            await self.need(f"EPRT |2|{address}|{port}|".encode(), "a data channel")
            return
        parts = ",".join([*address.split("."), str(port // 256), str(port % 256)])
        await self.need(f"PORT {parts}".encode(), "a data channel")

    def _peer_host(self) -> str:
        return str(self._writer.get_extra_info("peername")[0])


def _write(writer: asyncio.StreamWriter, data: bytes) -> None:
    """Raises ConnectionResetError where the line is gone: the event loop's own error for that is no OSError."""
    if writer.is_closing():
        raise ConnectionResetError("the line is closed")
    writer.write(data)


async def _accepted(listener: socket.socket, peer_host: str) -> socket.socket:
    try:
        async with asyncio.timeout(REPLY_S):
            while True:
                made, address = await asyncio.get_running_loop().sock_accept(listener)
                if address[0] == peer_host:
                    return made
                # Somebody else found the port first.
                made.close()
    except TimeoutError as error:
        raise HostUnreachable("The server does not reach back to this machine: use passive mode.") from error


def _extended_port(reply: Reply) -> int:
    return _port_of(reply, lambda text: ftplib.parse229(text, ("", 0))[1])  # noqa: S321  # only reads a reply


def _port_of(reply: Reply, read: Callable[[str], int]) -> int:
    text = f"{reply.code} {reply.text}"
    try:
        return read(text)
    except (ftplib.Error, ValueError) as error:
        raise ProtocolViolation("The server's data port cannot be read.", server_words=text) from error


def _server_name(where: Endpoint) -> str | None:
    """The name to ask the certificate for; an address is no name (RFC 6066, 3)."""
    try:
        ipaddress.ip_address(where.host)
    except ValueError:
        return where.host
    return None
