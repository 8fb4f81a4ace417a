"""Packages of a site: the list, what is set aside, and the search for what breaks a page."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.files.sitepath import SitePath
from nailer.core.packages.declared import kind_of
from nailer.core.packages.halves import usual_tests
from nailer.core.packages.tested import PageTest
from nailer.errors import NailerError
from nailer.services.packages import SearchState
from nailer.services.sites import Site
from nailer.web.shell.doors import Id, PackagesDoor, SignedIn, SitesDoor, TheSite, packages_of
from nailer.web.shell.forms import PackageSearchWish, SetAsideWish
from nailer.web.shell.pages import render

router = APIRouter()


@router.get("/sites/{site_id}/packages")
async def packages_page(request: Request, site: TheSite, sites: SitesDoor) -> Response:
    """The page comes at once; the packages and the search fill it."""
    pinned = bool(await sites.connector.pinned(site))
    return render(request, "packages/packages.html", site=site, known=pinned, section="packages")


@router.get("/sites/{site_id}/packages/list")
async def package_list(request: Request, site: TheSite) -> Response:
    """Every package, as a fragment."""
    return await _listed(request, site)


@router.post("/sites/{site_id}/packages/set-aside")
async def set_aside(
    request: Request, site: TheSite, wish: SetAsideWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """Give a package another name until somebody brings it back."""
    await packages.asides.set_aside(session.account_id, site, SitePath.of_token(wish.path), wish.why.strip())
    return await _listed(request, site)


@router.post("/sites/{site_id}/packages/bring-back/{aside_id}")
async def bring_back(
    request: Request, site: TheSite, aside_id: Id, packages: PackagesDoor, session: SignedIn
) -> Response:
    """Give a package its name back."""
    await packages.asides.bring_back(session.account_id, site, aside_id)
    return await _listed(request, site)


@router.get("/sites/{site_id}/packages/search")
async def search(request: Request, site: TheSite) -> Response:
    """The last search as it stands, as a fragment."""
    return await _searched(request, site)


@router.post("/sites/{site_id}/packages/search")
async def begin_search(
    request: Request, site: TheSite, wish: PackageSearchWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """Search for what breaks a page."""
    page = PageTest(wish.address.strip(), wish.must.strip(), wish.must_not.strip())
    paths = [SitePath.of_token(one) for one in wish.paths]
    await packages.searching.begin(session.account_id, site, page, paths)
    return await _searched(request, site)


@router.post("/sites/{site_id}/packages/go-on")
async def go_on(request: Request, site: TheSite, packages: PackagesDoor, session: SignedIn) -> Response:
    """Go on with a search that was cut."""
    await packages.searching.go_on(session.account_id, site)
    return await _searched(request, site)


@router.post("/sites/{site_id}/packages/give-up")
async def give_up(request: Request, site: TheSite, packages: PackagesDoor) -> Response:
    """End the search; everything is put back first."""
    await packages.searching.give_up(site)
    return await _searched(request, site)


async def _listed(request: Request, site: Site) -> Response:
    try:
        found = await packages_of(request).book.seen(site)
    except NailerError as error:
        return render(request, "packages/_list.html", site=site, found=None, why_not=error.what)
    return render(
        request,
        "packages/_list.html",
        site=site,
        found=found,
        why_not="",
        kind_of=kind_of,
        usual=usual_tests(sum(one.aside is None for one in found.packages)),
        replaced=await packages_of(request).replacing.of(site),
        folders=sorted({one.path.parent for one in found.packages} or {root.folder for root in site.document_roots}),
    )


async def _searched(request: Request, site: Site) -> Response:
    found = await packages_of(request).searching.known(site)
    return render(request, "packages/_search.html", site=site, found=found, SearchState=SearchState)
