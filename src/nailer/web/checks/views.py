"""The application that serves views of pages, each side of each view at an origin of its own. It knows no session and
sets no cookie: a name that nobody can guess is all that a side is asked by, at the host it was opened for. What it serves
is in a sandbox, and may load nothing but what is below that name."""

from __future__ import annotations

from collections.abc import Callable
from http import HTTPStatus
from importlib.resources import files
from ipaddress import ip_address
from urllib.parse import urlsplit

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response
from starlette.routing import Route

from nailer.app import Nailer
from nailer.core.site.apart import Got
from nailer.core.site.within import with_first
from nailer.errors import NailerError
from nailer.services.checks import PageView, SideView

_STATUSES = frozenset(int(one) for one in HTTPStatus if one >= HTTPStatus.OK)
_SOURCES = (
    "default-src 'none'; style-src {own} 'unsafe-inline'; img-src {own} data:; font-src {own} data:; "
    "media-src {own} data:; frame-src {own}; base-uri {own}; manifest-src 'none'; form-action 'none'; "
    "webrtc 'block'; frame-ancestors {framed} {origin}; "
)
_STILL = "sandbox; script-src 'none'; connect-src 'none'"
_RUNNING = (
    "sandbox allow-scripts; script-src {own} 'unsafe-inline' 'unsafe-eval'; connect-src {own}; "
    "require-trusted-types-for 'script'; trusted-types default"
)
_GUARD = b"<script>" + files("nailer.web.checks").joinpath("view-guard.js").read_bytes() + b"</script>"
_NOTHING = (
    "camera=(), microphone=(), geolocation=(), payment=(), usb=(), serial=(), bluetooth=(), hid=(), midi=(), "
    "display-capture=(), clipboard-read=(), clipboard-write=(), fullscreen=(), autoplay=(), browsing-topics=()"
)


def create_views(nailer: Nailer) -> Starlette:
    """The application beside Nailer's own, over the same parts."""
    app = Starlette(routes=[Route("/{secret}/{tail:path}", _serve)])
    app.state.nailer = nailer
    return app


def origins_of_views(request: Request) -> Callable[[str], str] | None:
    """The origin at which a browser reaches a side of a view, by its label; None where views are not served.

    The setting `view_address` says it, with `{view}` where the label goes. Without it a Nailer that is reached on this
    machine has names below `localhost`, which browsers lead here (RFC 6761, 6.3); elsewhere the host is one, and only the
    sandbox and the names in the addresses keep the sides apart.
    """
    nailer: Nailer = request.app.state.nailer
    given = nailer.settings.view_address.rstrip("/")
    if given:
        return lambda label: given.replace("{view}", label)
    port = getattr(request.app.state, "view_port", 0)
    if not port:
        return None
    scheme, host = request.url.scheme, request.url.hostname or ""
    if _is_loopback(host):
        return lambda label: f"{scheme}://{label}.localhost:{port}"
    return lambda label: f"{scheme}://{f'[{host}]' if ':' in host else host}:{port}"


def _is_loopback(host: str) -> bool:
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return host == "localhost" or host.endswith(".localhost")


async def _serve(request: Request) -> Response:
    nailer: Nailer = request.app.state.nailer
    # The path as it was sent: a decoded one would lose what stands percent-encoded in it.
    tail = request.scope["raw_path"].decode("ascii", "replace").partition("?")[0].split("/", 2)[2]
    views = nailer.checks.views
    try:
        view, side = views.served(request.path_params["secret"], _host(request))
        got, data = await views.get(view, side, tail, request.url.query)
    except NailerError as error:
        return PlainTextResponse(error.what, 404)
    return _answer(view, view.sides[side], got, data)


def _host(request: Request) -> str:
    try:
        return urlsplit(f"//{request.headers.get('host', '')}").hostname or ""
    except ValueError:
        return ""


def _answer(view: PageView, side: SideView, got: Got, data: bytes) -> Response:
    guarded = with_first(data, got.media_type, _GUARD) if view.scripts else None
    data = data if guarded is None else guarded
    # Only a page whose very first script is ours may run its own.
    policy = (_SOURCES + (_STILL if guarded is None else _RUNNING)).format(
        own=side.top, origin=side.origin, framed=view.viewer.framed_by
    )
    headers = {
        "Content-Security-Policy": policy,
        # A page in a sandbox has no origin, which is called null: it reads its own styles, fonts and data.
        "Access-Control-Allow-Origin": "null",
        "Cross-Origin-Resource-Policy": "cross-origin",
        "Referrer-Policy": "no-referrer",
        "Permissions-Policy": _NOTHING,
        "X-Content-Type-Options": "nosniff",
        "X-DNS-Prefetch-Control": "off",
        "Cache-Control": "no-store",
    }
    if got.is_withheld:
        return PlainTextResponse(f"Nailer does not show this from here: {got.words}.", 403, headers)
    if got.status is None:
        return PlainTextResponse(f"Nothing came: {got.words}", 502, headers)
    if got.status not in _STATUSES:
        return PlainTextResponse(f"The server answered {got.status}, which no standard knows.", 502, headers)
    if got.status >= 400 and not data:
        return PlainTextResponse(got.words or str(got.status), got.status, headers)
    return Response(data, got.status, headers, got.media_type or "text/plain")
