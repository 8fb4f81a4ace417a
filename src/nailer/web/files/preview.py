"""Looking at a file in the page: pictures, sound and PDF as the browser shows them, text with its parts coloured."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator
from contextlib import aclosing

from fastapi import APIRouter
from markupsafe import Markup, escape
from starlette.requests import Request
from starlette.responses import Response, StreamingResponse

from nailer.bounded import bounded
from nailer.core.check.coloured import coloured
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.numbers import number_in
from nailer.errors import InvalidInput, Unreadable
from nailer.services.files import ShownAs, caption, file_to_fetch, kind_of, preview
from nailer.services.sites import Site
from nailer.web.shell import urls
from nailer.web.shell.doors import FilesDoor, TheSite, files_of
from nailer.web.shell.forms import LookWish, QueryValues
from nailer.web.shell.pages import render

router = APIRouter()

_RANGE = re.compile(r"bytes=([0-9]+)-([0-9]*)")


@router.post("/sites/{site_id}/look")
async def look(request: Request, wish: LookWish, site: TheSite, files: FilesDoor) -> Response:
    """A file as it can be seen, for the sheet. Nothing is changed, and little is read."""
    path = (wish.here_path if wish.side is SideName.HERE else wish.there_path).child(wish.raw_name)
    async with files.browse.side(site, wish.side) as side:
        found = await preview(side, path)
    return render(
        request,
        "files/_preview.html",
        site=site,
        side=wish.side,
        path=path,
        found=found,
        caption=caption(found),
        code=await _coloured(found.text, path) if found.look is ShownAs.TEXT else "",
        raw=urls.look_raw(site, wish.side, path),
        ShownAs=ShownAs,
    )


@router.get("/sites/{site_id}/look/raw")
async def raw(request: Request, site: TheSite, files: FilesDoor) -> Response:
    """The bytes of a picture, a sound, a film or a PDF, whole or a range of them (RFC 9110, 14). Of any other kind
    nothing is shown in our origin."""
    query = QueryValues(request)
    side, path = query.side(), query.need_path("path")
    known = kind_of(path.name)
    if known is None:
        raise InvalidInput("Only pictures, sound, films and PDF are shown as they are.")
    async with files.browse.side(site, side) as opened:
        size = (await file_to_fetch(opened, path)).size
    span = _span(request.headers.get("range", ""), size)
    start, end = span or (0, size)
    headers = {
        "Content-Type": known[0],
        "Content-Disposition": "inline",
        "Accept-Ranges": "bytes",
        "Cache-Control": "private, no-store",
        "Content-Length": str(max(0, end - start)),
        # A picture may be a document with scripts in it (SVG): it may do nothing here.
        "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'self'"
        + ("" if known[1] is ShownAs.PDF else "; sandbox"),
    }
    if span and start >= size:
        return Response(status_code=416, headers={"Content-Range": f"bytes */{size}"})
    if span:
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{size}"
    return StreamingResponse(_bytes(request, site, side, path, start, end), 206 if span else 200, headers=headers)


def _span(header: str, size: int) -> tuple[int, int] | None:
    """The first byte and the one behind the last that a Range asks for; None where it is none, or makes no sense, and then
    the whole file is the answer (RFC 9110, 14.2)."""
    found = _RANGE.fullmatch(header)
    first = number_in(found[1]) if found else None
    last = number_in(found[2]) if found and found[2] else size - 1
    if first is None or last is None or (last < first < size):
        return None
    return first, min(last + 1, size)


async def _bytes(
    request: Request, site: Site, side_name: SideName, path: SitePath, start: int, end: int
) -> AsyncIterator[bytes]:
    files = files_of(request)
    left = end - start
    async with (
        files.browse.side(site, side_name) as side,
        aclosing(side.read(path, start=start)) as chunks,
    ):
        async for chunk in chunks:
            yield chunk[:left]
            left -= len(chunk)
            if left <= 0:
                return


async def _coloured(text: str, path: SitePath) -> Markup:
    """Text with its parts in classes; as it is where it cannot be read."""
    try:
        return Markup(await bounded(coloured, text, path.name.decode("utf-8", "replace")))  # noqa: S704
    except Unreadable:
        return escape(text)
