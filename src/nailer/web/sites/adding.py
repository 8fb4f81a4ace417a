"""Adding a site: a letter or an address in, the fields it fills, and the trial of the connection, step by step."""

from __future__ import annotations

import contextlib
import json
import secrets as random_secrets
from collections.abc import AsyncGenerator
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response, StreamingResponse

from nailer.bounded import bounded
from nailer.core.connecting.letter import FieldFound, LetterAccount, LetterReading, read
from nailer.core.connecting.passwords import PasswordKept
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.charset import CHARSETS
from nailer.core.files.sitepath import without_scheme
from nailer.core.numbers import number_in
from nailer.errors import IdentityChanged, IdentityUnknown, InvalidInput, NailerError
from nailer.services.people import Did
from nailer.services.sites import (
    COLOURS,
    MOST_ROOTS,
    STEP_WORDS,
    Event,
    Given,
    Identity,
    Question,
    Secrets,
    Site,
    TrialStep,
    facts_of,
    site_from_form,
)
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    SitesDoor,
    TheSettings,
    people_of,
    session_of,
    settings_of,
    sites_of,
)
from nailer.web.shell.forms import read_form
from nailer.web.shell.pages import fragment, render

router = APIRouter()

_MOST_LETTERS = 40_000


class _LetterIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    text: str = Field(max_length=_MOST_LETTERS)


class _Answers(BaseModel):
    model_config = ConfigDict(extra="forbid")
    question: str = Field(max_length=64)
    answers: list[str] = Field(max_length=20)


@router.get("/sites/add")
async def add_page(request: Request) -> Response:
    """The page on which a site is added."""
    return await _page(request, {}, {}, 200)


@router.post("/sites/add")
async def add_page_with_letter(request: Request) -> Response:
    """The page with a letter read into it. The text goes back to the page and nowhere else."""
    form = await read_form(request)
    text = form.get("letter", "")
    return await _page(
        request, {}, {}, 200, reading=shown_reading(await bounded(read, text), text) if text.strip() else None
    )


@router.post("/sites/letter")
async def read_letter(request: Request, letter: _LetterIn) -> Response:
    """What a letter says. JSON; the text is kept nowhere."""
    return JSONResponse(shown_reading(await bounded(read, letter.text), letter.text))


@router.post("/sites")
async def add_site(request: Request, settings: TheSettings, sites: SitesDoor) -> Response:
    """Store a new site, or one to connect to once (`store` = no)."""
    form = await read_form(request)
    try:
        given = site_from_form(form, list(settings.roots))
    except InvalidInput as error:
        return await _page(request, form, error.fields, 422)
    stored = await sites.book.add(given.site, given.to_store)
    if given.site.fleeting:
        sites.connector.hold(stored.id, given.secrets)
    elif stored.password_kept is not PasswordKept.STORED and form.get("password"):
        sites.connector.remember(stored.id, form["password"])
    return RedirectResponse(urls.files(stored), 303)


@router.post("/sites/try")
async def try_connection(request: Request, settings: TheSettings, sites: SitesDoor) -> Response:
    """The steps of a trial, one JSON object a line, as they happen. Ends when the page goes away."""
    form = await read_form(request)
    site_id = number_in(form.get("site_id", ""))
    stored = await sites.book.get(site_id) if site_id is not None else None
    before = await sites.book.secrets(stored) if stored else Secrets()
    given = site_from_form(form, list(settings.roots), stored, before)
    given = await _with_shared(request, given)
    stream = _steps(request, given, writes=form.get("write") == "yes", insists=form.get("insist") == "yes")
    return StreamingResponse(stream, media_type="application/x-ndjson")


@router.post("/tries/{key}/answers")
async def answer(request: Request, key: str, given: _Answers, sites: SitesDoor) -> Response:
    """An answer to what a server asked during a trial."""
    sites.questions.answer(_desk_key(request, key), given.question, given.answers)
    return JSONResponse({"ok": True})


@router.post("/tries/trust")
async def trust(request: Request) -> Response:
    """Trust what a server showed in a trial. A published fingerprint that was pasted must be this one, exactly."""
    form = await read_form(request)
    port = number_in(form.get("port", ""), most=65535) or 0
    await trust_shown(request, form.get("host", ""), port, form)
    await people_of(request).log.add(Did.TRUSTED, f"{form.get('host', '')[:200]}:{port}")
    return JSONResponse({"ok": True})


async def trust_shown(request: Request, host: str, port: int, form: dict[str, str]) -> None:
    """Trust the identity in a meeting's form for a server. Raises Conflict where something speaks against it."""
    await sites_of(request).identities.trust_shown(
        host,
        port,
        form.get("public_key", ""),
        account_id=session_of(request).account_id,
        published=form.get("published", "").strip(),
        always=form.get("how") != "once",
        changed_understood=form.get("changed_understood") == "yes",
    )


async def meeting_html(
    request: Request, host: str, port: int, met: IdentityUnknown | IdentityChanged, action: str
) -> str:
    """The panel of a first meeting or a changed identity; its form goes to `action`."""
    sites = sites_of(request)
    key = Identity(met.algorithm, met.fingerprint, met.public_key)
    return fragment(
        request,
        "shell/_meeting.html",
        host=host,
        port=port,
        met=met,
        key=key,
        facts=facts_of(met.public_key) if key.is_certificate else None,
        before=await sites.identities.of_server(host, port),
        said=await sites.identities.said_of(host, port),
        same_at=[one for one in await sites.connector.same_key_at(key) if one != host],
        action=action,
    )


async def _steps(request: Request, given: Given, *, writes: bool, insists: bool) -> AsyncGenerator[str, None]:
    sites = sites_of(request)
    key = random_secrets.token_hex(8)
    desk_key = _desk_key(request, key)
    try:
        yield _line({"key": key})
        tried = sites.trials.asked(
            desk_key, given.site, given.secrets, questions=sites.questions, writes=writes, insists=insists
        )
        async with contextlib.aclosing(tried) as events:
            async for one in events:
                yield _line(_asked(one) if isinstance(one, Question) else await _told(request, given.site, one))
        yield _line({"done": True})
    except NailerError as error:
        yield _line({"step": TrialStep.SIGN_IN, "mark": "bad", "finding": error.what, "done": True})
    finally:
        sites.questions.forget(desk_key)


async def _told(request: Request, site: Site, event: Event) -> dict[str, Any]:
    told: dict[str, Any] = {
        "step": event.step,
        "mark": event.mark,
        "finding": event.finding,
        "took": "" if event.took_ms is None else f"{event.took_ms} ms",
        "learned": event.learned,
    }
    if event.diagnosis is not None:
        told["reading"] = event.diagnosis.sentence
        told["fixes"] = [{"label": fix.label, "changes": dict(fix.changes)} for fix in event.diagnosis.fixes]
    if isinstance(event.error, IdentityUnknown | IdentityChanged):
        told["meeting"] = await meeting_html(request, site.host, site.port, event.error, urls.TRIAL_TRUST)
    elif event.error is not None:
        told["title"] = event.error.title
        told["words"] = event.error.server_words
        told["advice"] = list(event.error.advice) if event.diagnosis is None else []
    return told


def _asked(question: Question) -> dict[str, Any]:
    prompts = [{"text": text, "seen": seen} for text, seen in question.prompts]
    return {"question": question.id, "instructions": question.instructions, "prompts": prompts}


def _line(told: dict[str, Any]) -> str:
    return json.dumps(told) + "\n"


def _desk_key(request: Request, key: str) -> str:
    return f"try:{session_of(request).account_id}:{key}"


async def _with_shared(request: Request, given: Given) -> Given:
    """With the secrets of a sign-in that is shared with other sites, where the form chose one."""
    sites = sites_of(request)
    if given.changed or given.site.credential_id is None:
        return given
    return Given(given.site, await sites.book.secrets(given.site), False)


async def _page(
    request: Request,
    form: dict[str, str],
    fields: dict[str, str],
    status: int,
    *,
    reading: dict[str, Any] | None = None,
) -> Response:
    return render(
        request,
        "sites/add-site.html",
        status,
        **await form_values(request, form, fields),
        stored=None,
        reading=reading,
        steps=[(step.value, STEP_WORDS[step]) for step in TrialStep],
    )


async def form_values(request: Request, form: dict[str, str], fields: dict[str, str]) -> dict[str, Any]:
    """What the fields of a site need, whatever page they stand on."""
    settings, sites = settings_of(request), sites_of(request)
    groups = await sites.book.groups()
    return {
        "form": form,
        "fields": fields,
        "colours": COLOURS,
        "roots": list(settings.roots),
        "group_choices": urls.group_titles(groups),
        "protocols": list(Protocol),
        "credentials": await sites.book.credentials(),
        "most_roots": MOST_ROOTS,
        "charsets": CHARSETS,
    }


def shown_reading(reading: LetterReading, text: str) -> dict[str, Any]:
    """A reading for the page: per account its fields, and the letter in segments with secrets masked."""
    return {
        "accounts": [_shown_account(account, reading, text) for account in reading.accounts],
        "notes": list(reading.notes),
    }


def _shown_account(account: LetterAccount, reading: LetterReading, text: str) -> dict[str, Any]:
    fields = {
        what.value: {"value": str(found.value), "why": found.why, "guessed": found.guessed}
        for what, found in account.fields.items()
    }
    return {"fields": fields, "name": _name_of(account), "segments": _segments(account, reading, text)}


def _name_of(account: LetterAccount) -> str:
    """A name for a site out of its web address: `mosslane.example` reads `Mosslane`."""
    web = next((one.value for what, one in account.fields.items() if what.value == "web_address"), "")
    label = without_scheme(web).removeprefix("www.").partition(".")[0]
    return label.capitalize()


def _segments(account: LetterAccount, reading: LetterReading, text: str) -> list[dict[str, Any]]:
    """The text cut at its marks. A secret of any account is masked in all of them."""
    marks: list[tuple[int, int, dict[str, Any]]] = []
    for other in reading.accounts:
        for what, found in other.fields.items():
            if found.start is None or found.end is None:
                continue
            secret = what.value == "password"
            if other is account or secret:
                marks.append((found.start, found.end, _mark(what.value, found, secret=secret)))
    for aside in reading.asides:
        mark: dict[str, Any] = {"kind": "aside", "why": f"left aside: {aside.why}", "secret": aside.secret}
        marks.append((aside.start, aside.end, mark))
    marks += [(start, end, {"kind": "blank", "why": "an invisible character"}) for start, end in reading.blanks]
    segments: list[dict[str, Any]] = []
    at = 0
    for start, end, shown in sorted(marks, key=lambda one: (one[0], -one[1])):
        if start < at:
            continue
        if start > at:
            segments.append({"kind": "text", "text": text[at:start], "why": ""})
        masked = shown.pop("secret", False)
        segments.append({"text": "•" * 12 if masked else text[start:end], "secret": masked, **shown})
        at = end
    if at < len(text):
        segments.append({"kind": "text", "text": text[at:], "why": ""})
    return segments


def _mark(what: str, found: FieldFound, *, secret: bool) -> dict[str, Any]:
    return {"kind": "guess" if found.guessed else "mark", "field": what, "why": found.why, "secret": secret}
