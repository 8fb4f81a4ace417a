"""All identities that are trusted: how each came to be, its removal, and OpenSSH's known_hosts in and out."""

from __future__ import annotations

from dataclasses import dataclass, field

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import PlainTextResponse, RedirectResponse, Response

from nailer.sides.identities.certificate import CertificateFacts, facts_of
from nailer.sides.identities.known_hosts import KnownHosts, read_known_hosts, write_known_hosts
from nailer.store.sites import IdentityEvent, Pinned
from nailer.web.shell import urls
from nailer.web.shell.forms import read_form
from nailer.web.shell.pages import nailer_of, render, session_of

router = APIRouter()


@dataclass(slots=True)
class _Server:
    """A server with what is trusted of it, its sites and its story."""

    host: str
    port: int
    pinned: list[tuple[Pinned, CertificateFacts | None]] = field(default_factory=list)
    sites: list[str] = field(default_factory=list)
    story: list[IdentityEvent] = field(default_factory=list)
    changed: bool = False


@router.get("/identities")
async def identities_page(request: Request) -> Response:
    return await _page(request, None, 0)


@router.post("/identities/{pinned_id}/remove")
async def remove(request: Request, pinned_id: int) -> Response:
    """The next connection to that server is a first meeting again."""
    nailer = nailer_of(request)
    pinned = await nailer.sites.unpin(pinned_id, session_of(request).account_id)
    nailer.connector.distrust(pinned.host, pinned.port)
    for site in await nailer.sites.all():
        if (site.host, site.port) == (pinned.host, pinned.port):
            await nailer.pool.close_site(site.id)
    return RedirectResponse(urls.IDENTITIES, 303)


@router.get("/identities/known_hosts")
async def known_hosts_out(request: Request) -> Response:
    pinned = await nailer_of(request).sites.all_pinned()
    text = write_known_hosts((one.host, one.port, one.key) for one in pinned)
    return PlainTextResponse(text, headers={"Content-Disposition": 'attachment; filename="known_hosts"'})


@router.post("/identities/known_hosts")
async def known_hosts_in(request: Request) -> Response:
    """Trust the keys of a file. A server that has other keys here keeps them: a file never replaces what was met."""
    nailer = nailer_of(request)
    form = await read_form(request)
    sites = await nailer.sites.all()
    found = read_known_hosts(form.get("text", ""), {(site.host, site.port) for site in sites})
    already = await nailer.sites.known_servers()
    account_id = session_of(request).account_id
    taken, left = 0, list(found.left)
    for host, port, key in found.keys:
        trusted = already.get((host, port), [])
        if key.fingerprint in trusted:
            continue
        if trusted:
            left.append((f"{host} {key.algorithm}", "this server has another key here; remove that first"))
            continue
        await nailer.sites.pin(host, port, key, trusted_by=account_id, how="read from known_hosts", beside=True)
        taken += 1
    return await _page(request, KnownHosts(found.keys, tuple(left)), taken)


async def _page(request: Request, read: KnownHosts | None, taken: int) -> Response:
    nailer = nailer_of(request)
    servers: dict[tuple[str, int], _Server] = {}
    for one in await nailer.sites.all_pinned():
        server = servers.setdefault((one.host, one.port), _Server(one.host, one.port))
        server.pinned.append((one, facts_of(one.key.public_key) if one.key.is_certificate else None))
    for event in await nailer.sites.stories():
        server = servers.setdefault((event.host, event.port), _Server(event.host, event.port))
        server.story.append(event)
    for site in await nailer.sites.all():
        if (site.host, site.port) in servers:
            servers[(site.host, site.port)].sites.append(site.name)
    for key, server in servers.items():
        server.changed = key in nailer.connector.changed
    shown = sorted(servers.values(), key=lambda one: (not one.pinned, one.host, one.port))
    return render(request, "sites/identities.html", servers=shown, read=read, taken=taken)
