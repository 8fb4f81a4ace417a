"""Access: of one name in the inspector, of many on a page, and how its forms read in each other."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.core.files import permissions as rules
from nailer.core.files.entry import SideName
from nailer.core.files.permissions import PRESETS, PermissionsWish, Purpose, Transition
from nailer.core.files.sitepath import SitePath, name_of_token
from nailer.errors import InvalidInput
from nailer.services.files import PermissionsReading
from nailer.web.shell.doors import FilesDoor, Id, SignedIn, SitesDoor, TheSite, files_of
from nailer.web.shell.forms import ManyPermissionsWish, OnePermissionsWish, QueryValues
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/sites/{site_id}/permissions")
async def permissions_page(request: Request, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Access of picked names of a folder (`names`, tokens joined by slashes) with all in them, or of the whole folder."""
    query = QueryValues(request)
    side, folder = query.side(), query.path("path") or site.start_there
    names = [name_of_token(token) for token in query.text("names").split("/") if token]
    reading = await files.permissions.read(session.account_id, site, side, folder, names)
    review = query.text("review") == "1"
    wish = _usual(review=review)
    return render(
        request,
        "files/permissions.html",
        site=site,
        known=True,
        section="files",
        reading=reading,
        presets=PRESETS,
        preset=PRESETS[0],
        phrases=rules.phrases,
        review=review,
        **_preview(request, reading, wish, only_risky=review),
    )


@router.post("/permissions/{token}/preview")
async def preview(
    request: Request, token: str, wish: ManyPermissionsWish, files: FilesDoor, session: SignedIn
) -> Response:
    """What would change, as rows of the page."""
    reading = files.permissions.reading(token, session.account_id)
    values = _preview(request, reading, wish.wish, only_risky=wish.only_risky)
    return render(request, "files/_permissions-rows.html", reading=reading, **values)


@router.post("/permissions/{token}/carry-out")
async def carry_out(
    request: Request, token: str, wish: ManyPermissionsWish, sites: SitesDoor, files: FilesDoor, session: SignedIn
) -> Response:
    """Set it, as a job."""
    reading = files.permissions.reading(token, session.account_id)
    site = await sites.book.get(reading.site_id)
    job_id = await files.permissions.carry_out(site, reading, wish.wish, only_risky=wish.only_risky)
    return JSONResponse({"job": job_id})


@router.post("/sites/{site_id}/permissions/one")
async def set_one(
    request: Request, site_id: Id, wish: OnePermissionsWish, sites: SitesDoor, files: FilesDoor, session: SignedIn
) -> Response:
    """Set the permissions of one name at once."""
    site, account_id = await sites.book.get(site_id), session.account_id
    path = SitePath.of_token(wish.path)
    files.guarded.check(account_id, site, wish.side, path)
    job_id = await files.permissions.set_one(account_id, site, wish.side, path, rules.of_octal(wish.octal))
    return JSONResponse({"job": job_id})


@router.get("/permissions/read")
async def read(request: Request) -> Response:
    """Permissions in all their forms. `text` is octal, nine letters, or symbolic (then it changes `now`)."""
    query = QueryValues(request)
    folder = query.text("folder") == "1"
    now = rules.of_octal(query.text("now", "644"))
    permissions = _understood(query.text("text").strip(), now, folder=folder)
    return JSONResponse(
        {
            "octal": rules.octal(permissions),
            "rwx": rules.rwx(permissions),
            "symbolic": rules.symbolic(permissions),
            "sentence": rules.sentence(permissions, folder=folder),
            "difference": rules.difference(now, permissions, folder=folder),
            "digits": [permissions >> 6 & 7, permissions >> 3 & 7, permissions & 7],
            "special": permissions >> 9,
        }
    )


def _understood(text: str, now: int, *, folder: bool) -> int:
    """Raises InvalidInput where a text is in none of the three forms."""
    if text.isdecimal():
        return rules.of_octal(text)
    if len(text) == 9 and text[0] in "r-" and "=" not in text:
        return rules.of_rwx(text)
    if not text:
        raise InvalidInput("Type the permissions in octal (644), as rwx (rw-r--r--) or as an expression (u=rwX,go=rX).")
    return rules.changed_by(text, now, folder=folder)


def _usual(*, review: bool) -> PermissionsWish:
    preset = next(one for one in PRESETS if one.purpose is Purpose.WEBSITE)
    return PermissionsWish(rules.octal(preset.files), rules.octal(preset.folders), by_purpose=True)


def _preview(
    request: Request, reading: PermissionsReading, wish: PermissionsWish, *, only_risky: bool
) -> dict[str, Any]:
    files = files_of(request)
    permit = files.permissions
    rows: list[Transition] = permit.preview(reading, wish, only_risky=only_risky)
    everything = rows if not only_risky else permit.preview(reading, wish)
    changing = sum(one.count for one in rows if not one.stays)
    return {
        "rows": rows,
        "most": max((one.count for one in rows), default=1),
        "changing": changing,
        "total": len(reading.entries),
        "risky": sum(one.count for one in everything if one.risk and not one.stays),
        "only_risky": only_risky,
        "there": reading.side is SideName.THERE,
    }
