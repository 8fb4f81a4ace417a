"""What stands before every request: who it speaks for, whether a page of ours sent it, and the headers of the answer.

Forms carry the session's token as a field, scripts as a header. The check happens here and nowhere else, so that no
route can forget it. Small forms are read here and handed on; streams pass untouched.
"""

from __future__ import annotations

import hmac
from collections.abc import Awaitable, Callable, MutableMapping
from http.cookies import CookieError, SimpleCookie
from typing import Any
from urllib.parse import parse_qs, quote, urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.app import Nailer
from nailer.errors import StoreUnavailable
from nailer.services.people import Session
from nailer.web.shell import urls

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

COOKIE = "nailer"
_OPEN = (urls.SIGN_IN, urls.FIRST_ACCOUNT, "/health")
_UNSAFE = ("POST", "PUT", "PATCH", "DELETE")
_FORM_BYTES = 256 * 1024

_CSP = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "media-src 'self'; frame-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
_HEADERS = {
    "Content-Security-Policy": _CSP,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), microphone=(), geolocation=()",
}


class Guard:
    """ASGI middleware round the whole application."""

    def __init__(self, app: Callable[[Scope, Receive, Send], Awaitable[None]], nailer: Nailer) -> None:
        self._app = app
        self._nailer = nailer

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def _with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in _HEADERS.items():
                    headers.setdefault(name, value)
                headers.setdefault("Cache-Control", "no-store")
            await send(message)

        if scope["path"].startswith("/static/"):
            await self._app(scope, receive, _with_headers)
            return
        try:
            refusal, receive = await self._judge(scope, receive)
        except StoreUnavailable as error:
            refusal = JSONResponse({"title": error.title, "what": error.what}, 503)
        await (refusal or self._app)(scope, receive, _with_headers)

    async def _judge(self, scope: Scope, receive: Receive) -> tuple[Response | None, Receive]:
        """A refusal, or None with the session in the scope's state and the body still to be read."""
        headers = Headers(scope=scope)
        # From before anything is read: the page hears what ends from here on.
        live_version = self._nailer.plans.jobs.version
        session = await self._nailer.people.accounts.session(_cookie(headers))
        scope.setdefault("state", {}).update(session=session, live_version=live_version)
        is_open = scope["path"] in _OPEN
        if session is None and not is_open:
            return await self._to_sign_in(scope, headers), receive
        if scope["method"] not in _UNSAFE:
            return None, receive
        if not _from_our_page(headers):
            return JSONResponse({"title": "Refused", "what": "This was sent from another website."}, 403), receive
        if session is None or is_open:
            return None, receive
        fits, receive = await _carries_token(headers, session, receive)
        if fits:
            return None, receive
        what = "This page is too old: its session has ended. Load it again."
        return JSONResponse({"title": "Load the page again", "what": what}, 403), receive

    async def _to_sign_in(self, scope: Scope, headers: Headers) -> Response:
        if scope["method"] != "GET" or "text/html" not in headers.get("accept", ""):
            return JSONResponse({"title": "Signed out", "what": "Sign in again."}, 401)
        first = await self._nailer.people.accounts.is_empty()
        back = scope["path"] + ("?" + scope["query_string"].decode("latin-1") if scope["query_string"] else "")
        target = urls.FIRST_ACCOUNT if first else f"{urls.SIGN_IN}?next={quote(back, safe='')}"
        return RedirectResponse(target, 303)


def _cookie(headers: Headers) -> str:
    try:
        morsel = SimpleCookie(headers.get("cookie", "")).get(COOKIE)
    except CookieError:
        return ""
    return morsel.value if morsel else ""


def _from_our_page(headers: Headers) -> bool:
    """False where a browser says that another website sent this. Programs that say nothing need the token anyway."""
    site = headers.get("sec-fetch-site")
    if site is not None:
        return site in ("same-origin", "none")
    origin = headers.get("origin")
    return origin is None or urlsplit(origin).netloc == headers.get("host")


async def _carries_token(headers: Headers, session: Session, receive: Receive) -> tuple[bool, Receive]:
    token = headers.get("x-csrf")
    if token is not None:
        return hmac.compare_digest(token, session.csrf), receive
    if not headers.get("content-type", "").startswith("application/x-www-form-urlencoded"):
        return False, receive
    body = bytearray()
    while True:
        message = await receive()
        body += message.get("body", b"")
        if message["type"] == "http.disconnect" or not message.get("more_body") or len(body) > _FORM_BYTES:
            break
    fields = parse_qs(body.decode("utf-8", "replace"))
    given = fields.get("csrf", [""])[-1]
    return hmac.compare_digest(given.encode(), session.csrf.encode()), _replay(bytes(body), receive)


def _replay(body: bytes, rest: Receive) -> Receive:
    sent = False

    async def _again() -> Message:
        nonlocal sent
        if sent:
            return await rest()
        sent = True
        return {"type": "http.request", "body": body, "more_body": False}

    return _again
