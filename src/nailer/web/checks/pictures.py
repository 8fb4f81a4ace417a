"""A picture there and a smaller copy of it, side by side."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.site.pictures import advice
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell import urls
from nailer.web.shell.doors import ChecksDoor, SignedIn, SitesDoor, TheSite
from nailer.web.shell.forms import QueryValues, SmallerWish
from nailer.web.shell.pages import render

router = APIRouter()

_WIDEST = 20_000
_USUAL_QUALITY = 82


@router.get("/sites/{site_id}/checks/picture")
async def picture_page(request: Request, site: TheSite, sites: SitesDoor, checks: ChecksDoor) -> Response:
    """The original and a smaller copy of it, with what each takes."""
    query = QueryValues(request)
    path = query.need_path("path")
    pinned = bool(await sites.connector.pinned(site))
    picture = await checks.pictures.look(site, path)
    width = query.number("width", picture.enough or picture.width, least=1, most=_WIDEST)
    quality = query.number("quality", _USUAL_QUALITY, least=20, most=95)
    made = await checks.pictures.smaller(site, path, width, quality)
    return render(
        request,
        "checks/picture.html",
        site=site,
        known=pinned,
        section="checks",
        path=path,
        picture=picture,
        advice=advice(picture),
        made=made,
        quality=quality,
        original=urls.look_raw(site, SideName.THERE, path),
    )


@router.get("/sites/{site_id}/checks/picture/smaller")
async def smaller(request: Request, site: TheSite, checks: ChecksDoor) -> Response:
    """The smaller copy itself."""
    query = QueryValues(request)
    width = query.number("width", _WIDEST, least=1, most=_WIDEST)
    quality = query.number("quality", _USUAL_QUALITY, least=20, most=95)
    made = await checks.pictures.smaller(site, query.need_path("path"), width, quality)
    headers = {"Cache-Control": "private, no-store", "Content-Security-Policy": "default-src 'none'; sandbox"}
    return Response(made.content, media_type=made.media_type, headers=headers)


@router.post("/sites/{site_id}/checks/picture")
async def replace_it(
    request: Request, site: TheSite, wish: SmallerWish, checks: ChecksDoor, session: SignedIn
) -> Response:
    """A plan that puts the smaller copy in the original's place, which is kept."""
    path = SitePath.of_token(wish.path)
    job_id = await checks.pictures.plan(session.account_id, site, path, wish.width, wish.quality)
    return await plan_dialog(request, site, job_id)
