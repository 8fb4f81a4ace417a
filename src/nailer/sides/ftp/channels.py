"""Data channels beside a control line (RFC 959, 3.2 and 3.3; RFC 2428): opened, protected, put away unused."""

from __future__ import annotations

import asyncio
import contextlib
import ftplib
import ipaddress
import socket
import ssl
import time
from collections.abc import AsyncIterator, Callable, Coroutine
from typing import TYPE_CHECKING, Any

from nailer.errors import (
    ConnectionDropped,
    HostUnreachable,
    ProtocolViolation,
    TransferError,
)
from nailer.sides.dial import Endpoint, dial
from nailer.sides.ftp.replies import Reply
from nailer.sides.ftp.tls import FAREWELL_S, encrypted, from_tls
from nailer.sides.translate import from_reply

if TYPE_CHECKING:
    from nailer.sides.ftp.line import FtpLine

REPLY_S = 30.0
STUCK_S = 60.0


_READY_S = 5.0  # how long a port that was asked for ahead is trusted to be open
_DATA_BYTES = 1024 * 1024
_Connect = Callable[[], Coroutine[Any, Any, socket.socket]]


class Channels:
    """Opens the data channels of one line."""

    def __init__(self, line: FtpLine) -> None:
        self._line = line

    async def opened(self, connect: _Connect) -> DataChannel:
        """A data channel, encrypted where the line says so."""
        return await self._channel(await connect())

    async def close_unused(self, opening: asyncio.Future[DataChannel]) -> None:
        """Close a data channel that the server refused to use. Over TLS some servers make a transfer of it all the same,
        and report its end (226) out of turn: let them have the handshake they wait for, and listen for that report."""
        if self._line.protected:
            await asyncio.wait({opening}, timeout=FAREWELL_S)
        if not opening.done():
            opening.cancel()
        with contextlib.suppress(asyncio.CancelledError, TransferError, OSError, TimeoutError):
            channel = await opening
            self._line.strays += self._line.protected
            async with asyncio.timeout(FAREWELL_S):
                await channel.close()

    async def _channel(self, made: socket.socket) -> DataChannel:
        if self._line.context is None or not self._line.protected:
            return DataChannel(made)
        try:
            reader, writer = await encrypted(
                made,
                self._line.context,
                _server_name(self._line.where),
                limit=_DATA_BYTES,
                session=self._line.tls.session,
            )
        except (ssl.SSLError, OSError) as error:
            raise from_tls(error, self._line.where.host) from error
        shown: ssl.SSLObject = writer.get_extra_info("ssl_object")
        own = self._line.tls.getpeercert(binary_form=True)
        if not shown.session_reused and shown.getpeercert(binary_form=True) != own:
            writer.transport.abort()
            raise ProtocolViolation("The data connection shows a different certificate than the control connection.")
        return ProtectedChannel(reader, writer)

    @contextlib.asynccontextmanager
    async def incoming(self) -> AsyncIterator[_Connect]:
        """How the next data channel comes about: we reach the server (passive), or it reaches us (active)."""
        if self._line.passive:
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
            return await dial(self._line.where, port=port)
        except HostUnreachable as error:
            raise ConnectionDropped(
                "The data connection could not be opened.", server_words=error.server_words
            ) from error

    async def _passive_port(self) -> int:
        """EPSV (RFC 2428), else PASV. The address in a PASV reply is left aside: behind a router it is a private one,
        and any other than the server's own would send the file to somebody else."""
        ready, self._line.ready = self._line.ready, None
        if ready is not None and time.monotonic() - ready[1] < _READY_S:
            return ready[0]
        if self._line.extended:
            reply = await self._line.ask(b"EPSV")
            if reply.code == 229:
                return _extended_port(reply)
            self._line.extended = False
        reply = await self._line.ask(b"PASV")
        if reply.code != 227:
            raise from_reply(reply.code, reply.text, "a data channel")
        return _port_of(reply, lambda text: ftplib.parse227(text)[1])  # noqa: S321  # only reads a reply

    def _listener(self) -> socket.socket:
        own = self._line.writer.get_extra_info("sockname")[0]
        listener = socket.socket(socket.AF_INET6 if ":" in own else socket.AF_INET, socket.SOCK_STREAM)
        listener.setblocking(False)
        listener.bind((own, 0))
        listener.listen(1)
        return listener

    async def _say_port(self, listener: socket.socket) -> None:
        address, port = listener.getsockname()[:2]
        if ":" in address:
            await self._line.need(f"EPRT |2|{address}|{port}|".encode(), "a data channel")
            return
        parts = ",".join([*address.split("."), str(port // 256), str(port % 256)])
        await self._line.need(f"PORT {parts}".encode(), "a data channel")

    def _peer_host(self) -> str:
        return str(self._line.writer.get_extra_info("peername")[0])


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
        raise HostUnreachable("The server cannot connect back to Nailer. Use passive mode.") from error


class DataChannel:
    """The open data channel of one transfer: bytes in chunks, either way, straight from the socket."""

    def __init__(self, made: socket.socket) -> None:
        self._socket = made

    async def read(self, most: int) -> bytes:
        """Bytes, or none at the end. Raises ConnectionDropped where nothing comes for too long."""
        try:
            async with asyncio.timeout(STUCK_S):
                return await self._take(most)
        except TimeoutError as error:
            raise ConnectionDropped(f"Nothing has come for {STUCK_S:.0f} s.") from error
        except OSError as error:
            raise ConnectionDropped("The connection was lost.", server_words=error.strerror) from error

    async def write(self, chunk: bytes) -> None:
        """Send a chunk. Raises ConnectionDropped."""
        try:
            async with asyncio.timeout(STUCK_S):
                await self._give(chunk)
        except TimeoutError as error:
            raise ConnectionDropped(f"The server has taken nothing for {STUCK_S:.0f} s.") from error
        except OSError as error:
            raise ConnectionDropped("The connection was lost.", server_words=error.strerror) from error

    async def close(self) -> None:
        """End the channel properly: what was written still arrives."""
        self._socket.close()

    def abort(self) -> None:
        """Close at once."""
        self._socket.close()

    async def _take(self, most: int) -> bytes:
        return await asyncio.get_running_loop().sock_recv(self._socket, most)

    async def _give(self, chunk: bytes) -> None:
        await asyncio.get_running_loop().sock_sendall(self._socket, chunk)


class ProtectedChannel(DataChannel):
    """A data channel within TLS."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._reader = reader
        self.writer = writer

    async def close(self) -> None:
        """With TLS's closing message, so that the server knows the file is whole."""
        self.writer.close()
        with contextlib.suppress(OSError, TimeoutError):
            async with asyncio.timeout(FAREWELL_S):
                await self.writer.wait_closed()

    def abort(self) -> None:
        """Close at once, without the farewell of TLS."""
        self.writer.transport.abort()

    async def _take(self, most: int) -> bytes:
        return await self._reader.read(most)

    async def _give(self, chunk: bytes) -> None:
        write_to(self.writer, chunk)
        await self.writer.drain()


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


def write_to(writer: asyncio.StreamWriter, data: bytes) -> None:
    """Raises ConnectionResetError where the line is gone: the event loop's own error for that is no OSError."""
    if writer.is_closing():
        raise ConnectionResetError("the connection is closed")
    writer.write(data)
