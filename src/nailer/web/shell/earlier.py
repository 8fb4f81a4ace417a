"""Addresses that pages had before: they lead on, with whatever was asked of them."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response

from nailer.web.shell import urls
from nailer.web.shell.doors import Id, TheSite

router = APIRouter()


def _on(request: Request, address: str) -> Response:
    """To where it is now (RFC 9110, 15.4.9: the method stays)."""
    query = f"?{request.url.query}" if request.url.query else ""
    return RedirectResponse(address + query, 308)


@router.get("/sites/{site_id}/access")
async def permissions(request: Request, site: TheSite) -> Response:
    """Permissions of many names."""
    return _on(request, urls.site(site.id, "permissions"))


@router.get("/sites/{site_id}/wire")
async def connection_log(request: Request, site: TheSite) -> Response:
    """The connection log."""
    return _on(request, urls.site(site.id, "connection-log"))


@router.get("/sites/{site_id}/packages/copies")
async def copies(request: Request, site: TheSite) -> Response:
    """Verified copies."""
    return _on(request, urls.site(site.id, "copies"))


@router.get("/sites/{site_id}/packages/copies/{copy_id}")
async def one_copy(request: Request, site: TheSite, copy_id: Id) -> Response:
    """What is in a verified copy."""
    return _on(request, urls.site(site.id, "copies", str(copy_id)))
