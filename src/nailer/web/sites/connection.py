"""A site's connection: opening it, meeting its server, its settings, what it can do, and the connection log."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Any

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, PlainTextResponse, RedirectResponse, Response

from nailer.core.connecting.abilities import Abilities, in_words
from nailer.core.connecting.passwords import PasswordKept
from nailer.core.connecting.protocol import Protocol, better_than
from nailer.core.files.charset import CHARSETS, candidates
from nailer.core.numbers import number_in
from nailer.errors import Conflict, IdentityChanged, IdentityUnknown, InvalidInput, NailerError
from nailer.services.files import names_beyond_ascii
from nailer.services.people import Did
from nailer.services.sites import (
    STEP_WORDS,
    Question,
    SaidLine,
    Site,
    TrialStep,
    facts_of,
    form_of,
    site_from_form,
)
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    FilesDoor,
    Id,
    SignedIn,
    SitesDoor,
    TheSettings,
    TheSite,
    editing_of,
    files_of,
    people_of,
    sites_of,
)
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.pages import render
from nailer.web.sites.adding import form_values, meeting_html, trust_shown

router = APIRouter()

_LAST_LINES = 50  # of the log, which may hold thousands

# Raw commands go over a line that others use, too: what needs a data channel or changes the line's state is refused.
_NOT_BY_HAND = frozenset(
    [
        "USER",
        "PASS",
        "ACCT",
        "AUTH",
        "PROT",
        "PBSZ",
        "PORT",
        "PASV",
        "EPRT",
        "EPSV",
        "LIST",
        "NLST",
        "MLSD",
        "RETR",
        "STOR",
        "STOU",
        "APPE",
        "REST",
        "TYPE",
        "MODE",
        "STRU",
        "QUIT",
        "REIN",
        "CCC",
        "ABOR",
        "RNFR",
        "RNTO",
    ]
)


@router.post("/sites/{site_id}/open")
async def open_site(request: Request, site_id: Id, sites: SitesDoor, session: SignedIn) -> Response:
    """Connect, so that the files view has nothing to wait for. JSON: ok, or the page that says what is in the way."""
    if request.headers.get("x-again"):
        sites.connector.forget_refusal(site_id)
    account_id = session.account_id
    return await _opened(request, site_id, lambda: sites.attempts.open(account_id, site_id))


@router.post("/sites/{site_id}/answers")
async def answer(request: Request, site_id: Id, sites: SitesDoor, session: SignedIn) -> Response:
    """Answers to what the server asked; then as for opening."""
    form = await read_form(request)
    count = number_in(form.get("count", "")) or 0
    answers = [form.get(f"answer_{number}", "") for number in range(min(count, 20))]
    account_id, question = session.account_id, form.get("question", "")
    return await _opened(request, site_id, lambda: sites.attempts.answer(account_id, site_id, question, answers))


async def _opened(request: Request, site_id: int, begin: Callable[[], Awaitable[Question | None]]) -> Response:
    sites = sites_of(request)
    site = await sites.book.get(site_id)
    try:
        question = await begin()
    except (IdentityUnknown, IdentityChanged) as met:
        html = await meeting_html(request, site.host, site.port, met, urls.site(site.id, "trust"))
        return Response(html, 409, media_type="text/html")
    except NailerError as error:
        return render(request, "shell/_not-connected.html", 409, error=error, site=site)
    if question is not None:
        return render(request, "shell/_question.html", 409, question=question, site=site)
    await sites.book.opened(site_id)
    return JSONResponse({"ok": True})


@router.post("/sites/{site_id}/trust")
async def trust(request: Request, site_id: Id, site: TheSite, sites: SitesDoor) -> Response:
    """Trust what a site's server showed."""
    await trust_shown(request, site.host, site.port, await read_form(request))
    await people_of(request).log.add(Did.TRUSTED, f"{site.host}:{site.port}", site=site)
    await sites.pool.close_site(site_id)
    return RedirectResponse(urls.files(site), 303)


@router.get("/sites/{site_id}/settings")
async def settings_page(request: Request, site: TheSite) -> Response:
    """A site's settings."""
    return await _settings(request, site, form_of(site), {}, 200)


@router.post("/sites/{site_id}/settings")
async def change_site(
    request: Request, site_id: Id, settings: TheSettings, sites: SitesDoor, files: FilesDoor
) -> Response:
    """Change a site; lines that were opened with what it was are closed."""
    stored = await sites.book.get(site_id)
    form = await read_form(request)
    try:
        given = site_from_form(form, list(settings.roots), stored, await sites.book.secrets(stored))
    except InvalidInput as error:
        return await _settings(request, stored, form, error.fields, 422)
    for changed in await sites.book.change(given.site, given.to_store if given.changed else None):
        files.browse.forget(changed)
    if given.site.password_kept is not PasswordKept.STORED and form.get("password"):
        sites.connector.remember(site_id, form["password"])
    await people_of(request).log.add(Did.SETTINGS, "the site's settings", site=given.site)
    return RedirectResponse(urls.files(given.site), 303)


async def _settings(
    request: Request, site: Site, form: dict[str, str], fields: dict[str, str], status: int
) -> Response:
    sites, editing = sites_of(request), editing_of(request)
    return render(
        request,
        "sites/settings.html",
        status,
        site=site,
        **await _head(request, site),
        **await form_values(request, form, fields),
        stored=site,
        section="settings",
        ways=await editing.saving.ways(site.id),
        shared=[
            one.name for one in await sites.book.all() if one.credential_id == site.credential_id and one.id != site.id
        ],
        steps=[(step.value, STEP_WORDS[step]) for step in TrialStep],
    )


async def _head(request: Request, site: Site) -> dict[str, Any]:
    sites = sites_of(request)
    return {
        "known": bool(await sites.connector.pinned(site)),
        "changed": (site.host, site.port) in sites.connector.changed,
    }


@router.get("/sites/{site_id}/connection")
async def connection_page(request: Request, site_id: Id) -> Response:
    """How a site is connected, what its server can do, and the connection log."""
    everything = QueryValues(request).text("log") == "all"
    return await _connection(request, site_id, lines=None if everything else _LAST_LINES)


async def _connection(
    request: Request,
    site_id: int,
    *,
    reply: list[SaidLine] | None = None,
    command: str = "",
    lines: int | None = _LAST_LINES,
) -> Response:
    sites, files = sites_of(request), files_of(request)
    site = await sites.book.get(site_id)
    connection = sites.pool.connection(site_id)
    learned = await sites.book.learned(site_id)
    abilities = connection.abilities if connection else _abilities(learned[0]) if learned else None
    pinned = await sites.connector.pinned(site)
    logged = sites.connector.log(site_id).lines()
    logged_lines = logged if lines is None else logged[-lines:]
    offered = {Protocol.FTP_TLS} if abilities and any(one.startswith("AUTH") for one in abilities.features) else set()
    return render(
        request,
        "sites/connection.html",
        site=site,
        **await _head(request, site),
        connection=connection,
        most_lines=getattr(connection, "most_lines", site.connections_most),
        abilities=abilities,
        said=in_words(abilities) if abilities else [],
        learned_at=learned[1] if learned else None,
        charset=CHARSETS.get(site.charset, site.charset),
        readings=candidates(names_beyond_ascii(files.browse, site), 3)[:7],
        has_names=bool(names_beyond_ascii(files.browse, site, 1)),
        pinned=[(one, facts_of(one.key.public_key) if one.key.is_certificate else None) for one in pinned],
        story=await sites.identities.story(site),
        log=logged_lines,
        earlier=len(logged) - len(logged_lines),
        better=better_than(site.protocol, frozenset(offered)),
        reply=reply,
        command=command,
        section="connection",
    )


@router.get("/sites/{site_id}/connection-log")
async def connection_log(request: Request, site_id: Id, site: TheSite, sites: SitesDoor) -> Response:
    """Lines after a number, as rows for the page; or all of them as a text to download."""
    query = QueryValues(request)
    lines = sites.connector.log(site_id).lines(after=query.number("after", 0), wanted=query.text("text"))
    if query.text("as") == "text":
        text = "".join(f"{one.at_s:.3f} {one.line} {_ARROWS[one.way]} {one.text}\n" for one in lines)
        name = f"connection-log-{site.id}.txt"
        return PlainTextResponse(text, headers={"Content-Disposition": f'attachment; filename="{name}"'})
    return render(request, "sites/_log-rows.html", log=lines)


_ARROWS = {"out": ">", "in": "<", "note": "*"}


@router.post("/sites/{site_id}/disconnect")
async def disconnect(request: Request, site_id: Id, site: TheSite, sites: SitesDoor) -> Response:
    """Close a site's line; it opens again when it is needed."""
    await sites.pool.close_site(site_id)
    return RedirectResponse(urls.site(site.id, "connection"), 303)


@router.post("/sites/{site_id}/raw")
async def raw_command(request: Request, site_id: Id, sites: SitesDoor, files: FilesDoor) -> Response:
    """One command of FTP as typed; the answer stands on the connection log."""
    form = await read_form(request)
    command = form.get("command", "").strip()
    verb = command.partition(" ")[0].upper()
    if not command or verb in _NOT_BY_HAND or not command.isprintable():
        raise Conflict(f"{verb or 'Nothing'} cannot be sent by hand: it would disturb the connection that Nailer uses.")
    if form.get("understood") != "yes":
        raise Conflict("Tick “I know what this command does” first. Nothing was sent.")
    log = sites.connector.log(site_id)
    before = log.count
    async with sites.pool.side(site_id):
        connection = sites.pool.connection(site_id)
        raw = getattr(connection, "raw", None)
        if raw is None:
            raise Conflict("SFTP has no text commands to send.")
        await raw(command.encode())
    files.browse.forget(site_id)
    return await _connection(request, site_id, reply=log.lines(after=before), command=command)


@router.get("/connections")
async def connections(request: Request, sites: SitesDoor) -> Response:
    """What is open now of the sites that are there for whoever looks, for the head of every page."""
    names = {site.id: site.name for site in await sites.book.all()}
    found = [
        {"site": site_id, "name": names[site_id], "lines": one.lines}
        for site_id, one in sites.pool.open_sites().items()
        if site_id in names
    ]
    return JSONResponse({"open": found})


def _abilities(learned: dict[str, Any]) -> Abilities:
    """What was learned, whatever version wrote it."""
    known = {key: value for key, value in learned.items() if key in Abilities.__dataclass_fields__}
    return Abilities(**{**known, "features": tuple(known.get("features", ()))})
