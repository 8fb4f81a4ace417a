"""Everybody's own account: name, mail, password, and where one is signed in."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Awaitable, Callable

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.acting import person
from nailer.core.numbers import number_in
from nailer.core.people.rights import RIGHT_WORDS, Right, rights_of
from nailer.errors import Conflict, InvalidInput, NailerError, NotAllowed
from nailer.services.people import Did, Stays, grant_words, rights_words
from nailer.web.people.session import GivenPasskey, from_, place_of
from nailer.web.shell import urls
from nailer.web.shell.doors import Id, PeopleDoor, SignedIn, people_of, session_of, sites_of
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.pages import render, status_of

router = APIRouter()


@router.get(urls.OWN_ACCOUNT)
async def account_page(request: Request) -> Response:
    """One's own account."""
    return await _page(request, {}, 200, said=QueryValues(request).text("said"))


@router.post("/account/profile")
async def change_profile(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """Change one's name and mail address."""
    form = await read_form(request)
    try:
        await people.accounts.change_profile(session.account_id, form.get("name", ""), form.get("mail", ""))
    except (InvalidInput, Conflict) as error:
        return await _page(request, _fields(error, "name"), status_of(error))
    await people.log.add(Did.ACCOUNT, "name and mail address")
    return RedirectResponse(f"{urls.OWN_ACCOUNT}?said=profile", 303)


@router.post("/account/password")
async def change_password(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """Change one's password; one's other sessions end."""
    form = await read_form(request)
    try:
        if form.get("password", "") != form.get("again", ""):
            raise InvalidInput("The two passwords do not match.", fields={"again": "The two passwords do not match."})
        stays = Stays(_numbers(form, "session_"), _numbers(form, "token_"))
        old, new = form.get("old", ""), form.get("password", "")
        await people.accounts.change_password(session, old, new, from_(request), stays=stays)
    except (InvalidInput, NotAllowed) as error:
        return await _page(request, _fields(error, "old"), status_of(error))
    await people.log.add(Did.ACCOUNT, "password")
    return RedirectResponse(f"{urls.OWN_ACCOUNT}?said=password", 303)


@router.post("/account/sessions/end-others")
async def end_others(people: PeopleDoor, session: SignedIn) -> Response:
    """End every session but this one."""
    await people.accounts.end_others(session.account_id, kept=session.id)
    return RedirectResponse(f"{urls.OWN_ACCOUNT}?said=ended", 303)


@router.post("/account/sessions/{session_id}/end")
async def end_one(session_id: Id, people: PeopleDoor, session: SignedIn) -> Response:
    """End one session of one's own."""
    await people.accounts.end_one(session.account_id, session_id)
    return RedirectResponse(f"{urls.OWN_ACCOUNT}?said=ended", 303)


@router.get("/account/codes")
async def codes_page(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """Set up one-time codes."""
    new = people.second.begin_codes(await people.accounts.get(session.account_id))
    return render(request, "people/codes.html", new=new, fields={}, recovery=[])


@router.post("/account/codes")
async def set_codes(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """A first code proves that the device has the secret; the recovery codes are shown once."""
    form = await read_form(request)
    try:
        recovery = await people.second.finish_codes(session.account_id, form.get("code", ""))
    except InvalidInput as error:
        new = people.second.begin_codes(await people.accounts.get(session.account_id))
        return render(request, "people/codes.html", 422, new=new, fields=error.fields, recovery=[])
    await people.log.add(Did.ACCOUNT, "turned on one-time codes")
    return render(request, "people/codes.html", new=None, fields={}, recovery=recovery)


@router.post("/account/codes/forget")
async def forget_codes(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """Ask for no codes any more; the password is asked for once more."""
    return await _with_password(
        request, lambda: people.second.forget_codes(session.account_id), "turned off one-time codes"
    )


@router.post("/account/passkeys/wanted")
async def passkey_wanted(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """What a browser makes a passkey from. JSON."""
    account = await people.accounts.get(session.account_id)
    return Response(
        await people.second.passkey_wanted(account, session, place_of(request)), media_type="application/json"
    )


@router.post("/account/passkeys")
async def add_passkey(request: Request, given: GivenPasskey, people: PeopleDoor, session: SignedIn) -> Response:
    """A passkey that a browser made. JSON."""
    await people.second.add_passkey(session, json.dumps(given.credential), given.name, place_of(request))
    await people.log.add(Did.ACCOUNT, "added a passkey")
    return JSONResponse({"ok": True})


@router.post("/account/passkeys/{passkey_id}/forget")
async def forget_passkey(request: Request, passkey_id: Id, people: PeopleDoor, session: SignedIn) -> Response:
    """Forget a passkey; the password is asked for once more."""
    return await _with_password(
        request, lambda: people.second.forget_passkey(session.account_id, passkey_id), "removed a passkey"
    )


@router.get("/account/tokens")
async def tokens_page(request: Request) -> Response:
    """One's own tokens, and a form for another."""
    return await _tokens(request, {}, {}, 200)


@router.post("/account/tokens")
async def make_token(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """A new token, shown on the page that answers and never again."""
    form = await read_form(request)
    chosen = {site.id for site in await sites_of(request).book.all() if form.get(f"site_{site.id}") == "yes"}
    rights = rights_of(right for right in Right if form.get(f"right_{right}") == "yes")
    days = number_in(form.get("days", "").strip()) or 0
    try:
        sites = None if form.get("all") == "yes" else chosen
        token = await people.tokens.make(session.account_id, form.get("name", ""), sites, rights, days)
    except InvalidInput as error:
        return await _tokens(request, form, error.fields, 422)
    return await _tokens(request, {}, {}, 200, shown=token)


@router.post("/account/tokens/{token_id}/revoke")
async def revoke(token_id: Id, people: PeopleDoor, session: SignedIn) -> Response:
    """End a token."""
    await people.tokens.revoke(session.account_id, token_id)
    return RedirectResponse(urls.TOKENS, 303)


async def _tokens(
    request: Request, form: dict[str, str], fields: dict[str, str], status: int, shown: str = ""
) -> Response:
    session = session_of(request)
    sites = await sites_of(request).book.all()
    usual = {Right.LOOK, Right.DOWNLOAD, Right.CHANGE, Right.SYNC}
    given = {right for right in Right if form.get(f"right_{right}") == "yes"} if form else usual
    return render(
        request,
        "people/tokens.html",
        status,
        tokens=await people_of(request).tokens.of_account(session.account_id),
        names={site.id: site.name for site in sites},
        sites=sites,
        rights=[(right, word, right in given) for right, word in RIGHT_WORDS.items()],
        words=rights_words,
        form=form,
        fields=fields,
        shown=shown,
        described=await asyncio.to_thread(request.app.state.api_described),
    )


async def _with_password(request: Request, act: Callable[[], Awaitable[None]], said: str) -> Response:
    """What weakens an account asks for its password: a screen left open is not enough."""
    people, session = people_of(request), session_of(request)
    form = await read_form(request)
    try:
        await people.accounts.check_password(session, form.get("old", ""), from_(request))
    except (InvalidInput, NotAllowed) as error:
        fields = error.fields if isinstance(error, InvalidInput) else {}
        return await _page(request, {"proof": fields.get("old", error.what)}, status_of(error))
    await act()
    await people.log.add(Did.ACCOUNT, said)
    return RedirectResponse(f"{urls.OWN_ACCOUNT}?said=factors", 303)


def _fields(error: NailerError, usual: str) -> dict[str, str]:
    fields = error.fields if isinstance(error, InvalidInput) else {}
    return fields or {usual: error.what}


async def _page(request: Request, fields: dict[str, str], status: int, said: str = "") -> Response:
    people, session = people_of(request), session_of(request)
    account = await people.accounts.get(session.account_id)
    who = person()
    names = {site.id: site.name for site in await sites_of(request).book.all()}
    grants = sorted(who.grants.items()) if who is not None and not who.is_admin else []
    return render(
        request,
        "people/account.html",
        status,
        account=account,
        proofs=await people.second.of(session.account_id),
        sessions=await people.accounts.sessions_of(session.account_id),
        tokens=await people.tokens.of_account(session.account_id),
        fields=fields,
        said=said,
        grants=[(names[site_id], grant_words(grant)) for site_id, grant in grants if site_id in names],
    )


def _numbers(form: dict[str, str], begins: str) -> frozenset[int]:
    """The numbers of what was ticked in a form, by how its fields begin."""
    found = (number_in(name.removeprefix(begins)) for name, value in form.items() if name.startswith(begins) and value)
    return frozenset(one for one in found if one is not None)
