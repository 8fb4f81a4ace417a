"""Checks of a site: what one scan of it has found, and buttons that make plans of it."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.core.files.sitepath import SitePath
from nailer.core.site.findings import CAUTIONS, Mend
from nailer.errors import NailerError, NotAllowed
from nailer.services.sites import Site
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell import urls
from nailer.web.shell.doors import ChecksDoor, FilesDoor, Id, SignedIn, SitesDoor, TheSite, checks_of
from nailer.web.shell.forms import IgnoreFindings, MendWish, PageWish, QueryValues, SiteReadWish, read_form
from nailer.web.shell.pages import render, zone_of

router = APIRouter()


@router.get("/sites/{site_id}/checks")
async def checks_page(request: Request, site: TheSite, sites: SitesDoor) -> Response:
    """The page comes at once, with what is known; scripts and permissions read the server by themselves."""
    pinned = bool(await sites.connector.pinned(site))
    values = await _overview(request, site)
    return render(request, "checks/checks.html", site=site, known=pinned, section="checks", **values)


@router.get("/sites/{site_id}/checks/overview")
async def overview(request: Request, site: TheSite) -> Response:
    """What is known now, as a fragment: while a scan is under way, how far it is."""
    return render(request, "checks/_overview.html", site=site, **await _overview(request, site))


async def _overview(request: Request, site: Site) -> dict[str, Any]:
    try:
        knows = await checks_of(request).known.overview(site)
    except NotAllowed as error:
        return {"knows": None, "why_not": error.what}
    return {"knows": knows, "why_not": ""}


@router.post("/sites/{site_id}/checks/read")
async def read(request: Request, site: TheSite, wish: SiteReadWish, checks: ChecksDoor, session: SignedIn) -> Response:
    """Begin to read the site; the fragment says how far that is."""
    await checks.reader.begin(session.account_id, site, is_account=wish.account, asks_others=wish.others)
    return await overview(request, site)


@router.post("/sites/{site_id}/checks/give-up")
async def give_up(request: Request, site: TheSite, checks: ChecksDoor) -> Response:
    """End the scan that is under way."""
    await checks.reader.give_up(site.id)
    return await overview(request, site)


@router.post("/sites/{site_id}/checks/mend")
async def mend(request: Request, site: TheSite, wish: MendWish, checks: ChecksDoor, session: SignedIn) -> Response:
    """A plan that mends what a card is about; closing permissions is a job at once, JSON with its number."""
    action, found = await checks.known.about(site, wish.sort, wish.mend, wish.first)
    job_id = await checks.mending.plan(session.account_id, site, action.mend, found)
    if action.mend is Mend.CLOSE:
        return JSONResponse({"job": job_id})
    return await plan_dialog(request, site, job_id, told=CAUTIONS.get(action.mend, ""))


@router.post("/sites/{site_id}/checks/ignore")
async def ignore(
    request: Request, site: TheSite, wish: IgnoreFindings, checks: ChecksDoor, session: SignedIn
) -> Response:
    """Let findings be, because of something."""
    await checks.known.ignore(session.account_id, site, wish.findings, wish.why)
    return await overview(request, site)


@router.post("/sites/{site_id}/checks/heed/{finding_id}")
async def unignore(request: Request, site: TheSite, finding_id: Id, checks: ChecksDoor) -> Response:
    """Count a finding again."""
    await checks.known.unignore(site, finding_id)
    return await overview(request, site)


@router.post("/sites/{site_id}/checks/time")
async def set_time(request: Request, site: TheSite, checks: ChecksDoor, session: SignedIn) -> Response:
    """Read the site each day at an hour, or only when somebody asks."""
    form = await read_form(request)
    at = form.get("at", "").strip() if form.get("each_day") == "on" else ""
    try:
        await checks.known.set_time(session.account_id, site, at, zone_of(request).key)
    except NailerError as error:
        values = await _overview(request, site)
        pinned = True
        return render(
            request, "checks/checks.html", 422, site=site, known=pinned, section="checks", problem=error.what, **values
        )
    return RedirectResponse(urls.site(site.id, "checks"), 303)


@router.get("/sites/{site_id}/checks/pages")
async def pages(request: Request, site: TheSite, checks: ChecksDoor, sites: SitesDoor) -> Response:
    """Every page with its references, or one of them with what it needs."""
    pinned = bool(await sites.connector.pinned(site))
    path = QueryValues(request).path("path")
    if path is None:
        found = await checks.known.pages(site)
        return render(request, "checks/pages.html", site=site, known=pinned, section="checks", pages=found)
    page = await checks.known.page(site, path)
    return render(request, "checks/page.html", site=site, known=pinned, section="checks", page=page)


@router.get("/sites/{site_id}/checks/alone")
async def alone(request: Request, site: TheSite, checks: ChecksDoor, sites: SitesDoor) -> Response:
    """Files that nothing refers to, each with what speaks for keeping it."""
    pinned = bool(await sites.connector.pinned(site))
    found, by_program = await checks.known.unreferenced(site)
    return render(
        request, "checks/alone.html", site=site, known=pinned, section="checks", found=found, by_program=by_program
    )


@router.post("/sites/{site_id}/checks/tray")
async def into_tray(site: TheSite, wish: PageWish, checks: ChecksDoor, files: FilesDoor, session: SignedIn) -> Response:
    """Put a page and everything that belongs to it into the person's tray. JSON: `text` says what lies in it then."""
    for here, there, names in await checks.known.belongs(site, SitePath.of_token(wish.path)):
        tray = await files.tray.add(session.account_id, site, here, there, names)
    return JSONResponse({"text": tray.text})
