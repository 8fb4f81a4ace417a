"""TLS for FTP (RFC 4217): the line to the server is met like any server, data channels continue its session.

Many servers demand that a data channel resumes the session of the control line: it proves that both come from the same
client. asyncio has no argument for that, so what stands for the context hands the session on.
"""

from __future__ import annotations

import asyncio
import contextlib
import socket
import ssl
from asyncio.sslproto import SSLProtocol
from typing import Any, cast

from nailer.errors import ConnectionDropped, ProtocolViolation, TransferError, WeakServer
from nailer.sides.dial import taken_over


class _Resuming:
    """Stands for a context towards one line: its TLS object offers a session of an earlier one, where there is."""

    def __init__(self, context: ssl.SSLContext, session: ssl.SSLSession | None) -> None:
        self._context = context
        self._session = session

    def wrap_bio(
        self,
        incoming: ssl.MemoryBIO,
        outgoing: ssl.MemoryBIO,
        server_side: bool = False,
        server_hostname: str | bytes | None = None,
    ) -> ssl.SSLObject:
        """Wrap a data channel with the session of its line: many servers refuse any other."""
        return self._context.wrap_bio(incoming, outgoing, server_side, server_hostname, self._session)


HANDSHAKE_S = 20
FAREWELL_S = 2.0


class _Inside(asyncio.StreamReaderProtocol):
    """The protocol inside the encryption. `transport` writes to it once the handshake is done."""

    transport: asyncio.WriteTransport

    def __init__(self, limit: int) -> None:
        loop = asyncio.get_running_loop()
        self.reader = asyncio.StreamReader(limit, loop)
        super().__init__(self.reader, loop=loop)

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """The encryption stands; from here on the protocol inside speaks."""
        self.transport = cast(asyncio.WriteTransport, transport)
        super().connection_made(transport)


async def encrypted(
    line: socket.socket | asyncio.WriteTransport,
    context: ssl.SSLContext,
    server_name: str | None,
    *,
    limit: int,
    session: ssl.SSLSession | None = None,
) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    """Both ends of a line that is encrypted from here on; `limit` is what its reader holds, in bytes, `session` an earlier
    one to go on with.

    What somebody slipped in before the encryption began is never heard. Raises ssl.SSLError and OSError, and the line is
    closed then. This is the standard library's protocol, not the event loop's own: that one loses what comes together
    with the end of the handshake and of the line, as a short listing does.
    """
    if not isinstance(line, socket.socket) and line.is_closing():
        raise ConnectionResetError("the connection is closed")
    loop = asyncio.get_running_loop()
    plain: asyncio.WriteTransport
    inside, begun = _Inside(limit), loop.create_future()
    tls = SSLProtocol(
        loop,
        inside,
        cast(ssl.SSLContext, _Resuming(context, session)),
        begun,
        server_hostname=server_name,
        ssl_handshake_timeout=HANDSHAKE_S,
        ssl_shutdown_timeout=FAREWELL_S,
    )
    with taken_over(line) if isinstance(line, socket.socket) else contextlib.nullcontext():
        if isinstance(line, socket.socket):
            plain, _ = await loop.create_connection(lambda: tls, sock=line)
        else:
            plain = line
            plain.set_protocol(tls)
            tls.connection_made(plain)
        try:
            await begun
        except BaseException:
            plain.abort()
            raise
    return inside.reader, asyncio.StreamWriter(inside.transport, inside, inside.reader, loop)


def client_context(*, old_allowed: bool) -> ssl.SSLContext:
    """A context for one site. The identity is judged by us (`sides.certificate`), after the handshake and before
    anything secret is sent: a certificate nobody vouches for must be seen before it can be trusted."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    # Some servers end a data channel without saying so; FTP's own reply tells whether the file was whole.
    context.options |= ssl.OP_IGNORE_UNEXPECTED_EOF
    if old_allowed:
        context.minimum_version = ssl.TLSVersion.MINIMUM_SUPPORTED
        context.set_ciphers("DEFAULT:@SECLEVEL=0")
    return context


def chain_of(found: ssl.SSLObject) -> list[bytes]:
    """The certificates a server showed, its own first, in DER."""
    own = found.getpeercert(binary_form=True)
    if own is None:
        raise ProtocolViolation("The server shows no certificate.")
    if hasattr(found, "get_unverified_chain"):
        return [bytes(one) for one in found.get_unverified_chain()]
    # Python before 3.13 has this only on the inner object.
    inner: Any = getattr(found, "_sslobj", None)
    chain = inner.get_unverified_chain() if inner is not None else None
    return [one.public_bytes(2) for one in chain] if chain else [own]  # 2: DER, _ssl.ENCODING_DER


_WEAK = (
    "UNSUPPORTED_PROTOCOL",
    "NO_PROTOCOLS_AVAILABLE",
    "PROTOCOL_VERSION",
    "NO_SHARED_CIPHER",
    "DH_KEY_TOO_SMALL",
    "HANDSHAKE_FAILURE",
    "EE_KEY_TOO_SMALL",
    "CA_MD_TOO_WEAK",
    "LEGACY_SIGALG",
)


def from_tls(error: ssl.SSLError | OSError, host: str) -> TransferError:
    """Our error for a handshake that failed."""
    reason = getattr(error, "reason", None) or str(error)
    if any(word in reason for word in _WEAK):
        sentence = f"{host} offers only encryption that is no longer safe."
        return WeakServer(sentence, server_words=reason, wanted=("TLS before 1.2",))
    if "WRONG_VERSION_NUMBER" in reason or "HTTP_REQUEST" in reason or "RECORD_LAYER" in reason:
        return ProtocolViolation(f"{host} does not use TLS on this port.", server_words=reason)
    return ConnectionDropped(f"The encrypted connection to {host} could not be set up.", server_words=reason)
