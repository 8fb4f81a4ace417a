"""The tray of a site: names put in, taken out, emptied. What is in it is shown in the inspector."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.services.files import Tray
from nailer.web.shell.doors import FilesDoor, SignedIn, TheSite
from nailer.web.shell.forms import Picked

router = APIRouter()


@router.post("/sites/{site_id}/tray")
async def put_in(request: Request, picked: Picked, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Put picked names into the tray."""
    return _told(await files.tray.add(session.account_id, site, picked.here_path, picked.there_path, picked.raw_names))


@router.post("/sites/{site_id}/tray/take-out")
async def take_out(request: Request, picked: Picked, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Take names out of the tray."""
    return _told(
        await files.tray.remove(session.account_id, site, picked.here_path, picked.there_path, picked.raw_names)
    )


@router.post("/sites/{site_id}/tray/empty")
async def empty(request: Request, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Empty the tray."""
    await files.tray.clear(session.account_id, site)
    return _told(Tray())


def _told(tray: Tray) -> Response:
    return JSONResponse({"count": tray.count, "text": tray.text})
