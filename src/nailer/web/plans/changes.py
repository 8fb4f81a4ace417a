"""The changes of a site: what Nailer did on either side, what it was before, and taking it back."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.core.files.entry import SideName
from nailer.core.files.search import parse_size
from nailer.errors import FileMissing, InvalidInput, NotFound
from nailer.services.files.contents_shown import Compared, compared
from nailer.store.changes import Change
from nailer.store.sites import Site
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell import urls
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.pages import nailer_of, render, session_of

router = APIRouter()

_A_PAGE = 100
_LARGEST_BYTES = 1_000_000


@router.get("/sites/{site_id}/changes")
async def changes_page(request: Request, site_id: int) -> Response:
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    query = QueryValues(request)
    side = query.text("side") if query.text("side") in set(SideName) else ""
    wanted = query.text("q").strip()
    before = query.number("before", 2**62)
    known = bool(await nailer.connector.pinned(site))
    changes = await nailer.changes.latest(site_id, before=before, side=side, wanted=wanted, limit=_A_PAGE)
    contents, stored = await nailer.changes.kept_room()
    days, most = await nailer.changes.keeping()
    return render(
        request,
        "plans/changes.html",
        site=site,
        known=known,
        changes=changes,
        contents=contents,
        stored=stored,
        days=days,
        most=most,
        side=side,
        wanted=wanted,
        more=len(changes) == _A_PAGE,
        section="changes",
    )


@router.post("/sites/{site_id}/changes/{change_id}/take-back")
async def take_back(request: Request, site_id: int, change_id: int) -> Response:
    nailer = nailer_of(request)
    site, change = await _change_of(request, site_id, change_id)
    nailer.guards.check(session_of(request).account_id, site, change.side, change.path)
    job_id = await nailer.planning.take_change_back(session_of(request).account_id, site, change)
    return JSONResponse({"job": job_id})


@router.post("/sites/{site_id}/changes/{change_id}/plans/since")
async def take_back_since(request: Request, site_id: int, change_id: int) -> Response:
    """Plan taking back everything on the change's side since then."""
    nailer = nailer_of(request)
    site, change = await _change_of(request, site_id, change_id)
    job_id = await nailer.planning.take_back_since(session_of(request).account_id, site, change)
    return await plan_dialog(request, site, job_id)


@router.get("/sites/{site_id}/changes/{change_id}/difference")
async def difference(request: Request, site_id: int, change_id: int) -> Response:
    """What a change did to a text: what it replaced against what came then."""
    site, change = await _change_of(request, site_id, change_id)
    return render(request, "shell/_differences.html", compared=await _compared(request, site, change), sides=None)


@router.post("/sites/{site_id}/keeping")
async def keeping(request: Request, site_id: int) -> Response:
    """How long and how much is kept, of all sites together."""
    nailer = nailer_of(request)
    form = await read_form(request)
    days, size = form.get("days", "").strip(), form.get("most", "").strip()
    if days and not (days.isascii() and days.isdecimal()):
        raise InvalidInput("Say in whole days how long copies are kept; empty is for ever.")
    await nailer.keeping.limit(int(days) if days else None, parse_size(size))
    return RedirectResponse(urls.site(site_id, "changes"), 303)


async def _change_of(request: Request, site_id: int, change_id: int) -> tuple[Site, Change]:
    nailer = nailer_of(request)
    site, change = await nailer.sites.get(site_id), await nailer.changes.get(change_id)
    if change.site_id != site_id:
        raise NotFound("This copy belongs to another site.")
    return site, change


async def _compared(request: Request, site: Site, change: Change) -> Compared:
    nailer = nailer_of(request)
    if change.before_hash is None:
        return Compared((), "What was there before is not kept, so there is nothing to compare.")
    if max(change.before_size or 0, change.after_size or 0) > _LARGEST_BYTES:
        return Compared((), "They are too large to be compared here.")
    old = b"".join([chunk async for chunk in nailer.kept.read(change.before_hash)])
    later = [one for one in await nailer.changes.of_path(site.id, change.side, change.path, 200) if one.id > change.id]
    if later and later[-1].before_hash is not None:
        return compared(old, b"".join([chunk async for chunk in nailer.kept.read(later[-1].before_hash)]))
    try:
        async with nailer.browse.side(site, change.side) as side:
            if (await side.stat(change.path)).size > _LARGEST_BYTES:
                return Compared((), "They are too large to be compared here.")
            return compared(old, (await side.whole(change.path))[1])
    except FileMissing:
        return compared(old, b"")
