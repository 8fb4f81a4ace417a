"""Checks of a site: its scripts, one by one, and the access of what lies on the web. Also how the site is edited."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.core.check.scripts import Repair
from nailer.core.files.access import risk_of
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.errors import InvalidInput
from nailer.store.drafts import Ways
from nailer.web.editing.editor import live_answer
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell import urls
from nailer.web.shell.forms import QueryValues, RepairWish, read_form
from nailer.web.shell.pages import nailer_of, render, session_of

router = APIRouter()

_MOST_WATCHED = 20
_NO_ADDRESS = "A web address begins with http:// or https://."


@router.get("/sites/{site_id}/checks")
async def checks_page(request: Request, site_id: int) -> Response:
    """The page comes at once; each part reads the server by itself."""
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    known = bool(await nailer.connector.pinned(site))
    return render(request, "editing/checks.html", site=site, known=known, section="checks")


@router.get("/sites/{site_id}/checks/scripts")
async def scripts(request: Request, site_id: int) -> Response:
    """The scripts that were found, each to be looked at by itself."""
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    found = await nailer.scripts.find(site)
    return render(request, "editing/_scripts.html", site=site, found=found)


@router.get("/sites/{site_id}/checks/script")
async def script(request: Request, site_id: int) -> Response:
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    report = await nailer.scripts.look(site, QueryValues(request).need_path("path"))
    return render(request, "editing/_script.html", site=site, report=report)


@router.post("/sites/{site_id}/checks/repair")
async def repair(request: Request, site_id: int, wish: RepairWish) -> Response:
    """Mend one slip of a script: JSON of the job; a removal is a plan to be read first."""
    nailer = nailer_of(request)
    site, account_id = await nailer.sites.get(site_id), session_of(request).account_id
    path = SitePath.of_token(wish.path)
    nailer.guards.check(account_id, site, SideName.THERE, path)
    job_id = await nailer.scripts.repair(account_id, site, path, wish.repair)
    if wish.repair is Repair.TAKE_DOWN:
        return await plan_dialog(request, site, job_id)
    return JSONResponse({"job": job_id})


@router.get("/sites/{site_id}/checks/access")
async def access(request: Request, site_id: int) -> Response:
    """What is risky in the access of what the web address serves, counted by what it is."""
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    folder = site.document_roots[0].folder if site.document_roots else site.start_there
    reading = await nailer.permit.read(session_of(request).account_id, site, SideName.THERE, folder, [])
    risks: dict[str, list[SitePath]] = {}
    for path, one in reading.entries:
        if risk := risk_of(one):
            risks.setdefault(risk, []).append(path)
    ordered = sorted(risks.items(), key=lambda one: -len(one[1]))
    return render(request, "files/_access-review.html", site=site, reading=reading, risks=ordered, folder=folder)


@router.post("/sites/{site_id}/live")
async def live(request: Request, site_id: int) -> Response:
    """What visitors get of one file there."""
    nailer = nailer_of(request)
    query = QueryValues(request)
    return await live_answer(
        request, await nailer.sites.get(site_id), query.need_path("path"), purge=query.text("purge") == "1"
    )


@router.post("/sites/{site_id}/ways")
async def ways(request: Request, site_id: int) -> Response:
    """How the site is edited: what saving does, what is watched, how its cache is emptied."""
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    form = await read_form(request)
    watched = [line.strip() for line in form.get("watched", "").splitlines() if line.strip()][:_MOST_WATCHED]
    purge = form.get("purge_address", "").strip()
    for address in (*watched, *([purge] if purge else [])):
        if not address.lower().startswith(("http://", "https://")) or len(address) > 2000:
            raise InvalidInput(f"{address[:80]} cannot be used. {_NO_ADDRESS}")
    stored = Ways(form.get("save_asks") == "on", form.get("guarded_save") == "on", tuple(watched), purge)
    await nailer.drafts.write_ways(site.id, stored)
    return RedirectResponse(urls.site(site_id, "settings"), 303)
