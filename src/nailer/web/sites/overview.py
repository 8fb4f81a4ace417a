"""The sites view: groups, order, copies, removal, and sites out and in."""

from __future__ import annotations

from dataclasses import dataclass, replace

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.core.files.sitepath import SitePath
from nailer.errors import Conflict, InvalidInput
from nailer.services.sites.exchange import group_paths, read_sites, write_sites
from nailer.store.sites import Secrets, Site, SiteGroup, SiteStore
from nailer.web.shell import urls
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.pages import nailer_of, render

router = APIRouter()


@dataclass(frozen=True, slots=True)
class ShownGroup:
    """A group with its whole name (`Island clients / Staging`), how deep it lies, and its sites. `id` 0: no group."""

    id: int
    title: str
    name: str
    depth: int
    sites: list[Site]


class _Placed(BaseModel):
    model_config = ConfigDict(extra="forbid")
    site: int
    group: int | None


class _Order(BaseModel):
    model_config = ConfigDict(extra="forbid")
    sites: list[_Placed] = Field(max_length=20_000)


@router.get("/sites")
async def sites_page(request: Request) -> Response:
    nailer = nailer_of(request)
    groups, sites = await nailer.sites.groups(), await nailer.sites.all()
    known = await nailer.sites.known_servers()
    changed, connected = nailer.connector.changed, nailer.pool.open_sites()
    by_id = {
        site.id: {
            "known": (site.host, site.port) in known,
            "changed": (site.host, site.port) in changed,
            "lines": connected[site.id].lines if site.id in connected else 0,
        }
        for site in sites
    }
    opened = sorted((site for site in sites if site.opened_at), key=lambda one: str(one.opened_at), reverse=True)
    return render(
        request,
        "sites/sites.html",
        groups=_grouped(groups, sites),
        group_choices=urls.group_titles(groups),
        by_id=by_id,
        count=len(sites),
        recent=opened[:5] if len(sites) > 3 else [],
        open_lines=nailer.pool.open_lines,
    )


@router.post("/sites/arrange")
async def arrange(request: Request, order: _Order) -> Response:
    """The whole order, as the page shows it after a drag or a key."""
    await nailer_of(request).sites.arrange([(one.site, one.group) for one in order.sites])
    return JSONResponse({"ok": True})


@router.post("/groups")
async def add_group(request: Request) -> Response:
    form = await read_form(request)
    parent = form.get("parent_id", "")
    await nailer_of(request).sites.add_group(_group_name(form), int(parent) if parent.isdecimal() else None, 1000)
    return RedirectResponse(urls.SITES, 303)


@router.post("/groups/{group_id}")
async def change_group(request: Request, group_id: int) -> Response:
    """Rename a group, or lay it into another."""
    form = await read_form(request)
    nailer = nailer_of(request)
    await nailer.sites.rename_group(group_id, _group_name(form))
    if "parent_id" in form:
        parent = form["parent_id"]
        await nailer.sites.move_group(group_id, int(parent) if parent.isdecimal() else None, 1000)
    return RedirectResponse(urls.SITES, 303)


@router.post("/groups/{group_id}/remove")
async def remove_group(request: Request, group_id: int) -> Response:
    await nailer_of(request).sites.remove_group(group_id)
    return RedirectResponse(urls.SITES, 303)


@router.post("/sites/{site_id}/duplicate")
async def duplicate(request: Request, site_id: int) -> Response:
    """A second site with the same settings and the same stored sign-in."""
    sites = nailer_of(request).sites
    site = await sites.get(site_id)
    taken = {one.name for one in await sites.all()}
    name = next(one for number in range(2, 10_000) if (one := f"{site.name[:112]} {number}") not in taken)
    copy = await sites.add(replace(site, id=0, name=name, opened_at=None), Secrets())
    return RedirectResponse(urls.site(copy.id, "settings"), 303)


@router.get("/sites/{site_id}/remove")
async def removal_page(request: Request, site_id: int) -> Response:
    """What would go with a site, said first."""
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    shared = next((one.sites for one in await nailer.sites.credentials() if one.id == site.credential_id), 1)
    goes = await nailer.sites.goes_with(site_id)
    return render(request, "sites/remove-site.html", site=site, goes=goes, shared=shared - 1)


@router.post("/sites/{site_id}/remove")
async def remove_site(request: Request, site_id: int) -> Response:
    nailer = nailer_of(request)
    form = await read_form(request)
    site = await nailer.sites.get(site_id)
    if form.get("confirm_name", "").strip() != site.name and not site.fleeting:
        raise Conflict(f"Type the site's name, {site.name}, to remove it. Nothing was removed.")
    await nailer.sites.remove(site_id)
    await nailer.pool.close_site(site_id)
    nailer.connector.forget_site(site_id)
    nailer.browse.forget(site_id)
    return RedirectResponse(urls.SITES, 303)


@router.get("/sites/export")
async def export(request: Request) -> Response:
    """All sites, or the one that `site` names, as a file without secrets."""
    nailer = nailer_of(request)
    wanted = QueryValues(request).number("site", 0)
    sites = [one for one in await nailer.sites.all() if wanted in (0, one.id)]
    name = "nailer-sites.json" if not wanted else f"nailer-site-{wanted}.json"
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(write_sites(sites, await nailer.sites.groups()), media_type="application/json", headers=headers)


@router.get("/sites/import")
async def import_page(request: Request) -> Response:
    return render(request, "sites/import.html", text="", found=None, problem="", known=set())


@router.post("/sites/import")
async def import_sites(request: Request) -> Response:
    """First what a text holds, then the sites that were chosen of it."""
    nailer = nailer_of(request)
    form = await read_form(request)
    text = form.get("text", "")
    root = next(iter(nailer.settings.roots), "")
    known = {(one.name, one.host, one.user_name) for one in await nailer.sites.all()}
    try:
        found = read_sites(text, root)
    except InvalidInput as error:
        return render(request, "sites/import.html", 422, text=text, found=None, problem=error.what, known=known)
    if form.get("take") != "yes":
        return render(request, "sites/import.html", text=text, found=found, problem="", known=known)
    chosen = [one for number, one in enumerate(found) if form.get(f"site_{number}") == "yes"]
    for site, group in chosen:
        await _take_in(nailer.sites, site, group, root)
    return RedirectResponse(urls.SITES, 303)


@router.get("/finder")
async def go_to(request: Request) -> Response:
    """Sites, actions and folders by a part of their name; of folders those of the open site that were read."""
    nailer = nailer_of(request)
    query = QueryValues(request)
    wanted = query.text("q").strip().casefold()
    sites = [site for site in await nailer.sites.all() if wanted in site.name.casefold() or wanted in site.host]
    folders: list[tuple[Site, SitePath, SitePath]] = []
    open_site_id = query.number("site", 0)
    actions = [(label, address) for label, address in _ACTIONS if wanted in label.casefold()]
    if wanted and open_site_id:
        site = await nailer.sites.get(open_site_id)
        folders = [(site, here, there) for here, there in nailer.browse.known_folders(site, wanted)][:12]
        own = ((f"{word} of {site.name}", urls.site(site.id, part)) for word, part in _SITE_ACTIONS)
        actions += [(label, address) for label, address in own if wanted in label.casefold()]
    return render(
        request, "sites/_goto-results.html", sites=sites[:8], folders=folders, wanted=wanted, actions=actions[:12]
    )


_ACTIONS = (
    ("Add a site", urls.ADD),
    ("All sites", urls.SITES),
    ("Identities of servers", urls.IDENTITIES),
    ("Take sites in from a file", "/sites/import"),
    ("Write all sites to a file", "/sites/export"),
    ("Jobs", urls.JOBS),
    ("Jobs that need you", f"{urls.JOBS}?show=needs-you"),
    ("Timers", urls.TIMERS),
    ("Sieves", urls.SIEVES),
    ("Drafts", urls.DRAFTS),
)
_SITE_ACTIONS = (
    ("Sync", "sync"),
    ("Changes", "changes"),
    ("Checks", "checks"),
    ("Connection", "connection"),
    ("Settings", "settings"),
    ("Remove", "remove"),
)


async def _take_in(sites: SiteStore, site: Site, group: list[str], root: str) -> None:
    """Store a site that came in, in its groups, which are made where they are missing."""
    parent: int | None = None
    for name in group:
        paths = await sites.groups()
        same = next((one for one in paths if one.parent_id == parent and one.name == name), None)
        parent = same.id if same else await sites.add_group(name[:120], parent, 1000)
    if root and (site.start_here.is_root or not site.start_here.names[0]):
        site = replace(site, start_here=SitePath((root.encode(), site.name.encode()[:200].replace(b"/", b"-"))))
    await sites.add(replace(site, group_id=parent), Secrets())


def _group_name(form: dict[str, str]) -> str:
    name = form.get("name", "").strip()
    if not name or len(name) > 120:
        raise InvalidInput("A group needs a name of at most 120 characters.")
    return name


def _grouped(groups: list[SiteGroup], sites: list[Site]) -> list[ShownGroup]:
    paths = group_paths(groups)
    shown = [
        ShownGroup(key, title, paths[key][-1], len(paths[key]) - 1, [site for site in sites if site.group_id == key])
        for key, title in urls.group_titles(groups)
    ]
    loose = [site for site in sites if site.group_id is None and not site.fleeting]
    once = [site for site in sites if site.fleeting]
    rest = [ShownGroup(0, "Without a group", "", 0, loose)] if loose or not shown else []
    return [*shown, *rest, *([ShownGroup(-1, "Only for now", "", 0, once)] if once else [])]
