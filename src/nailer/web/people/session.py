"""Signing in and out, and the first account of all."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response

from nailer.errors import Busy, Conflict, InvalidInput, NotAllowed
from nailer.web.shell import urls
from nailer.web.shell.doors import EditingDoor, PeopleDoor, SignedIn, SitesDoor, TheSettings, settings_of
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.guard import COOKIE
from nailer.web.shell.pages import render, status_of

router = APIRouter()


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
    address = request.client.host if request.client else "unknown"
    target = _own_page(form.get("next", ""))
    try:
        token = await people.accounts.sign_in(form.get("name", ""), form.get("password", ""), address=address)
    except (NotAllowed, Busy) as refused:
        return render(
            request,
            "people/sign-in.html",
            status_of(refused),
            next=target,
            name=form.get("name", ""),
            problem=" ".join((refused.what, *refused.advice)),
            note=settings.sign_in_note,
        )
    return _with_cookie(request, RedirectResponse(target, 303), token)


@router.post("/sign-out")
async def sign_out(
    request: Request, people: PeopleDoor, sites: SitesDoor, editing: EditingDoor, session: SignedIn
) -> Response:
    """Sign out; with drafts that were not saved their list comes first."""
    files = await editing.drafts.open_files(session.account_id)
    if (await read_form(request)).get("sure") != "1" and any(one.has_changes for one in files):
        return RedirectResponse(f"{urls.DRAFTS}?leaving=1", 303)
    await people.accounts.sign_out(request.cookies.get(COOKIE, ""))
    # Passwords "in memory until you sign out" end here, and the lines that were opened with them.
    for site_id in sites.connector.forget_passwords():
        await sites.pool.close_site(site_id)
    response = RedirectResponse(urls.SIGN_IN, 303)
    response.delete_cookie(COOKIE)
    return response


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
        if password != form.get("again", ""):
            raise InvalidInput("The two passwords differ.", fields={"again": "The two passwords differ."})
        await people.accounts.make_first(name, password)
    except InvalidInput as error:
        return render(request, "people/first-account.html", 422, name=name, fields=error.fields)
    except Conflict:
        return RedirectResponse(urls.SIGN_IN, 303)
    address = request.client.host if request.client else "unknown"
    token = await people.accounts.sign_in(name, password, address=address)
    return _with_cookie(request, RedirectResponse(urls.SITES, 303), token)


def _with_cookie(request: Request, response: Response, token: str) -> Response:
    settings = settings_of(request)
    response.set_cookie(
        COOKIE,
        token,
        max_age=settings.session_hours * 3600,
        httponly=True,
        samesite="lax",
        secure=settings.secure_cookies or request.url.scheme == "https",
    )
    return response


def _own_page(target: str) -> str:
    """A page of this application to go on to; anything that could lead elsewhere becomes the start page."""
    safe = target.startswith("/") and not target.startswith(("//", "/\\")) and "\\" not in target
    return target if safe and target.isprintable() else urls.SITES
