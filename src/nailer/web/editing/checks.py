"""Checks that ask the server at once: scripts, one by one, and the permissions of what lies on the web. Also how a site is
edited."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.core.check.scripts import Repair
from nailer.core.files.entry import SideName
from nailer.core.files.permissions import risk_of
from nailer.core.files.sitepath import SitePath
from nailer.errors import InvalidInput
from nailer.services.editing import Ways
from nailer.web.editing.editor import live_answer
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell import urls
from nailer.web.shell.doors import ChecksDoor, EditingDoor, FilesDoor, Id, SignedIn, SitesDoor, TheSite
from nailer.web.shell.forms import QueryValues, RepairWish, read_form
from nailer.web.shell.pages import render

router = APIRouter()

_MOST_WATCHED = 20


@router.get("/sites/{site_id}/checks/scripts")
async def scripts(request: Request, site: TheSite, editing: EditingDoor, checks: ChecksDoor) -> Response:
    """The scripts that were found, each to be looked at by itself."""
    found = await editing.scripts.find(site)
    interpreters = await checks.host.interpreters(site)
    return render(request, "editing/_scripts.html", site=site, found=found, interpreters=interpreters)


@router.get("/sites/{site_id}/checks/script")
async def script(request: Request, site: TheSite, editing: EditingDoor) -> Response:
    """What keeps one script from running, as a fragment."""
    report = await editing.scripts.look(site, QueryValues(request).need_path("path"))
    return render(request, "editing/_script.html", site=site, report=report)


@router.post("/sites/{site_id}/checks/repair")
async def repair(
    request: Request,
    site_id: Id,
    wish: RepairWish,
    sites: SitesDoor,
    files: FilesDoor,
    editing: EditingDoor,
    session: SignedIn,
) -> Response:
    """Mend one slip of a script: JSON of the job; a removal is a plan to be read first."""
    site, account_id = await sites.book.get(site_id), session.account_id
    path = SitePath.of_token(wish.path)
    files.guarded.check(account_id, site, SideName.THERE, path)
    job_id = await editing.scripts.repair(account_id, site, path, wish.repair)
    if wish.repair is Repair.TAKE_DOWN:
        return await plan_dialog(request, site, job_id)
    return JSONResponse({"job": job_id})


@router.get("/sites/{site_id}/checks/permissions")
async def permissions(request: Request, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """What is risky in the permissions of what the web address serves, counted by what it is."""
    folder = site.document_roots[0].folder if site.document_roots else site.start_there
    reading = await files.permissions.read(session.account_id, site, SideName.THERE, folder, [])
    risks: dict[str, list[SitePath]] = {}
    for path, one in reading.entries:
        if risk := risk_of(one):
            risks.setdefault(risk, []).append(path)
    ordered = sorted(risks.items(), key=lambda one: -len(one[1]))
    return render(request, "files/_permissions-review.html", site=site, reading=reading, risks=ordered, folder=folder)


@router.post("/sites/{site_id}/live")
async def live(request: Request, site_id: Id, sites: SitesDoor) -> Response:
    """What visitors get of one file there."""
    query = QueryValues(request)
    return await live_answer(
        request, await sites.book.get(site_id), query.need_path("path"), purge=query.text("purge") == "1"
    )


@router.post("/sites/{site_id}/ways")
async def ways(request: Request, site_id: Id, site: TheSite, editing: EditingDoor) -> Response:
    """How the site is edited: what saving does, what is watched, how its cache is emptied."""
    form = await read_form(request)
    watched = [line.strip() for line in form.get("watched", "").splitlines() if line.strip()][:_MOST_WATCHED]
    purge = form.get("purge_address", "").strip()
    stored = Ways(form.get("save_asks") == "on", form.get("guarded_save") == "on", tuple(watched), purge)
    await editing.saving.write_ways(site.id, stored)
    return RedirectResponse(urls.site(site_id, "settings"), 303)


@router.get("/sites/{site_id}/references")
async def references(request: Request, site: TheSite, editing: EditingDoor) -> Response:
    """How often pages and styles refer to a name, before it is renamed. JSON: `count`, `text`."""
    query = QueryValues(request)
    try:
        found = await editing.references.to(site, query.side(), [query.need_path("path")])
    except InvalidInput as error:
        return JSONResponse({"count": 0, "text": error.what})
    return JSONResponse({"count": found.count, "text": found.text})


@router.get("/sites/{site_id}/old-address")
async def old_address(request: Request, site: TheSite, editing: EditingDoor) -> Response:
    """What visitors get at the address of a name that was renamed. JSON: `said`."""
    said = await editing.live_check.of_old_name(site, QueryValues(request).need_path("path"))
    return JSONResponse({"said": said})
