"""Rendering: one Jinja environment, what every page knows, and answers for errors."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape
from markupsafe import Markup
from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, Response

from nailer.app import Nailer
from nailer.core import words
from nailer.core.compare.joint import JOINT_WORDS, Joint
from nailer.core.files import access as access_rules
from nailer.core.files.sitepath import name_token, shown_name, without_scheme
from nailer.core.jobs.limits import rate_text
from nailer.core.jobs.states import JOB_WORDS
from nailer.errors import (
    AlreadyThere,
    Conflict,
    FileMissing,
    IdentityChanged,
    IdentityUnknown,
    InvalidInput,
    Locked,
    LoginRefused,
    NailerError,
    NotAllowed,
    NotFound,
    StoreUnavailable,
    every_error,
)
from nailer.store.accounts import Session
from nailer.store.database import aware
from nailer.web.shell import urls

_STATUS: dict[type[NailerError], int] = {
    InvalidInput: 422,
    NotFound: 404,
    FileMissing: 404,
    NotAllowed: 403,
    Locked: 409,
    Conflict: 409,
    AlreadyThere: 409,
    IdentityUnknown: 409,
    IdentityChanged: 409,
    LoginRefused: 409,
    StoreUnavailable: 503,
}


def make_environment() -> Environment:
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
        advice_of=_advice_of,
        access_rules=access_rules,
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
    )
    return environment


def _advice_of(kind: str) -> str:
    """What can be done about a stored failure, by the name of its error."""
    return " ".join(next((one.advice_default for one in every_error() if one.__name__ == kind), ()))


def _script_data(value: Any) -> Markup:
    """A value as JSON that may stand in a script block of type application/json."""
    text = json.dumps(value, ensure_ascii=True).replace("<", "\\u003c").replace("&", "\\u0026")
    return Markup(text)  # noqa: S704 - nothing left in it can end the block


def nailer_of(request: Request) -> Nailer:
    nailer: Nailer = request.app.state.nailer
    return nailer


def session_of(request: Request) -> Session:
    """The session the guard let in. Routes behind it always have one."""
    session: Session | None = request.state.session
    if session is None:
        raise NotAllowed("Sign in first.")
    return session


def render(request: Request, template: str, status: int = 200, **values: Any) -> HTMLResponse:
    """A page or a fragment as an answer."""
    return HTMLResponse(fragment(request, template, **values), status)


def fragment(request: Request, template: str, **values: Any) -> str:
    """A template's text. Adds what every template knows: the session, now, and readable times."""
    nailer = nailer_of(request)
    now, zone = datetime.now(UTC), nailer.settings.zone
    environment: Environment = request.app.state.templates
    return environment.get_template(template).render(
        session=getattr(request.state, "session", None),
        live_version=getattr(request.state, "live_version", nailer.live.version),
        request_path=request.url.path,
        now=now,
        when=lambda moment: words.when_text(aware(moment) if moment.tzinfo is None else moment, now, zone),
        clock=lambda moment: (aware(moment) if moment.tzinfo is None else moment).astimezone(zone).strftime("%H:%M:%S"),
        exact=lambda moment: moment.strftime("%Y-%m-%d %H:%M:%S UTC"),
        stamp=lambda stamp: words.stamp_text(stamp, now, zone),
        unsent_of=nailer.unsent.of_site,
        exact_stamp=words.exact_stamp,
        **values,
    )


def routed(nailer: Nailer, address: str) -> str:
    """A public address as this machine reaches it: `routes` applies to web addresses as it does to servers."""
    scheme, _, rest = address.partition("://")
    netloc, slash, path = rest.partition("/")
    host, _, port = netloc.partition(":")
    number = int(port) if port.isdecimal() else (443 if scheme == "https" else 80)
    dial_host, dial_port = nailer.settings.route(host, number)
    if (dial_host, dial_port) == (host, number):
        return address
    return f"http://{dial_host}:{dial_port}{slash}{path}"


def error_answer(request: Request, error: NailerError) -> Response:
    """An error as a page where a person looks, as JSON where a script asked."""
    status = next((code for kind, code in _STATUS.items() if isinstance(error, kind)), 502)
    if "text/html" in request.headers.get("accept", ""):
        site_id = request.path_params.get("site_id")
        return render(request, "shell/error.html", status, error=error, site_id=site_id)
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


def static_folder() -> Path:
    return Path(__file__).parents[1] / "static"
