"""Recovery in one place, and scratch areas for trying something on the live server."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.packages.recovery import WayKind
from nailer.services.sites import Site
from nailer.web.shell.doors import Id, PackagesDoor, SignedIn, SitesDoor, TheSite, packages_of
from nailer.web.shell.forms import HoursWish, QueryValues, ScratchWish
from nailer.web.shell.pages import render, routed

router = APIRouter()


@router.get("/sites/{site_id}/recovery")
async def recovery_page(request: Request, site: TheSite, sites: SitesDoor) -> Response:
    """The page comes at once; what is wrong, and the ways back, fill it."""
    asked = QueryValues(request).text("address") or (site.document_roots[0].address if site.document_roots else "")
    pinned = bool(await sites.connector.pinned(site))
    return render(request, "packages/recovery.html", site=site, known=pinned, section="copies", asked=asked)


@router.get("/sites/{site_id}/recovery/ways")
async def ways(request: Request, site: TheSite, packages: PackagesDoor) -> Response:
    """The ways back, as a fragment."""
    found = await packages.recovery.ways(site)
    return render(request, "packages/_ways.html", site=site, ways=found, WayKind=WayKind)


@router.get("/sites/{site_id}/packages/scratch")
async def scratch(request: Request, site: TheSite) -> Response:
    """The scratch areas of a site, as a fragment."""
    return await _shown(request, site)


@router.post("/sites/{site_id}/packages/scratch")
async def make(
    request: Request, site: TheSite, wish: ScratchWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """Make a scratch area."""
    await packages.scratch.make(session.account_id, site, wish.hours, wish.why.strip())
    return await _shown(request, site)


@router.post("/sites/{site_id}/packages/scratch/{area_id}/longer")
async def longer(request: Request, site: TheSite, area_id: Id, wish: HoursWish, packages: PackagesDoor) -> Response:
    """Let one stay so many hours from now."""
    await packages.scratch.longer(site, area_id, wish.hours)
    return await _shown(request, site)


@router.post("/sites/{site_id}/packages/scratch/{area_id}/end")
async def end(request: Request, site: TheSite, area_id: Id, packages: PackagesDoor, session: SignedIn) -> Response:
    """Remove one now."""
    await packages.scratch.end(session.account_id, site, area_id)
    return await _shown(request, site)


async def _shown(request: Request, site: Site) -> Response:
    areas = await packages_of(request).scratch.of(site)
    found = [(one, routed(request, address) if address else "") for one, address in areas]
    return render(request, "packages/_scratch.html", site=site, found=found)
