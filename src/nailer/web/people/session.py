"""Signing in and out, the first account of all, and accepting an invitation."""

from __future__ import annotations

import json
from typing import Any
from urllib.parse import urlsplit

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.acting import Acting
from nailer.core.people.rights import Person
from nailer.errors import Busy, Conflict, InvalidInput, NotAllowed
from nailer.services.people import Did, From, PasskeyPlace
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    EditingDoor,
    PeopleDoor,
    SignedIn,
    SitesDoor,
    TheSettings,
    people_of,
    session_of,
    settings_of,
)
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.guard import address_of, cookie_name, is_secure
from nailer.web.shell.pages import render, status_of

router = APIRouter()


class GivenPasskey(BaseModel):
    """What a browser says of a passkey (WebAuthn, 5.1), and how its owner calls it."""

    model_config = ConfigDict(extra="forbid")
    credential: dict[str, Any]
    name: str = Field("", max_length=200)


@router.get(urls.CONFIRM)
async def confirm_page(request: Request) -> Response:
    """Where somebody who is signed in proves once more who they are."""
    target = _own_page(QueryValues(request).text("next"))
    return render(request, "people/confirm.html", next=target, problem="")


@router.post(urls.CONFIRM)
async def confirm(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """Open the gate for some minutes, and lead back."""
    form = await read_form(request)
    target = _own_page(form.get("next", ""))
    try:
        await people.gate.confirm(session, form.get("proof", ""), from_(request))
    except (InvalidInput, NotAllowed) as error:
        return render(request, "people/confirm.html", status_of(error), next=target, problem=error.what)
    return RedirectResponse(target, 303)


@router.get(urls.SIGN_IN)
async def sign_in_page(request: Request, settings: TheSettings, people: PeopleDoor) -> Response:
    """The sign-in page; before there is any account, that of the first."""
    if await people.accounts.is_empty():
        return RedirectResponse(urls.FIRST_ACCOUNT, 303)
    note = settings.sign_in_note
    return render(
        request,
        "people/sign-in.html",
        next=_own_page(QueryValues(request).text("next")),
        name="",
        problem="",
        note=note,
    )


@router.post(urls.SIGN_IN)
async def sign_in(request: Request, settings: TheSettings, people: PeopleDoor) -> Response:
    """Sign in. 403 where name and password do not go together, or too many tries were refused; 503 where too many sign in
    at once."""
    form = await read_form(request)
    target, name = _own_page(form.get("next", "")), form.get("name", "")
    try:
        token = await people.accounts.sign_in(name, form.get("password", ""), from_(request))
    except (NotAllowed, Busy) as refused:
        await people.log.add(Did.REFUSED, refused.what, who=_called(request, name))
        return render(
            request,
            "people/sign-in.html",
            status_of(refused),
            next=target,
            name=name,
            problem=" ".join((refused.what, *refused.advice)),
            note=settings.sign_in_note,
        )
    return await _signed_in(request, target, token)


@router.post("/sign-out")
async def sign_out(
    request: Request, people: PeopleDoor, sites: SitesDoor, editing: EditingDoor, session: SignedIn
) -> Response:
    """Sign out; with drafts that were not saved their list comes first."""
    files = await editing.drafts.open_files(session.account_id)
    if (await read_form(request)).get("sure") != "1" and any(one.has_changes for one in files):
        return RedirectResponse(f"{urls.DRAFTS}?leaving=1", 303)
    await people.accounts.sign_out(request.cookies.get(_cookie(request), ""))
    await people.log.add(Did.SIGNED_OUT, "")
    # Passwords "in memory until you sign out" end here, and the lines that were opened with them.
    for whose in sites.connector.forget_passwords():
        await sites.pool.close_one(whose)
    response = RedirectResponse(urls.SIGN_IN, 303)
    response.delete_cookie(_cookie(request), secure=is_secure(request.scope, settings_of(request)))
    return response


@router.get(urls.SECOND)
async def second_page(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """The page that asks for the second proof."""
    if not session.half:
        return RedirectResponse("/", 303)
    return await _second_page(request, "", 200)


@router.post(urls.SECOND)
async def second_code(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """A one-time code, or a recovery code."""
    form = await read_form(request)
    try:
        await people.second.prove_by_code(session, form.get("code", ""), from_(request))
    except NotAllowed as refused:
        await people.log.add(Did.REFUSED, "second factor")
        return await _second_page(request, refused.what, 403)
    return RedirectResponse("/", 303)


@router.post(f"{urls.SECOND}/asked")
async def second_asked(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """What a browser proves a passkey with. JSON."""
    return Response(await people.second.passkey_asked(session, place_of(request)), media_type="application/json")


@router.post(f"{urls.SECOND}/passkey")
async def second_passkey(request: Request, given: GivenPasskey, people: PeopleDoor, session: SignedIn) -> Response:
    """A passkey's proof. JSON; 403 where it proves nothing."""
    await people.second.prove_by_passkey(session, json.dumps(given.credential), place_of(request))
    return JSONResponse({"ok": True})


async def _second_page(request: Request, problem: str, status: int) -> Response:
    proofs = await people_of(request).second.of(session_of(request).account_id)
    return render(request, "people/second.html", status, proofs=proofs, problem=problem)


def place_of(request: Request) -> PasskeyPlace:
    """The host and the origin that a browser names when it makes or uses a passkey."""
    host = request.headers["host"]
    scheme = "https" if is_secure(request.scope, settings_of(request)) else "http"
    return PasskeyPlace(urlsplit(f"//{host}").hostname or host, f"{scheme}://{host}")


@router.get(urls.FIRST_ACCOUNT)
async def first_account_page(request: Request, people: PeopleDoor) -> Response:
    """The page of the first account; afterwards the sign-in."""
    if not await people.accounts.is_empty():
        return RedirectResponse(urls.SIGN_IN, 303)
    return render(request, "people/first-account.html", name="", fields={})


@router.post(urls.FIRST_ACCOUNT)
async def first_account(request: Request, people: PeopleDoor) -> Response:
    """Make the first account and sign it in."""
    form = await read_form(request)
    name, password = form.get("name", ""), form.get("password", "")
    try:
        _check_again(form)
        await people.accounts.make_first(name, password, form.get("word", ""))
    except InvalidInput as error:
        return render(request, "people/first-account.html", 422, name=name, fields=error.fields)
    except Conflict:
        return RedirectResponse(urls.SIGN_IN, 303)
    token = await people.accounts.sign_in(name, password, from_(request))
    return await _signed_in(request, urls.SITES, token)


@router.get("/invited/{token}")
async def invited_page(request: Request, token: str, people: PeopleDoor) -> Response:
    """The page of an invitation."""
    invitation = await people.invitations.look(token)
    return render(
        request, "people/invited.html", invitation=invitation, token=token, name=invitation.name, problem="", fields={}
    )


@router.post("/invited/{token}")
async def accept(request: Request, token: str, people: PeopleDoor) -> Response:
    """Make the account of an invitation and sign it in."""
    form = await read_form(request)
    name = form.get("name", "")
    invitation = await people.invitations.look(token)
    try:
        _check_again(form)
        account_id = await people.invitations.accept(token, name, form.get("password", ""))
    except (InvalidInput, Conflict) as error:
        fields = error.fields if isinstance(error, InvalidInput) else {"name": error.what}
        values = {"invitation": invitation, "token": token, "name": name, "problem": error.what, "fields": fields}
        return render(request, "people/invited.html", status_of(error), **values)
    await people.log.add(Did.ACCOUNT, f"{name.strip()} accepted an invitation", who=_called(request, name))
    return await _signed_in(request, "/", await people.accounts.begin_session(account_id, from_(request)))


def from_(request: Request) -> From:
    """Where a request came from, as the session remembers it."""
    device = request.headers.get("user-agent", "").encode("latin-1", "replace").decode("utf-8", "replace")
    return From(address_of(request.scope), device)


def _called(request: Request, name: str) -> Acting:
    """Somebody who says they are called so: nothing more is known yet."""
    known = name.strip()[:80].encode("utf-8", "replace").decode()
    return Acting(Person(0, known), address_of(request.scope))


async def _signed_in(request: Request, target: str, token: str) -> Response:
    people, settings = people_of(request), settings_of(request)
    session = await people.accounts.session(token)
    if session is not None:
        person = await people.rights.person(session.account_id)
        await people.log.add(Did.SIGNED_IN, "", who=Acting(person, address_of(request.scope)))
    response = RedirectResponse(target, 303)
    response.set_cookie(
        _cookie(request),
        token,
        max_age=settings.session_hours * 3600,
        httponly=True,
        samesite="lax",
        secure=is_secure(request.scope, settings),
    )
    return response


def _check_again(form: dict[str, str]) -> None:
    if form.get("password", "") != form.get("again", ""):
        raise InvalidInput("The two passwords do not match.", fields={"again": "The two passwords do not match."})


def _cookie(request: Request) -> str:
    return cookie_name(secure=is_secure(request.scope, settings_of(request)))


def _own_page(target: str) -> str:
    """A page of this application to go on to; anything that could lead elsewhere becomes the start page."""
    safe = target.startswith("/") and not target.startswith(("//", "/\\")) and "\\" not in target
    return target if safe and target.isprintable() else "/"
