"""Where the room of an account went: a map to walk into, and what could go."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, common_folder
from nailer.errors import InvalidInput, NotFound
from nailer.services.checks import MAP
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell import urls
from nailer.web.shell.doors import ChecksDoor, PlansDoor, SignedIn, SitesDoor, TheSite
from nailer.web.shell.forms import QueryValues, SavingsWish
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/sites/{site_id}/checks/room")
async def room_page(request: Request, site: TheSite, checks: ChecksDoor, sites: SitesDoor) -> Response:
    """The map of a folder, with what could go. `need` are bytes that must be made free."""
    query = QueryValues(request)
    pinned = bool(await sites.connector.pinned(site))
    folder = query.path("folder")
    try:
        room = await checks.known.room(site, folder)
    except NotFound:
        if folder is not None:
            raise
        return RedirectResponse(urls.site(site.id, "checks"), 303)  # it says how to read the site
    needed = query.number("need", 0)
    saved = await checks.known.savings(site, needed)
    return render(
        request,
        "checks/room.html",
        site=site,
        known=pinned,
        section="checks",
        room=room,
        saved=saved,
        needed=needed,
        map=MAP,
        colours="age" if query.text("colours") == "age" else "kind",
    )


@router.get("/sites/{site_id}/checks/room-small")
async def room_small(request: Request, site: TheSite, checks: ChecksDoor) -> Response:
    """The same in small, as a fragment beside the findings."""
    room = await checks.known.room(site, None)
    saved = await checks.known.savings(site, 0)
    return render(request, "checks/_room-small.html", site=site, room=room, saved=saved, map=MAP, colours="kind")


@router.post("/sites/{site_id}/checks/savings")
async def savings(
    request: Request, site: TheSite, wish: SavingsWish, plans: PlansDoor, checks: ChecksDoor, session: SignedIn
) -> Response:
    """A plan to remove what was chosen, or to fetch a copy of it first."""
    paths = [SitePath.of_token(one) for one in wish.paths]
    if not paths:
        raise InvalidInput("Choose at least one file first.")
    if wish.fetch:
        job_id = await checks.mending.fetch_first(session.account_id, site, paths)
        return await plan_dialog(
            request, site, job_id, told="When the download is complete, the plan to remove the files there opens."
        )
    top = common_folder([path.parent for path in paths])
    job_id = await plans.make.removal_found(session.account_id, site, SideName.THERE, top, paths)
    return await plan_dialog(request, site, job_id)
