"""Searching a side: a form, hits that appear while the search goes on, and what can be done with those picked."""

from __future__ import annotations

import json
import time
from collections.abc import AsyncIterator
from contextlib import aclosing
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response, StreamingResponse

from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.permissions import octal
from nailer.core.files.search import PermissionsSought, SearchWanted, parse_days, parse_size
from nailer.core.files.sitepath import SitePath, name_token
from nailer.core.plans.sieve import Sieves
from nailer.core.words import size_text, stamp_text
from nailer.errors import InvalidInput, NailerError
from nailer.services.files import Hit, Passed, search
from nailer.services.sites import Site
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell import urls
from nailer.web.shell.doors import Id, PlansDoor, SignedIn, SitesDoor, TheSite, files_of
from nailer.web.shell.forms import FoundWish, QueryValues
from nailer.web.shell.pages import render, zone_of

router = APIRouter()

_FIELDS = ("name", "kind", "least", "most", "newer", "older", "permissions", "inside")


@router.get("/sites/{site_id}/search")
async def search_page(request: Request, site_id: Id, site: TheSite, sites: SitesDoor) -> Response:
    """The form of a search, and what was found."""
    query = QueryValues(request)
    side = query.side(SideName.THERE)
    known = bool(await sites.connector.pinned(site))
    if side is SideName.THERE and not sites.pool.is_open(site_id):
        changed = (site.host, site.port) in sites.connector.changed
        return render(request, "shell/connecting.html", site=site, known=known, changed=changed, section="search")
    values = {name: query.text(name) for name in _FIELDS}
    return render(
        request,
        "files/search.html",
        site=site,
        known=known,
        section="search",
        side=side,
        folder=query.path("in") or (site.start_there if side is SideName.THERE else site.start_here),
        sort=query.text("sort"),
        values=values,
        begun=any(values.values()) or bool(query.text("sort")),
        kinds=(("", "Anything"), (Kind.FILE, "Files"), (Kind.FOLDER, "Folders"), (Kind.LINK, "Links")),
        permission_choices=(
            (PermissionsSought.ANY, "Any"),
            (PermissionsSought.ALL_WRITE, "Writable by everyone"),
            (PermissionsSought.ALL_CANNOT_READ, "Not readable by everyone"),
            (PermissionsSought.RUNS, "Executable"),
        ),
    )


@router.get("/sites/{site_id}/search/hits")
async def hits(request: Request, site: TheSite) -> Response:
    """Hits and progress as lines of JSON while they are found. The search ends where nobody listens any more."""
    query = QueryValues(request)
    wanted, side, top = _wanted(query), query.side(), query.need_path("in")
    return StreamingResponse(_lines(request, site, side, top, wanted), media_type="application/x-ndjson")


async def _lines(
    request: Request, site: Site, side_name: SideName, top: SitePath, wanted: SearchWanted
) -> AsyncIterator[str]:
    files = files_of(request)
    sieves = await files.sieves.of_site(site)
    try:
        async with files.browse.side(site, side_name) as side, aclosing(search(side, top, wanted)) as found:
            async for one in found:
                yield json.dumps(_line(site, side_name, top, one, zone_of(request), sieves)) + "\n"
        yield json.dumps({"end": True}) + "\n"
    except NailerError as error:
        yield json.dumps({"problem": error.what}) + "\n"


def _line(
    site: Site, side: SideName, top: SitePath, one: Hit | Passed, zone: ZoneInfo, sieves: Sieves
) -> dict[str, Any]:
    if isinstance(one, Passed):
        return {"folders": one.folders, "names": one.names, "unread": one.problem}
    entry, path = one.entry, one.path
    place = path.below(site.start_here if side is SideName.HERE else site.start_there)
    return {
        "token": path.token,
        "held": sieves.held(place, entry, nearly=True) if place else "",
        "below": SitePath(path.below(top) or ()).shown.removeprefix("/"),
        "kind": _kind_word(entry),
        "size": entry.size,
        "size_text": size_text(entry.size) if entry.is_file else "",
        "changed": stamp_text(entry.stamp, datetime.now(UTC), zone) if entry.stamp else "",
        "at": entry.stamp.at_ns if entry.stamp else 0,
        "permissions": octal(entry.permissions) if entry.permissions is not None else "",
        "line": one.line,
        "number": one.number,
        "edit": urls.edit(site.id, side, path) + f"&line={one.number}" if one.number else "",
        "folder": urls.folder(site.id, side, path.parent, pick=name_token(path.name)),
        "fetch": urls.fetch(site, side, path) if entry.is_file else "",
    }


@router.post("/sites/{site_id}/plans/transfer-found")
async def plan_transfer_found(
    request: Request, wish: FoundWish, site: TheSite, plans: PlansDoor, session: SignedIn
) -> Response:
    """Carry what was found, each to the same place below the other side's start folder."""
    ends = (wish.here_path, wish.there_path) if wish.side is SideName.HERE else (wish.there_path, wish.here_path)
    account_id = session.account_id
    job_id = await plans.make.transfer_found(account_id, site, wish.side.other, *ends, wish.found)
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/remove-found")
async def plan_remove_found(
    request: Request, wish: FoundWish, site: TheSite, plans: PlansDoor, session: SignedIn
) -> Response:
    """A plan that removes what was picked of a search."""
    top = wish.here_path if wish.side is SideName.HERE else wish.there_path
    account_id = session.account_id
    job_id = await plans.make.removal_found(account_id, site, wish.side, top, wish.found)
    return await plan_dialog(request, site, job_id)


def _kind_word(entry: Entry) -> str:
    return {Kind.FOLDER: "folder", Kind.LINK: "link", Kind.FILE: "file"}.get(entry.kind, "special")


def _wanted(query: QueryValues) -> SearchWanted:
    try:
        kind = Kind(query.text("kind")) if query.text("kind") else None
        permissions = PermissionsSought(query.text("permissions"))
    except ValueError as error:
        raise InvalidInput("Choose a kind and permissions from the lists.") from error
    return SearchWanted(
        name=query.text("name").strip(),
        kind=kind,
        least_bytes=parse_size(query.text("least")),
        most_bytes=parse_size(query.text("most")),
        newer_days=parse_days(query.text("newer")),
        older_days=parse_days(query.text("older")),
        permissions=permissions,
        inside=query.text("inside"),
        now_ns=time.time_ns(),
    )
