"""TLS for FTP (RFC 4217): the line to the server is met like any server, data channels continue its session.

Many servers demand that a data channel resumes the session of the control line: it proves that both come from the same
client. asyncio has no argument for that, so the context hands the session to each TLS object it makes.
"""

from __future__ import annotations

import ssl
from typing import Any

from nailer.errors import ConnectionDropped, ProtocolViolation, TransferError, WeakServer


class ResumingContext(ssl.SSLContext):
    """A client's context whose every new connection offers `offered`, a session of an earlier one, where there is."""

    offered: ssl.SSLSession | None = None

    def wrap_bio(
        self,
        incoming: ssl.MemoryBIO,
        outgoing: ssl.MemoryBIO,
        server_side: bool = False,
        server_hostname: str | bytes | None = None,
        session: ssl.SSLSession | None = None,
    ) -> ssl.SSLObject:
        return super().wrap_bio(incoming, outgoing, server_side, server_hostname, session or self.offered)


def client_context(*, old_allowed: bool) -> ResumingContext:
    """A context for one site. The identity is judged by us (`sides.certificate`), after the handshake and before
    anything secret is sent: a certificate nobody vouches for must be seen before it can be trusted."""
    context = ResumingContext(ssl.PROTOCOL_TLS_CLIENT)
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
        sentence = f"{host} offers only encryption that is not safe any more."
        return WeakServer(sentence, server_words=reason, wanted=("TLS before 1.2",))
    if "WRONG_VERSION_NUMBER" in reason or "HTTP_REQUEST" in reason or "RECORD_LAYER" in reason:
        return ProtocolViolation(f"What answers at {host} does not speak TLS there.", server_words=reason)
    return ConnectionDropped(f"The encryption with {host} did not come about.", server_words=reason)
