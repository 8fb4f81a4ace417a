"""One control line of FTP and the data channels beside it (RFC 959, 2228, 2389, 2428, 4217).

The line knows commands and replies; what they mean for files is in `sides.ftp`. Own code rather than a library's: each
wait must be cancellable and have its limit, data channels must resume the TLS session of the line, and the person may
read along. Replies that carry addresses are read by the standard library (`ftplib`).
"""

from __future__ import annotations

import asyncio
import contextlib
import ssl
import time
from collections.abc import AsyncIterator, Sequence
from datetime import UTC, datetime

from nailer.errors import (
    ConnectionDropped,
    EncryptionMissing,
    NotSupported,
    ProtocolViolation,
    TooManyConnections,
    TransferError,
)
from nailer.sides.connection_log import MASK, ConnectionLog
from nailer.sides.dial import Endpoint, dial, taken_over
from nailer.sides.ftp.channels import REPLY_S, STUCK_S, Channels, DataChannel, _extended_port, _server_name, write_to
from nailer.sides.ftp.replies import Reply, has_line_break
from nailer.sides.ftp.tls import FAREWELL_S, chain_of, encrypted, from_tls
from nailer.sides.identities.certificate import doubts_of, identity_of_certificate
from nailer.sides.identities.identity import Identity, judged
from nailer.sides.translate import from_reply

GREETING_S = 20.0
_EXPLAIN_S = 10.0
_LINE_BYTES = 64 * 1024
_MOST_REPLY_BYTES = 1024 * 1024
_IAC = b"\xff"
_SECRET_COMMANDS = (b"PASS", b"ACCT")


def line_break() -> NotSupported:
    """The error for a name that FTP cannot carry."""
    return NotSupported("FTP cannot send a name with a line break in it.")


class FtpLine:
    """A control line. Not for two callers at once; `is_clear` tells whether it can take a command."""

    def __init__(self, where: Endpoint, log: ConnectionLog, number: int, *, passive: bool) -> None:
        self.where = where
        self.number = number
        self.said = ""  # the server's words around the last transfer that ended well
        self.used_at_s = time.monotonic()
        self._log = log
        self.passive = passive
        self.extended = True
        self.context: ssl.SSLContext | None = None
        self.protected = False
        self._awaiting = 0
        self.strays = 0
        self._telnet: bool | None = None
        self.ready: tuple[int, float] | None = None
        self.takes_many = True
        self._reader: asyncio.StreamReader
        self.writer: asyncio.StreamWriter
        self.channels = Channels(self)

    @property
    def is_clear(self) -> bool:
        """Open, and every reply that was asked for has come."""
        return not (self._awaiting or self.writer.is_closing() or self._reader.at_eof())

    async def open(self, address: list[str] | None = None) -> None:
        """Reach the port. Raises HostUnreachable."""
        self._log.note(f"reaching {self.where.host}:{self.where.port}", self.number)
        made = await dial(self.where, addresses=address)
        with taken_over(made):
            self._reader, self.writer = await asyncio.open_connection(sock=made, limit=_LINE_BYTES)

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
        self._plain = self.writer  # a writer that nobody holds any more closes its line
        try:
            self._reader, self.writer = await encrypted(
                self._plain.transport, context, _server_name(self.where), limit=_LINE_BYTES
            )
        except (ssl.SSLError, OSError) as error:
            self.abort()
            raise from_tls(error, self.where.host) from error
        self.context = context

    def met(self, pinned: tuple[Identity, ...]) -> Identity:
        """The server's identity, judged. Raises IdentityUnknown or IdentityChanged."""
        chain = chain_of(self.tls)
        shown = identity_of_certificate(chain[0])
        doubts = doubts_of(chain, self.where.host, datetime.now(UTC))
        judged(shown, pinned, host=self.where.host, port=self.where.port, doubts=doubts)
        return shown

    @property
    def cipher(self) -> str:
        """How the line is encrypted; '' where it is not."""
        if self.context is None:
            return ""
        name, version, _ = self.tls.cipher() or ("", "", 0)
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
        ahead = [b"EPSV"] if then_more and self.passive and self.extended else []
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
            self.ready = (_extended_port(reply), time.monotonic())
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
            sentence = f"{self.where.host} encrypts the sign-in but not the file transfers."
            raise EncryptionMissing(sentence, server_words=reply.text)
        self.protected = True

    @contextlib.asynccontextmanager
    async def transfer(self, command: bytes, shown_path: str, *, start: int = 0) -> AsyncIterator[DataChannel]:
        """A transfer: its data channel inside, and the server's last word heard after.

        Left early or with an error the channel is cut, and the line is used on where the server answers that in time.
        """
        await self._learn_telnet(command)
        async with self.channels.incoming() as connect:
            if start:
                await self.need(b"REST %d" % start, shown_path)
            await self._send(command)
            # Encrypted as soon as it is there, while the server is still about to answer.
            opening = asyncio.ensure_future(self.channels.opened(connect))
            try:
                reply = await self._first_reply(REPLY_S)
                if not 100 <= reply.code < 200:
                    raise from_reply(reply.code, reply.text, shown_path)
                begun = reply.text
                # Its last word is still to come.
                self._awaiting += 1
                channel = await opening
            except BaseException:
                await self.channels.close_unused(opening)
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
        reply = await self._reply(STUCK_S)
        if not reply.is_good:
            raise from_reply(reply.code, reply.text, shown_path)
        self.said = f"{begun}\n{reply.code} {reply.text}"

    async def close(self) -> None:
        """Send QUIT, wait a short while for its reply, and close."""
        with contextlib.suppress(TransferError, OSError, TimeoutError):
            if self.is_clear:
                await self.ask(b"QUIT", within_s=FAREWELL_S)
        self.writer.close()
        with contextlib.suppress(OSError, TimeoutError):
            async with asyncio.timeout(FAREWELL_S):
                await self.writer.wait_closed()
        self.abort()

    def abort(self) -> None:
        """Close at once."""
        self.writer.transport.abort()

    @property
    def tls(self) -> ssl.SSLObject:
        """The encryption of the line."""
        found: ssl.SSLObject = self.writer.get_extra_info("ssl_object")
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
        self._log.out(shown, self.number)
        self._awaiting += 1
        try:
            write_to(self.writer, (command.replace(_IAC, _IAC * 2) if self._telnet else command) + b"\r\n")
            async with asyncio.timeout(REPLY_S):
                await self.writer.drain()
        except (OSError, TimeoutError) as error:
            raise self._cut(error) from error

    async def _first_reply(self, within_s: float) -> Reply:
        """The reply to a command, past a report that was out of turn."""
        reply = await self._reply(within_s)
        if self.strays and reply.code == 226:
            self.strays -= 1
            self._awaiting += 1
            reply = await self._reply(within_s)
        return reply

    async def _reply(self, within_s: float) -> Reply:
        self._awaiting = max(self._awaiting, 1)
        try:
            async with asyncio.timeout(within_s):
                reply = await self._read_reply()
        except TimeoutError as error:
            raise ConnectionDropped(f"{self.where.host} has not answered for {within_s:.0f} s.") from error
        except asyncio.IncompleteReadError as error:
            said = error.partial.decode("utf-8", "replace").strip()
            raise ConnectionDropped(f"{self.where.host} closed the connection.", server_words=said or None) from error
        except (asyncio.LimitOverrunError, ValueError) as error:
            raise ProtocolViolation(
                f"{self.where.host} does not answer with FTP. Check the protocol and the port.",
                server_words=str(error)[:200],
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
        self._log.heard(line, self.number)
        return line

    async def _explain_cut(self, shown_path: str, dropped: ConnectionDropped) -> None:
        """Raise what the server says on the line about a channel that was cut: it knows better than the cut itself."""
        reply: Reply | None = None
        with contextlib.suppress(TransferError):
            reply = await self._reply(_EXPLAIN_S)
        if reply is not None and reply.code >= 400:
            raise from_reply(reply.code, reply.text, shown_path) from dropped

    def _cut(self, error: OSError) -> ConnectionDropped:
        return ConnectionDropped(
            f"The connection to {self.where.host} was lost.", server_words=getattr(error, "strerror", None)
        )
