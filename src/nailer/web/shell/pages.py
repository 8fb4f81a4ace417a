"""Rendering: one Jinja environment, what every page knows, and answers for errors."""

from __future__ import annotations

import functools
import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit
from zoneinfo import ZoneInfo

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape
from markupsafe import Markup
from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, RedirectResponse, Response

from nailer.acting import person
from nailer.core import words
from nailer.core.compare.joint import JOINT_WORDS, Joint
from nailer.core.connecting.routes import routed_address
from nailer.core.files import permissions as permission_rules
from nailer.core.files.sitepath import name_token, shown_name, without_scheme
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.limits import rate_text
from nailer.core.jobs.states import JOB_WORDS
from nailer.core.people.devices import device_words
from nailer.core.people.preferences import ACT_WORDS, Preferences
from nailer.core.people.preferences import zone_of as zone_for
from nailer.core.people.rights import Right
from nailer.core.words import aware
from nailer.errors import (
    AlreadyThere,
    Busy,
    CameTooLate,
    ConfirmFirst,
    Conflict,
    FileMissing,
    IdentityChanged,
    IdentityUnknown,
    InvalidInput,
    Locked,
    LoginRefused,
    NailerError,
    NoSuchMethod,
    NotAllowed,
    NotFound,
    OutsideRoot,
    OwnDiskFull,
    SignedOut,
    StoreUnavailable,
    TooLarge,
    UnderWay,
    Unforeseen,
    WrongHost,
    every_error,
)
from nailer.services.people import Session
from nailer.services.plans import WHAT_WORDS
from nailer.web.shell import formtoken, urls
from nailer.web.shell.doors import packages_of, pairs_of, people_of, plans_of, settings_of, sites_of

_STATUS: dict[type[NailerError], int] = {
    InvalidInput: 422,
    NotFound: 404,
    FileMissing: 404,
    NotAllowed: 403,
    SignedOut: 401,
    Locked: 409,
    Conflict: 409,
    AlreadyThere: 409,
    IdentityUnknown: 409,
    IdentityChanged: 409,
    LoginRefused: 409,
    OutsideRoot: 403,
    OwnDiskFull: 507,
    StoreUnavailable: 503,
    Busy: 503,
    UnderWay: 409,
    Unforeseen: 500,
    TooLarge: 413,
    CameTooLate: 408,
    WrongHost: 421,
    NoSuchMethod: 405,
}


@functools.cache
def make_environment() -> Environment:
    """The one Jinja environment, with what every template may use."""
    environment = Environment(
        loader=PackageLoader("nailer.web"),
        autoescape=select_autoescape(default_for_string=True, default=True),
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.globals.update(
        urls=urls,
        JOINTS=list(Joint),
        JOINT_WORDS=JOINT_WORDS,
        JOB_WORDS=JOB_WORDS,
        WHAT_WORDS=WHAT_WORDS,
        JobKind=JobKind,
        advice_of=_advice_of,
        permission_rules=permission_rules,
    )
    environment.filters.update(
        size=words.size_text,
        exact_size=words.exact_size,
        span=words.span_text,
        count=words.count_text,
        number=words.number_text,
        shown=shown_name,
        token=name_token,
        bare=without_scheme,
        script_data=_script_data,
        rate=rate_text,
        device=device_words,
        label=words.label_text,
    )
    return environment


def _advice_of(kind: str) -> str:
    """What can be done about a stored failure, by the name of its error."""
    return " ".join(next((one.advice_default for one in every_error() if one.__name__ == kind), ()))


def _script_data(value: Any) -> Markup:
    """A value as JSON that may stand in a script block of type application/json."""
    text = json.dumps(value, ensure_ascii=True).replace("<", "\\u003c").replace("&", "\\u0026")
    return Markup(text)  # noqa: S704 - nothing left in it can end the block


def render(request: Request, template: str, status: int = 200, **values: Any) -> HTMLResponse:
    """A page or a fragment as an answer."""
    return HTMLResponse(fragment(request, template, **values), status)


def fragment(request: Request, template: str, **values: Any) -> str:
    """A template's text. Adds what every template knows: the session, now, and readable times."""
    now, zone = datetime.now(UTC), zone_of(request)
    own = preferences_of(request)
    environment: Environment = request.app.state.templates
    session: Session | None = getattr(request.state, "session", None)
    return environment.get_template(template).render(
        session=session,
        csrf=formtoken.shown(session.csrf) if session else "",
        live_version=getattr(request.state, "live_version", plans_of(request).jobs.version),
        request_path=request.url.path,
        page_template=template,
        prefs=own,
        ACT_WORDS=ACT_WORDS,
        now=now,
        when=lambda moment: words.when_text(aware(moment), now, zone),
        clock=lambda moment: (aware(moment)).astimezone(zone).strftime("%H:%M:%S"),
        exact=lambda moment: moment.strftime("%Y-%m-%d %H:%M:%S UTC"),
        stamp=lambda stamp: words.stamp_text(stamp, now, zone),
        unsent_of=pairs_of(request).not_sent.of_site,
        may=_may,
        whole=_sees_whole,
        asides_of=packages_of(request).asides.shown,
        changed_of=lambda site: (site.host, site.port) in sites_of(request).connector.changed,
        expired_of=sites_of(request).connector.is_expired,
        others_in=people_of(request).presence.others,
        confirmed=_confirmed(request),
        exact_stamp=words.exact_stamp,
        **values,
    )


def _confirmed(request: Request) -> bool:
    session = getattr(request.state, "session", None)
    return session is not None and people_of(request).gate.is_open(session)


def preferences_of(request: Request) -> Preferences:
    """How Nailer looks and works for whoever looks; as usual before sign-in."""
    session = getattr(request.state, "session", None)
    return session.preferences if session is not None else Preferences()


def zone_of(request: Request) -> ZoneInfo:
    """Whose days and hours the page shows: the person's, else this Nailer's."""
    return zone_for(preferences_of(request), settings_of(request).zone)


def _may(right: str, site_id: int) -> bool:
    """Whether whoever looks may do something on a site: what they may not do is not offered."""
    who = person()
    return who is None or who.may(Right(right), site_id)


def _sees_whole(site_id: int) -> bool:
    """Whether whoever looks sees all of a site: what needs that is not offered to others."""
    who = person()
    if who is None or who.is_admin:
        return True
    grant = who.grant(site_id)
    return grant is not None and grant.is_whole


def routed(request: Request, address: str) -> str:
    """A public address as this machine reaches it: `routes` applies to web addresses as it does to servers."""
    return routed_address(address, settings_of(request).route)


def status_of(error: NailerError) -> int:
    """The status of HTTP that says what kind of error it is (RFC 9110, 15)."""
    return next((code for kind, code in _STATUS.items() if isinstance(error, kind)), 502)


def error_answer(request: Request, error: NailerError) -> Response:
    """An error as a page where a person looks, as JSON where a script asked."""
    status = status_of(error)
    if request.url.path.startswith(urls.API):
        return _problem(error, status)
    if "text/html" in request.headers.get("accept", ""):
        if isinstance(error, ConfirmFirst):
            return RedirectResponse(f"{urls.CONFIRM}?next={quote(_came_from(request), safe='')}", 303)
        site_id = request.path_params.get("site_id")
        return render(
            request, "shell/error.html", status, error=error, site_id=site_id, gone=isinstance(error, NotFound)
        )
    fields = error.fields if isinstance(error, InvalidInput) else {}
    body = {
        "kind": error.kind,
        "title": error.title,
        "what": error.what,
        "server_words": error.server_words,
        "advice": list(error.advice),
        "fields": fields,
    }
    return JSONResponse(body, status)


def _came_from(request: Request) -> str:
    """The page of ours that a form was sent from, by its path."""
    try:
        return urlsplit(request.headers.get("referer", "")).path or urls.OWN_ACCOUNT
    except ValueError:
        return urls.OWN_ACCOUNT


def _problem(error: NailerError, status: int) -> Response:
    """An error as a program reads it (RFC 9457)."""
    body = {
        "type": "about:blank",
        "title": error.title,
        "status": status,
        "detail": error.what,
        "kind": error.kind,
        "advice": list(error.advice),
        "fields": error.fields if isinstance(error, InvalidInput) else {},
    }
    headers = {"WWW-Authenticate": "Bearer"} if status == 401 else {}
    return JSONResponse(body, status, headers, media_type="application/problem+json")


def static_folder() -> Path:
    """Where styles, scripts and fonts lie."""
    return Path(__file__).parents[1] / "static"
