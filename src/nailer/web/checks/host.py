"""What was learned of the host of a site, and a trial of what it does with scripts."""

from __future__ import annotations

from collections.abc import Sequence

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.site.capability import Capability, WasRun
from nailer.services.sites import Site
from nailer.web.shell.doors import ChecksDoor, TheSite, checks_of
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/sites/{site_id}/checks/host")
async def host(request: Request, site: TheSite) -> Response:
    """What is known of the host, as a fragment."""
    return await _shown(request, site, ())


@router.post("/sites/{site_id}/checks/try-scripts")
async def try_scripts(request: Request, site: TheSite, checks: ChecksDoor) -> Response:
    """Try what the server does with scripts, and show the host with that."""
    return await _shown(request, site, await checks.host.try_scripts(site))


async def _shown(request: Request, site: Site, tried: Sequence[Capability]) -> Response:
    facts = await checks_of(request).host.of(site)
    return render(request, "checks/_host.html", site=site, facts=facts, tried=tried, WasRun=WasRun)
