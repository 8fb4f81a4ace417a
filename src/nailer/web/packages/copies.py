"""Proved copies of folders there: taken, looked into, rehearsed, restored by a plan."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.files.sitepath import SitePath, shown_name
from nailer.services.packages import CopyState
from nailer.services.sites import Site
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell.doors import Id, PackagesDoor, SignedIn, SitesDoor, TheSite, packages_of
from nailer.web.shell.forms import ProvedCopyWish, RestoreWish
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/sites/{site_id}/packages/copies")
async def copies(request: Request, site: TheSite) -> Response:
    """The copies of a site, as a fragment."""
    return await _shown(request, site)


@router.post("/sites/{site_id}/packages/copies")
async def take(
    request: Request, site: TheSite, wish: ProvedCopyWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """Begin to take a copy of a folder."""
    path = SitePath.of_token(wish.path)
    title = shown_name(path.name) if path.name else "The account"
    await packages.copies.take(session.account_id, site, path, title)
    return await _shown(request, site)


@router.post("/sites/{site_id}/packages/copies/{copy_id}/rehearse")
async def rehearse(request: Request, site: TheSite, copy_id: Id, packages: PackagesDoor) -> Response:
    """Restore a copy into a scratch folder, and compare."""
    await packages.copies.rehearse(site, copy_id)
    return await _shown(request, site)


@router.post("/sites/{site_id}/packages/copies/{copy_id}/drop")
async def drop(request: Request, site: TheSite, copy_id: Id, packages: PackagesDoor) -> Response:
    """Forget a copy."""
    await packages.copies.drop(site, copy_id)
    return await _shown(request, site)


@router.get("/sites/{site_id}/packages/copies/{copy_id}")
async def look_inside(
    request: Request, site: TheSite, copy_id: Id, packages: PackagesDoor, sites: SitesDoor
) -> Response:
    """Everything in a copy, each name with what brings it back."""
    copy, manifest = await packages.copies.look_inside(site, copy_id)
    pinned = bool(await sites.connector.pinned(site))
    return render(
        request,
        "packages/copy.html",
        site=site,
        known=pinned,
        section="packages",
        copy=copy,
        manifest=manifest,
    )


@router.post("/sites/{site_id}/packages/copies/{copy_id}/restore")
async def restore(
    request: Request, site: TheSite, copy_id: Id, wish: RestoreWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """A plan that brings back a copy, or one name of it."""
    below = SitePath.of_token(wish.below).names if wish.below else ()
    return await plan_dialog(request, site, await packages.copies.restore(session.account_id, site, copy_id, below))


async def _shown(request: Request, site: Site) -> Response:
    door = packages_of(request).copies
    found, standing = await door.of(site), door.standing(site.id)
    return render(request, "packages/_copies.html", site=site, found=found, standing=standing, CopyState=CopyState)
