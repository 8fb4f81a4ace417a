"""A page from here and the same page live, side by side: the page that frames them, and what each request got."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import address_of
from nailer.core.site.apart import Apart
from nailer.errors import NailerError
from nailer.services.checks import Viewer
from nailer.web.checks.views import origins_of_views
from nailer.web.shell.doors import ChecksDoor, SignedIn, SitesDoor, TheSite
from nailer.web.shell.forms import QueryValues
from nailer.web.shell.headers import showing
from nailer.web.shell.pages import render

router = APIRouter()

WIDTHS = {"phone": 390, "tablet": 820, "desk": 1280}


@router.get("/sites/{site_id}/checks/apart")
async def apart(request: Request, site: TheSite, sites: SitesDoor, checks: ChecksDoor, session: SignedIn) -> Response:
    """Both sides of a page, in frames of an origin that is not Nailer's."""
    query = QueryValues(request)
    path = query.path("path")
    usual = site.document_roots[0].address if site.document_roots else ""
    asked = query.text("address") or (address_of(path, site.document_roots) or "" if path is not None else usual)
    origins = origins_of_views(request)
    scripts = query.text("scripts") == "yes"
    view, why_not = None, ""
    if origins is None:
        why_not = "The page view is not available: Nailer could not open its port."
    elif asked:
        try:
            viewer = Viewer(session.account_id, session.id, _own_origin(request))
            view = checks.views.open(site, viewer, asked, origins, scripts=scripts)
        except NailerError as error:
            why_not = error.what
    pinned = bool(await sites.connector.pinned(site))
    answer = render(
        request,
        "checks/apart.html",
        site=site,
        known=pinned,
        section="checks",
        asked=asked,
        view=view,
        why_not=why_not,
        scripts=scripts,
        SideName=SideName,
        widths=WIDTHS,
    )
    if view is not None:
        answer.headers.update(showing([one.top for one in view.sides.values()]))
    return answer


@router.get("/sites/{site_id}/checks/apart/{token}")
async def told(request: Request, site: TheSite, token: str, checks: ChecksDoor, session: SignedIn) -> Response:
    """What each request of a view got so far, as a fragment."""
    view = checks.views.own(token, session.account_id, site.id)
    found = await checks.views.told(view)
    return render(request, "checks/_apart.html", site=site, found=found, Apart=Apart)


def _own_origin(request: Request) -> str:
    return f"{request.url.scheme}://{request.url.netloc}"
