"""Another version of a package, a new one, or one that goes: given, read as a plan, decided, and carried out."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.bounded import bounded
from nailer.core.compare.contents import compared
from nailer.core.compare.merge import Merged
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.core.packages.replacing import Fate, Take
from nailer.errors import InvalidInput, NotFound
from nailer.services.packages import Found, ReplacementState, VersionSource
from nailer.services.sites import Site
from nailer.web.editing.editor import pieces_of
from nailer.web.packages.shown import TAKE_WORDS, groups_of, steps_of
from nailer.web.shell import urls
from nailer.web.shell.bodies import sent_bytes
from nailer.web.shell.doors import Id, PackagesDoor, SignedIn, SitesDoor, TheSite, packages_of, plans_of
from nailer.web.shell.forms import (
    ChoiceWish,
    InPlaceWish,
    JoinedWish,
    PackageWish,
    QueryValues,
    TypedWish,
    VersionElsewhereWish,
    VersionHereWish,
)
from nailer.web.shell.pages import render, routed

router = APIRouter()

_READ_ON = (ReplacementState.READING, ReplacementState.PLANNED)


@router.get("/sites/{site_id}/packages/version")
async def version_page(request: Request, site: TheSite, packages: PackagesDoor, sites: SitesDoor) -> Response:
    """Where another version of a package comes from; with `into`, a package that is not there yet."""
    values = QueryValues(request)
    into, path = values.path("into"), values.path("path")
    if into is None and path is None:
        raise NotFound("Choose a package to change, or a folder for a new package.")
    old = await packages.replacing.there(site, path) if path is not None else None
    offered = await packages.sources.offered_for(site, old) if old is not None else ()
    place = old.folder if old is not None else into
    return render(
        request,
        "packages/version.html",
        site=site,
        known=bool(await sites.connector.pinned(site)),
        section="packages",
        old=old,
        into=into,
        offered=offered,
        near=site.counterpart(SideName.THERE, place) if place is not None else None,
        others=[one for one in await sites.book.all() if one.id != site.id],
    )


@router.put("/sites/{site_id}/packages/replacements")
async def dropped(request: Request, site: TheSite, packages: PackagesDoor, session: SignedIn) -> Response:
    """An archive's bytes. JSON: where its plan is."""
    values = QueryValues(request)
    old = await _old(packages, site, values.path("path"))
    source = await packages.sources.dropped(values.text("name"), sent_bytes(request), old)
    return await _begun(packages, session.account_id, site, old, values.path("into"), source)


@router.post("/sites/{site_id}/packages/replacements/here")
async def from_here(site: TheSite, wish: VersionHereWish, packages: PackagesDoor, session: SignedIn) -> Response:
    """A folder or an archive here. JSON: where its plan is."""
    old = await _old(packages, site, wish.path_there)
    source = await packages.sources.here(site, SitePath.of_token(wish.here), old)
    return await _begun(packages, session.account_id, site, old, wish.into_there, source)


@router.post("/sites/{site_id}/packages/replacements/elsewhere")
async def from_elsewhere(
    site: TheSite, wish: VersionElsewhereWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """A folder of another site. JSON: where its plan is."""
    old = await _old(packages, site, wish.path_there)
    source = await packages.sources.elsewhere(wish.site, SitePath.parse(wish.there.encode()), old)
    return await _begun(packages, session.account_id, site, old, wish.into_there, source)


@router.post("/sites/{site_id}/packages/replacements/removal")
async def removal(site: TheSite, wish: PackageWish, packages: PackagesDoor, session: SignedIn) -> Response:
    """A package is to go. JSON: where its plan is."""
    old = await packages.replacing.there(site, SitePath.of_token(wish.path))
    return _at(site, await packages.replacing.remove(session.account_id, site, old))


@router.get("/sites/{site_id}/packages/replacements/{number}")
async def replacement_page(
    request: Request, site: TheSite, number: Id, packages: PackagesDoor, sites: SitesDoor
) -> Response:
    """The page of one; what it is about fills it."""
    one = await packages.replacing.get(site, number)
    pinned = bool(await sites.connector.pinned(site))
    return render(request, "packages/replacement.html", site=site, known=pinned, section="packages", one=one)


@router.get("/sites/{site_id}/packages/replacements/{number}/state")
async def state(request: Request, site: TheSite, number: Id) -> Response:
    """How far it is, as a fragment."""
    return await _shown(request, site, number)


@router.post("/sites/{site_id}/packages/replacements/{number}/choose")
async def choose(request: Request, site: TheSite, number: Id, wish: ChoiceWish, packages: PackagesDoor) -> Response:
    """Take a choice into the plan: for one name, or for all of a kind."""
    if wish.below:
        await packages.replacing.choose(site, number, {_below(wish.below): wish.take})
    else:
        await packages.replacing.choose_group(site, number, wish.fates, wish.take)
    return await _shown(request, site, number)


@router.post("/sites/{site_id}/packages/replacements/{number}/in-place")
async def in_place(request: Request, site: TheSite, number: Id, wish: InPlaceWish, packages: PackagesDoor) -> Response:
    """Replace files one by one, or the whole folder."""
    await packages.replacing.in_place(site, number, wanted=wish.wanted)
    return await _shown(request, site, number)


@router.put("/sites/{site_id}/packages/replacements/{number}/original")
async def original(request: Request, site: TheSite, number: Id, packages: PackagesDoor, session: SignedIn) -> Response:
    """The bytes of an archive of the old version, as it was delivered."""
    one = await packages.replacing.get(site, number)
    old = await packages.replacing.there(site, one.path)
    source = await packages.sources.dropped(QueryValues(request).text("name"), sent_bytes(request), old)
    await packages.replacing.original(session.account_id, site, number, source)
    return JSONResponse({"ok": True})


@router.get("/sites/{site_id}/packages/replacements/{number}/difference")
async def difference(request: Request, site: TheSite, number: Id, packages: PackagesDoor) -> Response:
    """What the old and the new have of one name, line by line."""
    one = await packages.replacing.get(site, number)
    below = QueryValues(request).need_path("below").names
    old, new = await packages.replacing.plans.before_and_after(one, below)
    is_joined = (await packages.replacing.plans.row(one, below)).taken(one.choices) is Take.JOINED
    return render(request, "packages/_difference.html", compared=await bounded(compared, old, new), is_joined=is_joined)


@router.get("/sites/{site_id}/packages/replacements/{number}/join")
async def join(request: Request, site: TheSite, number: Id, packages: PackagesDoor) -> Response:
    """Both texts of a name as one, with what is to be decided."""
    one = await packages.replacing.get(site, number)
    below = QueryValues(request).need_path("below").names
    _, _, merged, theirs = await packages.replacing.plans.texts(one, below)
    return _merge_sheet(request, below, merged, theirs)


@router.post("/sites/{site_id}/packages/replacements/{number}/joined")
async def joined(request: Request, site: TheSite, number: Id, wish: JoinedWish, packages: PackagesDoor) -> Response:
    """Take a joined text into the plan."""
    await packages.replacing.join(site, number, _below(wish.below), wish.text)
    return await _shown(request, site, number)


@router.post("/sites/{site_id}/packages/replacements/{number}/carry-out")
async def carry_out(
    request: Request, site: TheSite, number: Id, wish: TypedWish, packages: PackagesDoor, session: SignedIn
) -> Response:
    """Carry the plan out."""
    await packages.replacing.carry_out(session.account_id, site, number, wish.typed)
    return await _shown(request, site, number)


@router.post("/sites/{site_id}/packages/replacements/{number}/back")
async def back(request: Request, site: TheSite, number: Id, packages: PackagesDoor, session: SignedIn) -> Response:
    """Put the old one in its place again."""
    await packages.replacing.back(session.account_id, site, number)
    return await _shown(request, site, number)


@router.post("/sites/{site_id}/packages/replacements/{number}/go-on")
async def go_on(request: Request, site: TheSite, number: Id, packages: PackagesDoor, session: SignedIn) -> Response:
    """Try again what failed half way."""
    await packages.replacing.go_on(session.account_id, site, number)
    return await _shown(request, site, number)


@router.post("/sites/{site_id}/packages/replacements/{number}/reopen")
async def reopen(request: Request, site: TheSite, number: Id, packages: PackagesDoor) -> Response:
    """Read again what failed."""
    await packages.replacing.reopen(site, number)
    return await _shown(request, site, number)


@router.post("/sites/{site_id}/packages/replacements/{number}/drop")
async def drop(site: TheSite, number: Id, packages: PackagesDoor) -> Response:
    """Give it up. JSON: where to go on."""
    await packages.replacing.drop(site, number)
    return JSONResponse({"address": urls.site(site.id, "packages")})


async def _old(packages: PackagesDoor, site: Site, path: SitePath | None) -> Found | None:
    return await packages.replacing.there(site, path) if path is not None else None


async def _begun(
    packages: PackagesDoor, account_id: int, site: Site, old: Found | None, into: SitePath | None, source: VersionSource
) -> Response:
    if old is not None:
        return _at(site, await packages.replacing.replace(account_id, site, old, source))
    if into is None:
        raise InvalidInput("Choose a package to change, or a folder for a new package.")
    return _at(site, await packages.replacing.install(account_id, site, into, source))


def _at(site: Site, number: int) -> Response:
    return JSONResponse({"address": urls.site(site.id, "packages", "replacements", str(number))})


def _below(token: str) -> RelativePath:
    return SitePath.of_token(token).names


def _merge_sheet(request: Request, below: RelativePath, merged: Merged, theirs: str) -> Response:
    return render(
        request,
        "shell/_merge.html",
        name=below[-1] if below else b"",
        merged=merged,
        pieces=pieces_of(merged),
        theirs=theirs,
        by="",
        words={"mine": "As it is there", "theirs": "New version"},
        settle="Take this into the plan",
        later="Nothing is written until the plan is carried out.",
        take="",
    )


async def _shown(request: Request, site: Site, number: int) -> Response:
    replacing = packages_of(request).replacing
    one = await replacing.look_again(site, number)
    plan = await replacing.plans.of(one) if one.state is ReplacementState.PLANNED else None
    job = await plans_of(request).jobs.get(one.job_id) if one.job_id is not None and plan is None else None
    return render(
        request,
        "packages/_replacement.html",
        site=site,
        one=one,
        plan=plan,
        must_type=await replacing.must_type(site, one) if plan is not None else "",
        groups=groups_of(plan) if plan is not None else (),
        steps=steps_of(one) if one.state not in _READ_ON else (),
        job=job,
        left=await replacing.plans.left(one) if one.can_go_back else 0,
        reading=replacing.reading.words(number),
        link_to=lambda address: routed(request, address),
        State=ReplacementState,
        Fate=Fate,
        TAKE_WORDS=TAKE_WORDS,
    )
