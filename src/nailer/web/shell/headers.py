"""The headers that every answer carries, whoever makes it: what a page may load, and who may look into it."""

from __future__ import annotations

_CSP = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "media-src 'self'; frame-src 'self'; "
    "connect-src 'self'; manifest-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)


def showing(origin: str) -> dict[str, str]:
    """The header of a page that shows views of another origin in its frames."""
    return {"Content-Security-Policy": _CSP.replace("frame-src 'self'", f"frame-src {origin}")}


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
