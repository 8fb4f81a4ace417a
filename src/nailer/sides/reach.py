"""From what is wanted to a signed-in connection, whatever the protocol; and who answers where that fails."""

from __future__ import annotations

import asyncio
import contextlib

from nailer.core.connecting.protocol import Greeting, Protocol, Speaker, greeting_of
from nailer.core.jobs.retry import next_delay
from nailer.errors import ConnectionDropped, HostUnreachable, TooManyConnections, TransferError
from nailer.sides.connection import Connection, Wanted
from nailer.sides.dial import Endpoint, dial
from nailer.sides.ftp import side as ftp
from nailer.sides.ftp.tls import client_context, encrypted
from nailer.sides.register import reached_by, register
from nailer.sides.sftp import side as sftp

register(Protocol.SFTP, sftp.connect)
for _protocol in (Protocol.FTP_TLS, Protocol.FTP_IMPLICIT, Protocol.FTP):
    register(_protocol, ftp.connect)

_LISTEN_S = 4.0
_HELLO_BYTES = 400
_MOST_TRIES = 3
_FIRST_WAIT_S = 1.0


async def reach(wanted: Wanted) -> Connection:
    """A signed-in connection. Raises what the protocol's own `connect` raises: all of it `TransferError`s.

    A server that asks to come back later is asked again, twice, after growing waits; a refusal never is.
    """
    wanted.log.hide(wanted.sign_in.secrets)
    for tries in range(_MOST_TRIES):
        try:
            return await _reach_once(wanted)
        except TooManyConnections:
            if tries == _MOST_TRIES - 1:
                raise
            await asyncio.sleep(next_delay(tries + 1, base_s=_FIRST_WAIT_S))
    raise AssertionError("the last try returns or raises")


async def _reach_once(wanted: Wanted) -> Connection:
    try:
        return await reached_by(wanted.protocol)(wanted)
    except TransferError as error:
        wanted.log.note(error.what + (f" ({error.server_words})" if error.server_words else ""))
        raise


async def who_answers(where: Endpoint) -> Greeting:
    """Who speaks at a port, found without sending anything secret. Raises HostUnreachable.

    Silence is tried once more with a TLS hello: a server with implicit TLS waits for that.
    """
    made = await dial(where)
    try:
        first = b""
        with contextlib.suppress(TimeoutError, OSError):
            async with asyncio.timeout(_LISTEN_S):
                first = await asyncio.get_running_loop().sock_recv(made, _HELLO_BYTES)
    finally:
        made.close()
    greeting = greeting_of(first)
    if greeting.speaker is not Speaker.SILENT:
        return greeting
    return await _greeting_inside_tls(where)


async def _greeting_inside_tls(where: Endpoint) -> Greeting:
    made = await dial(where)
    try:
        async with asyncio.timeout(2 * _LISTEN_S):
            reader, writer = await encrypted(made, client_context(old_allowed=True), where.host, limit=_HELLO_BYTES)
            try:
                async with asyncio.timeout(_LISTEN_S):
                    inside = greeting_of(await reader.read(_HELLO_BYTES))
            finally:
                writer.transport.abort()
    except (TimeoutError, OSError):
        return Greeting(Speaker.SILENT, "")
    return Greeting(Speaker.TLS if inside.speaker is Speaker.FTP else Speaker.WEB, inside.line)


async def answers_at(where: Endpoint) -> Greeting | None:
    """As `who_answers`; None where nobody does."""
    try:
        return await who_answers(where)
    except (HostUnreachable, ConnectionDropped):
        return None
