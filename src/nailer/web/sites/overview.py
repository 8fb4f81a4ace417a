"""Sites in their groups and order, duplicates, removal, and sites out and in."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.acting import person
from nailer.core.files.sitepath import SitePath
from nailer.core.numbers import number_in
from nailer.errors import InvalidInput
from nailer.services.files import known_folders
from nailer.services.people import Did
from nailer.services.sites import Site, read_sites, write_sites
from nailer.unbroken import in_thread
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    FilesDoor,
    Id,
    SitesDoor,
    TheSettings,
    people_of,
)
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.pages import render
from nailer.web.sites.actions import found_actions

router = APIRouter()

_MOST_SITES = 4  # whose actions are offered where no site is open


class _Placed(BaseModel):
    model_config = ConfigDict(extra="forbid")
    site: int
    group: int | None


class _Order(BaseModel):
    model_config = ConfigDict(extra="forbid")
    sites: list[_Placed] = Field(max_length=20_000)


@router.post(urls.LATELY)
async def forget_lately(sites: SitesDoor) -> Response:
    """Forget which sites were opened lately."""
    await sites.book.forget_openings()
    return RedirectResponse(urls.SITES, 303)


@router.post("/sites/arrange")
async def arrange(request: Request, order: _Order, sites: SitesDoor) -> Response:
    """The whole order, as the page shows it after a drag or a key."""
    await sites.book.arrange([(one.site, one.group) for one in order.sites])
    return JSONResponse({"ok": True})


@router.post("/groups")
async def add_group(request: Request, sites: SitesDoor) -> Response:
    """Make a group."""
    form = await read_form(request)
    parent = form.get("parent_id", "")
    await sites.book.add_group(form.get("name", ""), number_in(parent))
    return RedirectResponse(urls.SITES, 303)


@router.post("/groups/{group_id}")
async def change_group(request: Request, group_id: Id, sites: SitesDoor) -> Response:
    """Rename a group, or lay it into another."""
    form = await read_form(request)
    await sites.book.rename_group(group_id, form.get("name", ""))
    if "parent_id" in form:
        parent = form["parent_id"]
        await sites.book.move_group(group_id, number_in(parent))
    return RedirectResponse(urls.SITES, 303)


@router.post("/groups/{group_id}/remove")
async def remove_group(request: Request, group_id: Id, sites: SitesDoor) -> Response:
    """Take a group away; what lay in it moves up."""
    await sites.book.remove_group(group_id)
    return RedirectResponse(urls.SITES, 303)


@router.post("/sites/{site_id}/duplicate")
async def duplicate(request: Request, site_id: Id, sites: SitesDoor) -> Response:
    """A second site with the same settings and the same stored sign-in."""
    copy = await sites.book.duplicate(site_id)
    return RedirectResponse(urls.site(copy.id, "settings"), 303)


@router.get("/sites/{site_id}/remove")
async def removal_page(request: Request, site_id: Id, sites: SitesDoor) -> Response:
    """What would go with a site, said first."""
    removal = await sites.book.removal(site_id)
    return render(request, "sites/remove-site.html", site=removal.site, goes=removal.goes, shared=removal.shared)


@router.post("/sites/{site_id}/remove")
async def remove_site(request: Request, site_id: Id, sites: SitesDoor, files: FilesDoor) -> Response:
    """Remove a site whose name was typed."""
    form, site = await read_form(request), await sites.book.get(site_id)
    await sites.book.remove(site_id, form.get("confirm_name", ""))
    await people_of(request).log.add(Did.SETTINGS, "removed the site", site=site)
    files.browse.forget(site_id)
    return RedirectResponse(urls.SITES, 303)


@router.get("/sites/export")
async def export(request: Request, sites: SitesDoor) -> Response:
    """All sites, or the one that `site` names, as a file without secrets."""
    wanted = QueryValues(request).number("site", 0)
    listed = [one for one in await sites.book.all() if wanted in (0, one.id)]
    name = "nailer-sites.json" if not wanted else f"nailer-site-{wanted}.json"
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(
        write_sites(listed, await sites.book.groups(), await sites.identities.fingerprints()),
        media_type="application/json",
        headers=headers,
    )


@router.get("/sites/import")
async def import_page(request: Request) -> Response:
    """The page on which sites come in."""
    return render(request, "sites/import.html", text="", found=None, problem="", known=set())


@router.post("/sites/import")
async def import_sites(request: Request, settings: TheSettings, sites: SitesDoor) -> Response:
    """First what a text holds, then the sites that were chosen of it."""
    form = await read_form(request)
    text = form.get("text", "")
    known = {(one.name, one.host, one.user_name) for one in await sites.book.all()}
    try:
        found = await in_thread(read_sites, text, list(settings.roots))
    except InvalidInput as error:
        return render(request, "sites/import.html", 422, text=text, found=None, problem=error.what, known=known)
    if form.get("take") != "yes":
        return render(request, "sites/import.html", text=text, found=found, problem="", known=known)
    chosen = [one for number, one in enumerate(found.sites) if form.get(f"site_{number}") == "yes"]
    for site, group in chosen:
        await sites.book.take_in(site, group)
    return RedirectResponse(urls.SITES, 303)


@router.get("/finder")
async def go_to(request: Request, sites: SitesDoor, files: FilesDoor) -> Response:
    """Sites, actions and folders by a part of their name; of folders those of the open site that were read."""
    query = QueryValues(request)
    wanted = query.text("q").strip().casefold()
    listed = [site for site in await sites.book.all() if wanted in site.name.casefold() or wanted in site.host]
    folders: list[tuple[Site, SitePath, SitePath]] = []
    open_site_id = query.number("site", 0)
    asked_about = [await sites.book.get(open_site_id)] if open_site_id else (await sites.book.all())[:_MOST_SITES]
    actions = list(found_actions(wanted, person(), asked_about))
    if wanted and open_site_id:
        site = asked_about[0]
        folders = [(site, here, there) for here, there in known_folders(files.browse, site, wanted)][:12]
    return render(
        request, "sites/_goto-results.html", sites=listed[:8], folders=folders, wanted=wanted, actions=actions[:12]
    )
