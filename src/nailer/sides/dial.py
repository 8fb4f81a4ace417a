"""Reaching a server's port: a name becomes addresses, an address a connected socket, directly or through a proxy."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import errno
import os
import re
import socket
from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import StrEnum

from python_socks import ProxyConnectionError, ProxyError, ProxyTimeoutError, ProxyType
from python_socks.async_.asyncio import Proxy as SocksProxy

from nailer.errors import HostUnreachable, Unreached

DIAL_S = 15.0
_EACH_ADDRESS_S = 6.0
_MOST_HEAD_BYTES = 16 * 1024


class ProxyKind(StrEnum):
    """What carries the line: SOCKS version 5 (RFC 1928) or CONNECT of HTTP (RFC 9110, 9.3.6)."""

    SOCKS5 = "socks5"
    HTTP = "http"


@dataclass(frozen=True, slots=True)
class Proxy:
    """A proxy that lines go through."""

    kind: ProxyKind
    host: str
    port: int
    user: str = ""
    password: str = field(default="", repr=False)


@dataclass(frozen=True, slots=True)
class Endpoint:
    """Where a server is: the name and port a person knows it by, and the address to dial (the same unless routed)."""

    host: str
    port: int
    dial_host: str
    dial_port: int
    proxy: Proxy | None = None


async def resolve(where: Endpoint) -> list[str]:
    """The addresses of a server's name, IPv6 and IPv4. Through a proxy the name is the proxy's to find: none then."""
    if where.proxy is not None:
        return []
    try:
        async with asyncio.timeout(DIAL_S):
            found = await asyncio.get_running_loop().getaddrinfo(
                where.dial_host, where.dial_port, type=socket.SOCK_STREAM
            )
    except (socket.gaierror, UnicodeError) as error:
        words = getattr(error, "strerror", None)
        sentence = f"The server {where.host} was not found. Check the name."
        raise HostUnreachable(sentence, server_words=words, why=Unreached.NO_NAME) from error
    except TimeoutError as error:
        sentence = f"The name {where.host} could not be looked up: DNS does not answer."
        raise HostUnreachable(sentence, why=Unreached.NO_NAME) from error
    return list(dict.fromkeys(str(one[4][0]) for one in found))


async def dial(where: Endpoint, *, port: int | None = None, addresses: list[str] | None = None) -> socket.socket:
    """A connected socket that does not block. `port`: another than the server's own, for data channels.

    Raises HostUnreachable, which says in `why` what was in the way.
    """
    if where.proxy is not None:
        return await _dial_through(where.proxy, where, port or where.dial_port)
    tried = addresses or await resolve(where)
    refused: HostUnreachable | None = None
    limit_s = DIAL_S if len(tried) == 1 else _EACH_ADDRESS_S
    for address in tried:
        try:
            return await _connected(address, port or where.dial_port, limit_s)
        except ConnectionRefusedError:
            sentence = f"{where.host} refuses connections on port {port or where.port}."
            refused = HostUnreachable(sentence, server_words=os.strerror(errno.ECONNREFUSED), why=Unreached.REFUSED)
        except TimeoutError:
            sentence = f"{where.host} does not answer on port {port or where.port}."
            refused = refused or HostUnreachable(sentence, why=Unreached.SILENT)
        except OSError as error:
            sentence = f"{where.host} cannot be reached."
            refused = refused or HostUnreachable(sentence, server_words=error.strerror, why=Unreached.NO_ROUTE)
    raise refused or HostUnreachable(f"{where.host} has no address.", why=Unreached.NO_NAME)


@contextlib.contextmanager
def taken_over(made: socket.socket) -> Iterator[None]:
    """While somebody takes a dialled socket over: where that fails, the socket is let go.

    The event loop may have taken it already and have closed its number, as where the server resets the line before
    the first word. Closing it here as well would then close what somebody else has opened under that number since.
    """
    own = os.fstat(made.fileno()).st_ino
    try:
        yield
    except BaseException:
        _let_go(made, own)
        raise


def _let_go(made: socket.socket, own: int) -> None:
    try:
        is_own = os.fstat(made.fileno()).st_ino == own
    except OSError:
        is_own = False
    if is_own:
        made.close()
    else:
        made.detach()


async def _connected(address: str, port: int, limit_s: float) -> socket.socket:
    made = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_STREAM)
    try:
        made.setblocking(False)
        made.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        made.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        async with asyncio.timeout(limit_s):
            await asyncio.get_running_loop().sock_connect(made, (address, port))
    except BaseException:
        made.close()
        raise
    return made


async def _dial_through(proxy: Proxy, where: Endpoint, port: int) -> socket.socket:
    shown = f"The proxy {proxy.host}:{proxy.port}"
    try:
        async with asyncio.timeout(DIAL_S):
            if proxy.kind is ProxyKind.HTTP:
                return await _connect_through(proxy, where.dial_host, port)
            through = SocksProxy(
                ProxyType.SOCKS5, proxy.host, proxy.port, proxy.user or None, proxy.password or None, rdns=True
            )
            made: socket.socket = await through.connect(where.dial_host, port, timeout=DIAL_S)
            return made
    except (ProxyConnectionError, ProxyTimeoutError, OSError) as error:
        words = str(error) or None
        raise HostUnreachable(f"{shown} does not answer.", server_words=words, why=Unreached.PROXY) from error
    except ProxyError as error:
        sentence = f"{shown} does not lead to {where.host}."
        raise HostUnreachable(sentence, server_words=str(error) or None, why=Unreached.PROXY) from error


async def _connect_through(proxy: Proxy, host: str, port: int) -> socket.socket:
    """CONNECT of HTTP. Reads the answer byte by byte: the library takes what follows it as a part of it, and servers of
    files speak first, so their greeting would be lost. Raises ProxyError, OSError."""
    loop = asyncio.get_running_loop()
    address = (await loop.getaddrinfo(proxy.host, proxy.port, type=socket.SOCK_STREAM))[0][4][0]
    made = await _connected(str(address), proxy.port, _EACH_ADDRESS_S)
    try:
        target = f"[{host}]:{port}" if ":" in host else f"{host}:{port}"
        lines = [f"CONNECT {target} HTTP/1.1", f"Host: {target}"]
        if proxy.user:
            pair = base64.b64encode(f"{proxy.user}:{proxy.password}".encode()).decode()
            lines.append(f"Proxy-Authorization: Basic {pair}")
        await loop.sock_sendall(made, "\r\n".join([*lines, "", ""]).encode())
        head = bytearray()
        while not head.endswith(b"\r\n\r\n"):
            one = await loop.sock_recv(made, 1)
            head += one
            if not one or len(head) > _MOST_HEAD_BYTES:
                raise ProxyError("it answers with something that is not HTTP")
        status = head.split(b"\r\n")[0].decode("latin-1")
        if not re.match(r"HTTP/1\.[01] 2\d\d", status):
            raise ProxyError(status)
    except BaseException:
        made.close()
        raise
    return made
