"""What stands before every request: who it speaks for, whether a page of ours sent it, and the headers of the answer.

Forms carry the session's token as a field, scripts as a header. The check happens here and nowhere else, so that no
route can forget it. Small forms are read here and handed on; streams pass untouched. Whatever fails behind the guard
becomes an answer here, so that every answer carries the headers.
"""

from __future__ import annotations

import errno
from collections.abc import Awaitable, Callable
from http.cookies import CookieError, SimpleCookie
from urllib.parse import parse_qs, quote, urlsplit

import structlog
from starlette.datastructures import Headers, MutableHeaders
from starlette.requests import ClientDisconnect, Request
from starlette.responses import RedirectResponse, Response

from nailer.acting import Acting, acting_as
from nailer.app import Nailer
from nailer.core.people.rights import Person
from nailer.errors import DISK_FULL, NailerError, NotAllowed, OwnDiskFull, SignedOut, Unforeseen, WrongHost
from nailer.services.people import Session
from nailer.settings import Settings
from nailer.web.shell import headers as strict
from nailer.web.shell import urls
from nailer.web.shell.bodies import FORM_BYTES, Message, Receive, Scope, bounded
from nailer.web.shell.formtoken import is_same
from nailer.web.shell.hosts import answers_to
from nailer.web.shell.pages import error_answer

Send = Callable[[Message], Awaitable[None]]

_log = structlog.get_logger()

_OPEN = (urls.SIGN_IN, urls.FIRST_ACCOUNT, "/health", urls.MANIFEST, urls.WORKER, urls.OFFLINE)
_OPEN_BELOW = (urls.INVITED,)
_UNSAFE = ("POST", "PUT", "PATCH", "DELETE")
_LONGEST_RETURN = 2000
_CUT = (errno.EPIPE, errno.ECONNRESET)


class Guard:
    """ASGI middleware round the whole application."""

    def __init__(self, app: Callable[[Scope, Receive, Send], Awaitable[None]], nailer: Nailer) -> None:
        self._app = app
        self._nailer = nailer

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        answer = _Answer(send, over_tls=is_secure(scope, self._nailer.settings))
        try:
            await self._pass(scope, receive, answer)
        except ClientDisconnect:
            return  # nobody is there to be told
        except Exception as error:
            if answer.begun and was_cut(error):
                return
            failure = _as_ours(error, scope)
            if answer.begun:
                # The server closes a line whose answer ends early: nobody takes it for whole.
                _log.warning("an answer ended early", path=scope["path"], kind=failure.kind)
                return
            await error_answer(Request(scope), failure)(scope, receive, answer)

    async def _pass(self, scope: Scope, receive: Receive, answer: _Answer) -> None:
        headers = Headers(scope=scope)
        names = (self._nailer.settings.host, *self._nailer.settings.hosts)
        if not answers_to(headers.get("host", ""), names):
            raise WrongHost("Nailer was opened under a host name that is not in its settings.")
        if scope["path"].startswith("/static/"):
            await self._app(scope, receive, answer)
            return
        if scope["path"].startswith(urls.API):
            await self._pass_program(scope, headers, bounded(scope, receive), answer)
            return
        refusal, receive = await self._judge(scope, headers, bounded(scope, receive))
        with acting_as(await self._who(scope)):
            await (refusal or self._app)(scope, receive, answer)

    async def _pass_program(self, scope: Scope, headers: Headers, receive: Receive, answer: _Answer) -> None:
        """A program shows a token and no cookie: no page can make a browser send one. Raises SignedOut."""
        kind, _, given = headers.get("authorization", "").partition(" ")
        if kind.lower() != "bearer":
            raise SignedOut("Send an API token: `Authorization: Bearer nailer_...`.")
        token, who = await self._nailer.people.tokens.acting(given.strip(), address_of(scope))
        scope.setdefault("state", {}).update(session=None, token=token, live_version=self._nailer.plans.jobs.version)
        with acting_as(who):
            await self._app(scope, receive, answer)

    async def _who(self, scope: Scope) -> Acting | None:
        """Who acts in this request; before the sign-in nobody, who reaches nothing."""
        session: Session | None = scope["state"]["session"]
        address = address_of(scope)
        if session is None:
            return Acting(Person(0, ""), address)
        return Acting(await self._nailer.people.rights.person(session.account_id), address)

    async def _judge(self, scope: Scope, headers: Headers, receive: Receive) -> tuple[Response | None, Receive]:
        """A way to the sign-in, or None with the session in the scope's state and the body still to be read. Raises
        NotAllowed, and SignedOut where a script asked."""
        # From before anything is read: the page hears what ends from here on.
        live_version = self._nailer.plans.jobs.version
        token = _cookie(headers, cookie_name(secure=is_secure(scope, self._nailer.settings)))
        session = await self._nailer.people.accounts.session(token)
        scope.setdefault("state", {}).update(session=session, live_version=live_version)
        is_open = scope["path"] in _OPEN or scope["path"].startswith(_OPEN_BELOW)
        if session is None and not is_open:
            return await self._to_sign_in(scope, headers), receive
        if session is not None and (way := _proof_first(session, scope["path"])) is not None:
            if scope["method"] != "GET" or "text/html" not in headers.get("accept", ""):
                raise SignedOut("Confirm your identity with your second factor first.")
            return RedirectResponse(way, 303), receive
        if scope["method"] not in _UNSAFE:
            return None, receive
        if not _from_our_page(headers):
            raise NotAllowed("This request came from another website and was rejected.")
        if session is None or is_open:
            return None, receive
        fits, receive = await _carries_token(headers, session, receive)
        if not fits:
            raise NotAllowed("Your session on this page has ended. Reload the page.", advice=("Load the page again.",))
        return None, receive

    async def _to_sign_in(self, scope: Scope, headers: Headers) -> Response:
        if scope["method"] != "GET" or "text/html" not in headers.get("accept", ""):
            raise SignedOut("Sign in again.")
        first = await self._nailer.people.accounts.is_empty()
        back = scope["path"] + ("?" + scope["query_string"].decode("latin-1") if scope["query_string"] else "")
        if len(back) > _LONGEST_RETURN:
            back = urls.SITES
        target = urls.FIRST_ACCOUNT if first else f"{urls.SIGN_IN}?next={quote(back, safe='')}"
        return RedirectResponse(target, 303)


def _proof_first(session: Session, path: str) -> str | None:
    """Where somebody has to go before anything else: to give the second proof, or to set one up that is required."""
    if path in (*_OPEN, urls.SIGN_OUT):
        return None
    if session.half:
        return None if path.startswith(urls.SECOND) else urls.SECOND
    if session.lacks_second:
        return None if path.startswith(urls.OWN_ACCOUNT) else f"{urls.OWN_ACCOUNT}?said=needed"
    return None


class _Answer:
    """Sends an answer with the headers that every one carries. `begun`: its head has gone out."""

    def __init__(self, send: Send, *, over_tls: bool) -> None:
        self._send = send
        self._always = strict.OVER_TLS if over_tls else strict.ALWAYS
        self.begun = False

    async def __call__(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            self.begun = True
            headers = MutableHeaders(scope=message)
            for name, value in self._always.items():
                headers.setdefault(name, value)
        await self._send(message)


def was_cut(error: BaseException) -> bool:
    """True for what a browser causes by going away in the middle of an answer, however deep it is wrapped."""
    if isinstance(error, BaseExceptionGroup):
        return all(was_cut(one) for one in error.exceptions)
    if isinstance(error, ClientDisconnect | BrokenPipeError | ConnectionResetError):
        return True
    return isinstance(error, OSError) and error.errno in _CUT


def address_of(scope: Scope) -> str:
    """Where a request came from, as the server or a trusted proxy says."""
    return str(scope["client"][0]) if scope.get("client") else "unknown"


def is_secure(scope: Scope, settings: Settings) -> bool:
    """True where the browser speaks TLS: to Nailer, or to the proxy before it."""
    return settings.secure_cookies or scope["scheme"] == "https"


def cookie_name(*, secure: bool) -> str:
    """The name of the session's cookie. `__Host-` makes browsers take it from this very host alone (RFC 6265bis, 4.1.3)."""
    return "__Host-nailer" if secure else "nailer"


def _as_ours(error: Exception, scope: Scope) -> NailerError:
    """Any failure as one that may reach a person."""
    if isinstance(error, NailerError):
        return error
    if isinstance(error, OSError) and error.errno in DISK_FULL:
        return OwnDiskFull("The disk of Nailer's machine is full.")
    _log.error("a request failed in a way nobody foresaw", path=scope["path"], exc_info=error)
    return Unforeseen("Details are in Nailer's log. No change was left incomplete.")


def _cookie(headers: Headers, name: str) -> str:
    try:
        morsel = SimpleCookie(headers.get("cookie", "")).get(name)
    except CookieError:
        return ""
    return morsel.value if morsel else ""


def _from_our_page(headers: Headers) -> bool:
    """False where a browser says that another website sent this. Programs that say nothing need the token anyway."""
    site = headers.get("sec-fetch-site")
    if site is not None:
        return site in ("same-origin", "none")
    origin = headers.get("origin")
    try:
        return origin is None or urlsplit(origin).netloc == headers.get("host")
    except ValueError:
        return False


async def _carries_token(headers: Headers, session: Session, receive: Receive) -> tuple[bool, Receive]:
    token = headers.get("x-csrf")
    if token is not None:
        return is_same(token, session.csrf), receive
    if not headers.get("content-type", "").startswith("application/x-www-form-urlencoded"):
        return False, receive
    body = bytearray()
    while True:
        message = await receive()
        body += message.get("body", b"")
        if message["type"] == "http.disconnect":
            raise ClientDisconnect
        if not message.get("more_body") or len(body) > FORM_BYTES:
            break
    fields = parse_qs(body.decode("utf-8", "replace"))
    return is_same(fields.get("csrf", [""])[-1], session.csrf), _replay(bytes(body), receive)


def _replay(body: bytes, rest: Receive) -> Receive:
    sent = False

    async def _again() -> Message:
        nonlocal sent
        if sent:
            return await rest()
        sent = True
        return {"type": "http.request", "body": body, "more_body": False}

    return _again
