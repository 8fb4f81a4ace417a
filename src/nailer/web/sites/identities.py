"""All identities that are trusted: how each came to be, its removal, and OpenSSH's known_hosts in and out."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import PlainTextResponse, RedirectResponse, Response

from nailer.services.sites import KnownHosts, Sites
from nailer.web.shell import urls
from nailer.web.shell.doors import Id, SignedIn, SitesDoor
from nailer.web.shell.forms import read_form
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/identities")
async def identities_page(request: Request, sites: SitesDoor) -> Response:
    """Every server of which something is trusted."""
    return await _page(request, sites, None, 0)


@router.post("/identities/{pinned_id}/remove")
async def remove(pinned_id: Id, sites: SitesDoor, session: SignedIn) -> Response:
    """The next connection to that server is a first meeting again."""
    await sites.identities.remove(pinned_id, session.account_id)
    return RedirectResponse(urls.IDENTITIES, 303)


@router.get("/identities/known_hosts")
async def known_hosts_out(sites: SitesDoor) -> Response:
    """All trusted keys as OpenSSH's list of known hosts."""
    headers = {"Content-Disposition": 'attachment; filename="known_hosts"'}
    return PlainTextResponse(await sites.identities.known_hosts(), headers=headers)


@router.post("/identities/known_hosts")
async def known_hosts_in(request: Request, sites: SitesDoor, session: SignedIn) -> Response:
    """Trust the keys of a list of known hosts."""
    form = await read_form(request)
    read, taken = await sites.identities.take_in(form.get("text", ""), session.account_id)
    return await _page(request, sites, read, taken)


async def _page(request: Request, sites: Sites, read: KnownHosts | None, taken: int) -> Response:
    shown = await sites.identities.servers()
    return render(request, "sites/identities.html", servers=shown, read=read, taken=taken)
