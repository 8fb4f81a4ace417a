"""What an upload lacks, read beside its plan, and the button that adds it."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.errors import NailerError
from nailer.web.plans.plans import OwnPlan, plan_dialog
from nailer.web.shell.doors import ChecksDoor, SitesDoor
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/plans/{job_id}/lacking")
async def lacking(request: Request, job: OwnPlan, sites: SitesDoor, checks: ChecksDoor) -> Response:
    """What the pages of a plan refer to and is neither there nor in the plan, as a fragment."""
    site = await sites.book.get(job.site_id)
    try:
        found = await checks.lacking.of_plan(site, job)
        notes = await checks.uploads.of_plan(site, job, found.graph)
    except NailerError as error:
        return render(request, "checks/_lacking.html", found=None, why_not=error.what)
    return render(request, "checks/_lacking.html", found=found, notes=notes, why_not="")


@router.post("/plans/{job_id}/add-lacking")
async def add_lacking(request: Request, job: OwnPlan, sites: SitesDoor, checks: ChecksDoor) -> Response:
    """The plan with what it lacks."""
    site = await sites.book.get(job.site_id)
    return await plan_dialog(request, site, await checks.lacking.add(job.account_id, site, job))
