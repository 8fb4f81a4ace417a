"""The changes of a site: what Nailer did on either side, what it was before, and taking it back."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.bounded import bounded
from nailer.core.compare.contents import Compared, compared
from nailer.core.files.entry import SideName
from nailer.core.files.search import parse_size
from nailer.core.numbers import number_in
from nailer.errors import FileMissing, InvalidInput
from nailer.services.plans import Change, What
from nailer.services.sites import Site
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    FilesDoor,
    Id,
    PlansDoor,
    SignedIn,
    SitesDoor,
    TheSite,
    files_of,
    plans_of,
)
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.pages import render

router = APIRouter()


async def _change(plans: PlansDoor, site_id: int, change_id: int) -> Change:
    return await plans.changes.of_site(site_id, change_id)


TheChange = Annotated[Change, Depends(_change)]

_A_PAGE = 100
_LARGEST_BYTES = 1_000_000
_MOST_DAYS = 36_500


@router.get("/sites/{site_id}/changes")
async def changes_page(request: Request, site_id: Id, site: TheSite, sites: SitesDoor, plans: PlansDoor) -> Response:
    """What was changed on a site, newest first."""
    query = QueryValues(request)
    side = query.text("side") if query.text("side") in set(SideName) else ""
    wanted = query.text("q").strip()
    before = query.number("before", 2**62)
    known = bool(await sites.connector.pinned(site))
    changes = await plans.changes.latest(site_id, before=before, side=side, wanted=wanted, limit=_A_PAGE)
    contents, stored = await plans.changes.kept_room()
    days, most = await plans.changes.keeping()
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
async def take_back(
    request: Request, site: TheSite, change: TheChange, files: FilesDoor, plans: PlansDoor, session: SignedIn
) -> Response:
    """Take one change back."""
    files.guarded.check(session.account_id, site, change.side, change.path)
    job_id = await plans.take_back.take_change_back(session.account_id, site, change)
    return JSONResponse({"job": job_id})


@router.post("/sites/{site_id}/changes/{change_id}/plans/since")
async def take_back_since(
    request: Request, site: TheSite, change: TheChange, plans: PlansDoor, session: SignedIn
) -> Response:
    """Plan taking back everything on the change's side since then."""
    job_id = await plans.take_back.take_back_since(session.account_id, site, change)
    return await plan_dialog(request, site, job_id)


@router.get("/sites/{site_id}/changes/{change_id}/difference")
async def difference(request: Request, site: TheSite, change: TheChange) -> Response:
    """What a change did to a text: what it replaced against what came then."""
    return render(request, "shell/_differences.html", compared=await _compared(request, site, change), sides=None)


@router.post("/sites/{site_id}/keeping")
async def keeping(request: Request, site_id: Id, plans: PlansDoor) -> Response:
    """How long and how much is kept, of all sites together."""
    form = await read_form(request)
    days, size = form.get("days", "").strip(), form.get("most", "").strip()
    kept_days = number_in(days, most=_MOST_DAYS)
    if days and kept_days is None:
        raise InvalidInput("Type a whole number of days, or leave the field empty to keep copies for ever.")
    await plans.kept.limit(kept_days, parse_size(size))
    return RedirectResponse(urls.site(site_id, "changes"), 303)


async def _compared(request: Request, site: Site, change: Change) -> Compared:
    files, plans = files_of(request), plans_of(request)
    if change.before_hash is None:
        return Compared((), "What was there before is not kept, so there is nothing to compare.")
    if max(change.before_size or 0, change.after_size or 0) > _LARGEST_BYTES:
        return Compared((), "They are too large to be compared here.")
    old = await plans.changes.content(change.before_hash)
    path = await plans.changes.place_of(change)
    later = [one for one in await plans.changes.of_path(site.id, change.side, path, 200) if one.id > change.id]
    later = [one for one in later if one.what is not What.RENAMED]
    if later and later[-1].before_hash is not None:
        return await bounded(compared, old, await plans.changes.content(later[-1].before_hash))
    try:
        async with files.browse.side(site, change.side) as side:
            if (await side.stat(path)).size > _LARGEST_BYTES:
                return Compared((), "They are too large to be compared here.")
            return await bounded(compared, old, (await side.read_all(path))[1])
    except FileMissing:
        return await bounded(compared, old, b"")
