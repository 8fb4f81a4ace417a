"""The headers that every answer carries, whoever makes it: what a page may load, and who may look into it."""

from __future__ import annotations

from collections.abc import Iterable
from urllib.parse import quote_from_bytes

_CSP = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "media-src 'self'; frame-src 'self'; "
    "connect-src 'self'; manifest-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)


def showing(addresses: Iterable[str]) -> dict[str, str]:
    """The header of a page that shows what is below addresses of other origins in its frames."""
    return {"Content-Security-Policy": _CSP.replace("frame-src 'self'", f"frame-src {' '.join(addresses)}")}


_YEAR_S = 365 * 86_400

ALWAYS = {
    "Content-Security-Policy": _CSP,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), microphone=(), geolocation=()",
    "Cache-Control": "no-store",
}
# RFC 6797: only an answer over TLS may say so.
OVER_TLS = ALWAYS | {"Strict-Transport-Security": f"max-age={_YEAR_S}"}


def download_headers(file_name: bytes) -> dict[str, str]:
    """A download that no browser opens in our origin (RFC 6266): always an attachment of unknown kind."""
    plain = "".join(chr(byte) if 32 <= byte < 127 and byte not in b'"\\%;' else "_" for byte in file_name) or "file"
    return {
        "Content-Type": "application/octet-stream",
        "Content-Disposition": f"attachment; filename=\"{plain}\"; filename*=UTF-8''{quote_from_bytes(file_name, safe='')}",
        "Content-Security-Policy": "default-src 'none'; sandbox",
    }
