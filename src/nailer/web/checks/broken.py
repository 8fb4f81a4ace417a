"""A page that is blank or broken: what was looked at, and where that leads; and another first page without a gap."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.files.sitepath import SitePath, address_of
from nailer.core.site.broken import Next
from nailer.core.site.findings import FIRST_PAGE_CAUTION
from nailer.errors import NailerError
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell.doors import ChecksDoor, SignedIn, SitesDoor, TheSite
from nailer.web.shell.forms import FirstPageWish, QueryValues
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/sites/{site_id}/checks/broken")
async def broken(request: Request, site: TheSite, sites: SitesDoor) -> Response:
    """The page comes at once; what is looked at fills it."""
    query = QueryValues(request)
    path = query.path("path")
    asked = query.text("address") or (address_of(path, site.document_roots) or "" if path is not None else "")
    pinned = bool(await sites.connector.pinned(site))
    return render(request, "checks/broken.html", site=site, known=pinned, section="checks", asked=asked)


@router.get("/sites/{site_id}/checks/broken/look")
async def look(request: Request, site: TheSite, checks: ChecksDoor) -> Response:
    """What there is about a page, and where it leads, as a fragment."""
    asked = QueryValues(request).text("address")
    try:
        found = await checks.broken.look(site, asked)
    except NailerError as error:
        return render(request, "checks/_diagnosis.html", site=site, found=None, why_not=error.what, Next=Next)
    return render(request, "checks/_diagnosis.html", site=site, found=found, why_not="", Next=Next)


@router.post("/sites/{site_id}/checks/first-page")
async def first_page(
    request: Request, site: TheSite, wish: FirstPageWish, checks: ChecksDoor, session: SignedIn
) -> Response:
    """A plan that makes a page what its folder's address serves, in one step."""
    path = SitePath.of_token(wish.path)
    job_id = await checks.first_pages.plan(session.account_id, site, wish.side, path)
    return await plan_dialog(request, site, job_id, told=FIRST_PAGE_CAUTION)
