"""The addresses of a site: the ways in, certificates, where names lead, and which folder answers."""

from __future__ import annotations

from collections.abc import Mapping

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.files.sitepath import SitePath
from nailer.services.sites import Site
from nailer.web.shell.doors import ChecksDoor, SitesDoor, TheSite, checks_of
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/sites/{site_id}/checks/address")
async def address(request: Request, site: TheSite) -> Response:
    """What one look at the addresses tells, as a fragment."""
    return await _shown(request, site)


@router.post("/sites/{site_id}/checks/prove")
async def prove(request: Request, site: TheSite, sites: SitesDoor, checks: ChecksDoor) -> Response:
    """Prove which folder answers, and show the addresses with that."""
    found = await checks.addresses.prove(site)
    now = await sites.book.get(site.id)
    return await _shown(request, now, found=found, before=site)


async def _shown(
    request: Request,
    site: Site,
    found: Mapping[str, SitePath | None] | None = None,
    before: Site | None = None,
) -> Response:
    known = await checks_of(request).addresses.look(site)
    were = {root.address: root.folder for root in before.document_roots} if before is not None else {}
    filled = {one.root.address for one in known if were.get(one.root.address, one.root.folder) != one.root.folder}
    return render(request, "checks/_address.html", site=site, known=known, found=found or {}, filled=filled, were=were)
