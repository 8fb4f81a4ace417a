"""The application that serves views of pages, on a port and so an origin of its own. It knows no session and sets no
cookie: the name of a view, which nobody can guess, is all that it is asked by. What it serves runs in a sandbox."""

from __future__ import annotations

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response
from starlette.routing import Route

from nailer.app import Nailer
from nailer.core.files.entry import SideName
from nailer.core.site.apart import Got
from nailer.errors import NailerError
from nailer.services.checks import PageView

_SIDES = {"here": SideName.HERE, "live": SideName.THERE}


def create_views(nailer: Nailer) -> Starlette:
    """The application beside Nailer's own, over the same parts."""
    app = Starlette(routes=[Route("/{token}/{side}/{tail:path}", _serve)])
    app.state.nailer = nailer
    return app


def origin_of_views(request: Request) -> str:
    """The origin at which a browser reaches the views: as the settings say, else by the port they are served on; '' where
    they are not."""
    nailer: Nailer = request.app.state.nailer
    if nailer.settings.view_address:
        return nailer.settings.view_address.rstrip("/")
    port = getattr(request.app.state, "view_port", 0)
    return f"{request.url.scheme}://{request.url.hostname}:{port}" if port else ""


async def _serve(request: Request) -> Response:
    nailer: Nailer = request.app.state.nailer
    side = _SIDES.get(request.path_params["side"])
    token = request.path_params["token"]
    if side is None:
        return PlainTextResponse("There is no such view.", 404)
    # The path as it was sent: a decoded one would lose what stands percent-encoded in it.
    tail = request.scope["raw_path"].decode("ascii", "replace").partition("?")[0].split("/", 3)[3]
    views = nailer.checks.views
    try:
        view = views.of(token)
        got, data = await views.get(token, side, tail, request.url.query)
    except NailerError as error:
        return PlainTextResponse(error.what, 404)
    return _answer(view, got, data)


def _answer(view: PageView, got: Got, data: bytes) -> Response:
    headers = {
        # Scripts run as they do for visitors, but without an origin: they reach nothing of Nailer's, and no other server.
        "Content-Security-Policy": (
            "sandbox allow-scripts; default-src 'none'; "
            "script-src {own} 'unsafe-inline' 'unsafe-eval'; style-src {own} 'unsafe-inline'; "
            "img-src {own} data: blob:; font-src {own} data:; media-src {own} data: blob:; connect-src {own}; "
            "frame-src {own}; manifest-src 'none'; form-action 'none'; frame-ancestors {framed} {own}"
        ).format(own="'self'", framed=view.framed_by),
        "Access-Control-Allow-Origin": "*",
        "Cross-Origin-Resource-Policy": "cross-origin",
        "Referrer-Policy": "no-referrer",
        "Cache-Control": "no-store",
    }
    if got.status is None:
        return PlainTextResponse(f"Nothing came: {got.words}", 502, headers)
    if got.status >= 400 and not data:
        return PlainTextResponse(got.words or str(got.status), got.status, headers)
    return Response(data, got.status, headers, got.media_type or "text/plain")
