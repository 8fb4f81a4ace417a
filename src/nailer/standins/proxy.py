"""Proxies: SOCKS version 5 (RFC 1928, without sign-in) and CONNECT of HTTP (RFC 9110, 9.3.6)."""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
from collections.abc import Callable
from dataclasses import dataclass, field

Route = Callable[[str, int], tuple[str, int]]


def _straight(host: str, port: int) -> tuple[str, int]:
    return host, port


@dataclass
class ProxyHost:
    """One proxy that speaks both, told apart by the first byte. `route` finds the made-up names; `asked` are the targets
    it was asked for; with `refuses` it leads nowhere."""

    address: str = "127.0.0.1"
    port: int = 0
    route: Route = _straight
    refuses: bool = False
    asked: list[tuple[str, int]] = field(default_factory=list)
    _tasks: set[asyncio.Task[None]] = field(default_factory=set)
    _writers: set[asyncio.StreamWriter] = field(default_factory=set)

    async def start(self) -> int:
        self._server = await asyncio.start_server(self._serve, self.address, self.port)
        self.port = self._server.sockets[0].getsockname()[1]
        return self.port

    async def stop(self) -> None:
        self._server.close()
        for writer in list(self._writers):
            writer.transport.abort()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        if task is not None:
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)
        self._writers.add(writer)
        try:
            with contextlib.suppress(OSError, asyncio.IncompleteReadError, ValueError):
                first = await reader.readexactly(1)
                await (self._socks(reader, writer) if first == b"\x05" else self._connect(first, reader, writer))
        finally:
            self._writers.discard(writer)
            writer.transport.abort()

    async def _socks(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.readexactly((await reader.readexactly(1))[0])
        writer.write(b"\x05\x00")
        _, _, _, kind = await reader.readexactly(4)
        if kind == 3:
            host = (await reader.readexactly((await reader.readexactly(1))[0])).decode("idna")
        else:
            host = str(ipaddress.ip_address(await reader.readexactly(4 if kind == 1 else 16)))
        port = int.from_bytes(await reader.readexactly(2), "big")
        target = await self._reach(host, port)
        writer.write(b"\x05" + (b"\x00" if target else b"\x05") + b"\x00\x01\x00\x00\x00\x00\x00\x00")
        if target:
            await _join((reader, writer), target)
        else:
            await writer.drain()

    async def _connect(self, first: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        head = first + await reader.readuntil(b"\r\n\r\n")
        host, _, port = head.split()[1].decode().rpartition(":")
        target = await self._reach(host.strip("[]"), int(port))
        writer.write(b"HTTP/1.1 200 OK\r\n\r\n" if target else b"HTTP/1.1 502 Bad Gateway\r\n\r\n")
        if target:
            await _join((reader, writer), target)
        else:
            await writer.drain()

    async def _reach(self, host: str, port: int) -> tuple[asyncio.StreamReader, asyncio.StreamWriter] | None:
        self.asked.append((host, port))
        if self.refuses:
            return None
        try:
            return await asyncio.open_connection(*self.route(host, port))
        except OSError:
            return None


_Line = tuple[asyncio.StreamReader, asyncio.StreamWriter]


async def _join(one: _Line, other: _Line) -> None:
    """Carry bytes both ways until both ends have closed, or one was cut."""
    pumps = [asyncio.create_task(_pump(one[0], other[1])), asyncio.create_task(_pump(other[0], one[1]))]
    try:
        await asyncio.gather(*pumps)
    finally:
        other[1].transport.abort()
        for pump in pumps:
            pump.cancel()
        await asyncio.gather(*pumps, return_exceptions=True)


async def _pump(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    while (chunk := await reader.read(65536)) and not writer.is_closing():
        writer.write(chunk)
        await writer.drain()
    if not writer.is_closing():
        with contextlib.suppress(OSError):
            writer.write_eof()
