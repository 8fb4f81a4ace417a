"""Verified copies of folders there: made, opened, test restored, restored by a plan."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime
from itertools import groupby

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response, StreamingResponse

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.packages.keeping import KeepingRule, copy_name
from nailer.core.packages.manifest import Difference
from nailer.core.words import era_text
from nailer.services.packages import CopyState, Form, RestoreTarget, VerifiedCopy
from nailer.services.sites import Site
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell.doors import Id, PackagesDoor, SignedIn, SitesDoor, TheSite, packages_of
from nailer.web.shell.forms import CopyTimeWish, QueryValues, RestoreToWish, RestoreWish, VerifiedCopyWish
from nailer.web.shell.headers import download_headers
from nailer.web.shell.pages import render, zone_of

router = APIRouter()


@router.get("/sites/{site_id}/copies")
async def copies_page(request: Request, site: TheSite, sites: SitesDoor) -> Response:
    """The page comes at once; the copies fill it."""
    pinned = bool(await sites.connector.pinned(site))
    return render(request, "packages/copies.html", site=site, known=pinned, section="copies")


@router.get("/sites/{site_id}/copies/list")
async def copies(request: Request, site: TheSite) -> Response:
    """The copies of a site, as a fragment."""
    return await _shown(request, site)


@router.post("/sites/{site_id}/copies")
async def take(
    request: Request, site: TheSite, wish: VerifiedCopyWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """Begin to take a copy of a folder."""
    path = SitePath.of_token(wish.path)
    title = shown_name(path.name) if path.name else "The account"
    await packages.copies.take(session.account_id, site, path, title)
    return await _shown(request, site)


@router.post("/sites/{site_id}/copies/{copy_id}/test-restore")
async def try_restore(request: Request, site: TheSite, copy_id: Id, packages: PackagesDoor) -> Response:
    """Restore a copy into a scratch folder, and compare."""
    await packages.copies.test_restore(site, copy_id)
    return await _shown(request, site)


@router.post("/sites/{site_id}/copies/{copy_id}/drop")
async def drop(request: Request, site: TheSite, copy_id: Id, packages: PackagesDoor) -> Response:
    """Forget a copy."""
    await packages.copies.drop(site, copy_id)
    return await _shown(request, site)


@router.get("/sites/{site_id}/copies/{copy_id}")
async def look_inside(
    request: Request, site: TheSite, copy_id: Id, packages: PackagesDoor, sites: SitesDoor
) -> Response:
    """One folder of a copy beside the same folder now."""
    inside = QueryValues(request).path("below") or SitePath()
    copy, rows = await packages.restoring.folder(site, copy_id, inside.names)
    return render(
        request,
        "packages/copy.html",
        site=site,
        known=bool(await sites.connector.pinned(site)),
        section="copies",
        copy=copy,
        inside=inside,
        rows=rows,
        Difference=Difference,
        place=f"{site.start_here.parent}/copies/{copy_name(site.name, copy.path, copy.version, copy.begun_at.date())}",
        others=[one for one in await sites.book.all() if one.id != site.id],
    )


@router.get("/sites/{site_id}/copies/{copy_id}/compared")
async def compared(request: Request, site: TheSite, copy_id: Id, packages: PackagesDoor) -> Response:
    """Every name that is not as it was, as a fragment."""
    copy, found = await packages.restoring.compared(site, copy_id)
    counts = Counter(how for _, how in found)
    return render(request, "packages/_copy-compared.html", copy=copy, found=found, counts=counts)


@router.get("/sites/{site_id}/copies/{copy_id}/{form}")
async def archive(site: TheSite, copy_id: Id, form: Form, packages: PackagesDoor) -> Response:
    """A copy as one archive."""
    name, content = await packages.copies.packed(site, copy_id, form)
    return StreamingResponse(content, headers=download_headers(name.encode()))


@router.post("/sites/{site_id}/copies/{copy_id}/restore")
async def restore(
    request: Request, site: TheSite, copy_id: Id, wish: RestoreWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """A plan that brings back a copy, or one name of it."""
    below = SitePath.of_token(wish.below).names if wish.below else ()
    return await plan_dialog(request, site, await packages.restoring.restore(session.account_id, site, copy_id, below))


@router.post("/sites/{site_id}/copies/{copy_id}/restore-to")
async def restore_to(
    request: Request,
    site: TheSite,
    copy_id: Id,
    wish: RestoreToWish,
    packages: PackagesDoor,
    sites: SitesDoor,
    session: SignedIn,
) -> Response:
    """A plan that lays a copy down here, or on another site."""
    folder = SitePath.parse(wish.folder.encode())
    if wish.site is None:
        job_id = await packages.restoring.here(session.account_id, site, copy_id, folder)
        return await plan_dialog(request, site, job_id)
    other = await sites.book.get(wish.site)
    target = RestoreTarget(other, SideName.THERE, folder)
    job_id = await packages.restoring.restore(session.account_id, site, copy_id, (), target)
    return await plan_dialog(request, other, job_id)


@router.post("/sites/{site_id}/copies/times")
async def add_time(
    request: Request, site: TheSite, wish: CopyTimeWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """Copy a folder each day."""
    path, rule = SitePath.of_token(wish.path), KeepingRule(wish.daily, wish.weekly, wish.monthly)
    zone = zone_of(request).key
    await packages.copy_times.add(session.account_id, site, path, wish.at, zone, rule)
    return await _shown(request, site)


@router.post("/sites/{site_id}/copies/times/{time_id}/drop")
async def drop_time(request: Request, site: TheSite, time_id: Id, packages: PackagesDoor) -> Response:
    """Copy it by itself no more."""
    await packages.copy_times.drop(site, time_id)
    return await _shown(request, site)


def _by_time(request: Request, found: Sequence[VerifiedCopy]) -> list[tuple[str, list[VerifiedCopy]]]:
    """Copies that ended, under the headings that people look for: today, this week, a month."""
    now, zone = datetime.now(UTC), zone_of(request)
    ended = [one for one in found if one.state is not CopyState.COPYING]
    return [(key, list(some)) for key, some in groupby(ended, lambda one: era_text(one.begun_at, now, zone))]


async def _shown(request: Request, site: Site) -> Response:
    door = packages_of(request).copies
    found, standing = await door.of(site), door.standing(site.id)
    return render(
        request,
        "packages/_copies.html",
        site=site,
        groups=_by_time(request, found),
        standing=standing,
        CopyState=CopyState,
        times=await packages_of(request).copy_times.of(site),
    )
