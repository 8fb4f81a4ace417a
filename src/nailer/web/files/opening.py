"""How a person comes to two folders: by an address that names one side or both, by typed text, by a name to pick; and
what is said where a folder is not there, or two do not belong together."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, name_of_token, name_token
from nailer.core.files.typed import is_web_address
from nailer.services.files import Files, FolderPair, Ledger, Nowhere
from nailer.services.sites import Site
from nailer.web.shell import urls
from nailer.web.shell.doors import FilesDoor, PairsDoor, SignedIn, TheSite
from nailer.web.shell.forms import QueryValues, read_form

router = APIRouter()


@dataclass(frozen=True, slots=True)
class Belonging:
    """For two folders that do not belong together: what belongs to each. `here` is the folder that would suit the one
    there; None where no pair leads to any."""

    here: SitePath | None
    there: SitePath | None


async def folders_of(files: Files, site: Site, query: QueryValues) -> FolderPair:
    """The two folders that an address asks for. Where it names one side only, the other is where the pairs lead."""
    here, there = query.path("here"), query.path("there")
    if here is None and there is not None:
        here = await files.browse.other_side(site, SideName.THERE, there)
    elif there is None and here is not None:
        there = await files.browse.other_side(site, SideName.HERE, here)
    return here or site.start_here, there or site.start_there


async def missing_values(files: Files, site: Site, query: QueryValues) -> dict[str, Any]:
    """A folder that was asked for and is not there, with what is near it."""
    wanted = query.path("missing")
    if wanted is None:
        return {"missing": None}
    side = query.side("there")
    near = await files.opening.nearest(site, side, wanted)
    return {"missing": wanted, "missing_side": side, "near": near}


def pick_values(ledger: Ledger, query: QueryValues) -> dict[str, Any]:
    """A name that the address picks, and its place among the rows."""
    token = query.text("pick")
    name = name_of_token(token) if token else b""
    place = next((index for index, row in enumerate(ledger.shown) if row.name == name), -1) if token else -1
    return {"pick": name_token(name) if place >= 0 else "", "pick_at": place}


async def belonging_of(files: Files, site: Site, here: SitePath, there: SitePath) -> Belonging:
    one = await files.browse.other_side(site, SideName.THERE, there)
    other = await files.browse.other_side(site, SideName.HERE, here)
    return Belonging(one if one != here else None, other if other != there else None)


async def typed_target(files: Files, site: Site, here: SitePath, there: SitePath, query: QueryValues) -> str:
    """Where text typed into a bar leads: a folder with what belongs to it, a file picked in its folder, a line of a file
    in the editor. What is not there is said, with what is near."""
    typed, side, apart = query.text("go"), query.side("there"), "1" if query.text("apart") == "1" else ""
    found = await files.opening.of(site, side, here if side is SideName.HERE else there, typed)
    if isinstance(found, Nowhere):
        if found.wanted is None:
            return urls.files(site, here, there, apart=apart, problem=found.why)
        return said_missing(site, SideName.THERE if is_web_address(typed) else side, found.wanted)
    if is_web_address(typed):
        side = SideName.THERE
    if found.line and found.pick:
        return urls.edit(site.id, side, found.folder.child(found.pick)) + f"&line={found.line}"
    pick = name_token(found.pick) if found.pick else ""
    if apart:
        ends = (found.folder, there) if side is SideName.HERE else (here, found.folder)
        return urls.files(site, *ends, apart="1", pick=pick)
    return urls.folder(site.id, side, found.folder, pick=pick)


def said_missing(site: Site, side: SideName, wanted: SitePath) -> str:
    """The files view at the start, saying that a folder is not there."""
    return urls.files(site) + f"&missing={wanted.token}&side={side}"


@router.post("/sites/{site_id}/folders/path")
async def make_path(request: Request, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Make a folder that was asked for and is not there, with those above it, and open it."""
    form = await read_form(request)
    side = SideName.HERE if form.get("side") == "here" else SideName.THERE
    wanted = SitePath.of_token(form.get("path", ""))
    files.guarded.check(session.account_id, site, side, wanted)
    await files.change.make_path(session.account_id, site, side, wanted)
    return RedirectResponse(urls.folder(site.id, side, wanted), 303)


@router.post("/sites/{site_id}/belong")
async def belong(request: Request, site: TheSite, pairs: PairsDoor) -> Response:
    """Say that two folders belong together: they are a pair from now on."""
    form = await read_form(request)
    here, there = SitePath.of_token(form.get("here", "")), SitePath.of_token(form.get("there", ""))
    await pairs.book.add(site, here, there, name="", other_site_id=None)
    return RedirectResponse(urls.files(site, here, there), 303)
