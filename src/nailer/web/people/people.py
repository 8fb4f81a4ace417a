"""For who runs Nailer: everybody who has an account, what each may do where, who is invited, and who did what."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from typing import Any

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response

from nailer.core.people.rights import RIGHT_WORDS, WHOLE_SITE_ONLY, Grant, Right, rights_of
from nailer.errors import Conflict, InvalidInput
from nailer.services.people import Did, checked_grant, folder_typed, grant_words
from nailer.services.sites import Site
from nailer.web.shell import urls
from nailer.web.shell.doors import Id, PeopleDoor, SitesDoor, people_of, sites_of
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.pages import render, status_of

router = APIRouter()

_A_PAGE = 200
_MOST_EXPORTED = 100_000
_USUAL = (Right.LOOK, Right.DOWNLOAD, Right.CHANGE)


@router.get(urls.PEOPLE)
async def people_page(request: Request) -> Response:
    """Everybody, and who is invited."""
    return await _people(request, {}, {}, 200)


@router.post("/people/invite")
async def invite(request: Request, people: PeopleDoor) -> Response:
    """Invite somebody. The link is shown once, on the page that answers."""
    form = await read_form(request)
    try:
        is_admin = form.get("admin") == "yes"
        grants = {} if is_admin else await _grants_of(request, form)
        token = await people.invitations.make(form.get("name", ""), grants, is_admin=is_admin)
    except InvalidInput as error:
        return await _people(request, form, error.fields or {"site": error.what}, 422)
    address = f"{request.url.scheme}://{request.headers['host']}{urls.INVITED}{token}"
    return await _people(request, {}, {}, 200, link=address)


@router.post("/people/invitations/{invitation_id}/withdraw")
async def withdraw(invitation_id: Id, people: PeopleDoor) -> Response:
    """Let an invitation end."""
    await people.invitations.withdraw(invitation_id)
    return RedirectResponse(urls.PEOPLE, 303)


@router.get("/people/{account_id}")
async def person_page(request: Request, account_id: Id) -> Response:
    """One person: what they have, and what can be done about their account."""
    return await _person(request, account_id, {}, {}, 200)


@router.post("/people/{account_id}/grants")
async def give(request: Request, account_id: Id, people: PeopleDoor, sites: SitesDoor) -> Response:
    """Give a person a site, or another part of it."""
    form = await read_form(request)
    try:
        for site_id, grant in (await _grants_of(request, form)).items():
            await people.rights.give(account_id, await sites.book.get(site_id), grant)
    except InvalidInput as error:
        return await _person(request, account_id, form, error.fields or {"site": error.what}, 422)
    return RedirectResponse(urls.person(account_id), 303)


@router.post("/people/{account_id}/grants/{site_id}/take")
async def take(account_id: Id, site_id: Id, people: PeopleDoor, sites: SitesDoor) -> Response:
    """Take a site from a person."""
    await people.rights.take(account_id, await sites.book.get(site_id))
    return RedirectResponse(urls.person(account_id), 303)


@router.post("/people/{account_id}/standing")
async def set_standing(request: Request, account_id: Id, people: PeopleDoor) -> Response:
    """Let a person run Nailer or not, and sign in or not."""
    form = await read_form(request)
    account = await people.accounts.get(account_id)
    is_admin = form.get("admin", "yes" if account.is_admin else "") == "yes"
    is_off = form.get("off", "yes" if account.is_off else "") == "yes"
    try:
        await people.accounts.set_standing(account_id, is_admin=is_admin, is_off=is_off)
    except Conflict as error:
        return await _person(request, account_id, {}, {"standing": error.what}, status_of(error))
    said = "deactivated" if is_off else "administrator" if is_admin else "not an administrator, active"
    await people.log.add(Did.ACCOUNT, f"{account.name}: {said}")
    return RedirectResponse(urls.person(account_id), 303)


@router.post("/people/{account_id}/second")
async def second(request: Request, account_id: Id, people: PeopleDoor) -> Response:
    """Require a second proof of a person, or not; or take away those that they have lost."""
    form = await read_form(request)
    account = await people.accounts.get(account_id)
    if form.get("act") == "forget":
        await people.second.forget_all(account_id)
        said = "removed the second factors"
    else:
        required = form.get("act") == "require"
        await people.second.require(account_id, required=required)
        said = "second factor required" if required else "second factor not required"
    await people.log.add(Did.ACCOUNT, f"{account.name}: {said}")
    return RedirectResponse(urls.person(account_id), 303)


@router.post("/people/{account_id}/remove")
async def remove(request: Request, account_id: Id, people: PeopleDoor) -> Response:
    """Remove a person; what is theirs becomes another's."""
    form = await read_form(request)
    account = await people.accounts.get(account_id)
    heir = await people.accounts.by_name(form.get("heir", ""))
    try:
        if heir is None or form.get("typed", "").strip() != account.name:
            what = "Type the person's name to confirm, and choose who takes over their jobs and timers."
            raise InvalidInput(what, fields={"typed": what})
        await people.accounts.remove(account_id, heir.id)
    except (InvalidInput, Conflict) as error:
        return await _person(request, account_id, {}, {"typed": error.what}, status_of(error))
    await people.log.add(Did.ACCOUNT, f"removed {account.name}; jobs and timers moved to {heir.name}")
    return RedirectResponse(urls.PEOPLE, 303)


@router.get(urls.LOG)
async def log_page(request: Request, people: PeopleDoor) -> Response:
    """Who did what, newest first."""
    query = QueryValues(request)
    wanted, before = query.text("text")[:100], query.number("before", 2**62)
    entries = await people.log.latest(before=before, wanted=wanted, limit=_A_PAGE)
    return render(request, "people/log.html", entries=entries, wanted=wanted, more=len(entries) == _A_PAGE)


@router.get(urls.LOG_TABLE)
async def log_table(request: Request, people: PeopleDoor) -> Response:
    """The log as a table (RFC 4180)."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(["at (UTC)", "person", "program", "address", "what", "site", "said"])
    for one in await people.log.latest(
        before=2**62, wanted=QueryValues(request).text("text")[:100], limit=_MOST_EXPORTED
    ):
        cells = (one.person, one.program, one.address, one.kind, one.site, one.said)
        table.writerow([one.at.isoformat(" ", "seconds"), *map(_harmless, cells)])
    headers = {"Content-Disposition": 'attachment; filename="nailer-log.csv"'}
    return Response(out.getvalue(), media_type="text/csv", headers=headers)


def _harmless(text: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


async def _grants_of(request: Request, form: Mapping[str, str]) -> dict[int, Grant]:
    """The grant that a form says, by the number of its site. Raises InvalidInput."""
    site = await _site_named(request, form.get("site", ""))
    folders: dict[str, Any] = {}
    for name in ("there", "here"):
        try:
            folders[name] = folder_typed(form.get(name, ""))
        except InvalidInput as error:
            raise InvalidInput(error.what, fields={name: error.what}) from error
    rights = rights_of(right for right in Right if form.get(f"right_{right}") == "yes")
    return {site.id: checked_grant(site, Grant(rights, folders["there"], folders["here"]))}


async def _site_named(request: Request, number: str) -> Site:
    for site in await sites_of(request).book.all():
        if str(site.id) == number:
            return site
    raise InvalidInput("Choose a site.", fields={"site": "Choose a site."})


def _form_values(sites: list[Site], form: Mapping[str, str], fields: Mapping[str, str]) -> dict[str, Any]:
    given = {right for right in Right if form.get(f"right_{right}") == "yes"} if form else set(_USUAL)
    rights = [(right, word, right in given, right in WHOLE_SITE_ONLY) for right, word in RIGHT_WORDS.items()]
    return {"sites": sites, "form": form, "fields": fields, "rights": rights}


async def _people(
    request: Request, form: Mapping[str, str], fields: Mapping[str, str], status: int, link: str = ""
) -> Response:
    people, sites = people_of(request), await sites_of(request).book.all()
    parts: dict[int, list[str]] = {}
    for one in await people.rights.all():
        parts.setdefault(one.account_id, []).append(f"{one.site}: {grant_words(one.grant)}")
    return render(
        request,
        "people/people.html",
        status,
        accounts=await people.accounts.all(),
        parts=parts,
        invitations=await people.invitations.all(),
        link=link,
        **_form_values(sites, form, fields),
    )


async def _person(
    request: Request, account_id: int, form: Mapping[str, str], fields: Mapping[str, str], status: int
) -> Response:
    people, sites = people_of(request), await sites_of(request).book.all()
    account = await people.accounts.get(account_id)
    return render(
        request,
        "people/person.html",
        status,
        account=account,
        proofs=await people.second.of(account_id),
        others=[one for one in await people.accounts.all() if one.id != account_id and not one.is_off],
        granted=[(one, grant_words(one.grant)) for one in await people.rights.all() if one.account_id == account_id],
        **_form_values(sites, form, fields),
    )
