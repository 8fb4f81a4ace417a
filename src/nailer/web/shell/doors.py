"""What routes take by `Depends`: the doors of the wings, the site of the address, and who is signed in.

A function that has a request but is no route calls the same functions (`sites_of(request)`).
"""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Path
from starlette.requests import Request

from nailer.app import Nailer
from nailer.core.numbers import MOST
from nailer.errors import NotAllowed
from nailer.services.checks import Checks
from nailer.services.editing import Editing
from nailer.services.files import Files
from nailer.services.packages import Packages
from nailer.services.pairs import Pairs
from nailer.services.people import People, Session
from nailer.services.plans import Plans
from nailer.services.sites import Site, Sites
from nailer.settings import Settings

Id = Annotated[int, Path(ge=0, le=MOST)]  # a number in an address; there is no page for one beyond these


def _nailer(request: Request) -> Nailer:
    nailer: Nailer = request.app.state.nailer
    return nailer


def settings_of(request: Request) -> Settings:
    """How this Nailer was set up."""
    return _nailer(request).settings


def people_of(request: Request) -> People:
    """The door of accounts and sessions."""
    return _nailer(request).people


def sites_of(request: Request) -> Sites:
    """The door of sites and their servers."""
    return _nailer(request).sites


def files_of(request: Request) -> Files:
    """The door of single files on both sides."""
    return _nailer(request).files


def plans_of(request: Request) -> Plans:
    """The door of plans and jobs."""
    return _nailer(request).plans


def editing_of(request: Request) -> Editing:
    """The door of the editor and of what visitors get."""
    return _nailer(request).editing


def pairs_of(request: Request) -> Pairs:
    """The door of pairs and timers."""
    return _nailer(request).pairs


def checks_of(request: Request) -> Checks:
    """The door of what is known of sites."""
    return _nailer(request).checks


def packages_of(request: Request) -> Packages:
    """The door of packages."""
    return _nailer(request).packages


def session_of(request: Request) -> Session:
    """The session the guard let in. Routes behind it always have one."""
    session: Session | None = request.state.session
    if session is None:
        raise NotAllowed("Sign in first.")
    return session


async def site_of(request: Request, site_id: Id) -> Site:
    """The site that the address names. Raises NotFound."""
    return await sites_of(request).book.get(site_id)


TheSettings = Annotated[Settings, Depends(settings_of)]
PeopleDoor = Annotated[People, Depends(people_of)]
SitesDoor = Annotated[Sites, Depends(sites_of)]
FilesDoor = Annotated[Files, Depends(files_of)]
PlansDoor = Annotated[Plans, Depends(plans_of)]
EditingDoor = Annotated[Editing, Depends(editing_of)]
PairsDoor = Annotated[Pairs, Depends(pairs_of)]
PackagesDoor = Annotated[Packages, Depends(packages_of)]
ChecksDoor = Annotated[Checks, Depends(checks_of)]
SignedIn = Annotated[Session, Depends(session_of)]
TheSite = Annotated[Site, Depends(site_of)]
