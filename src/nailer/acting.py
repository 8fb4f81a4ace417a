"""Who acts: the person whose request, job or timer is under way, wherever the work leads.

What a person may reach is decided far below the page that was asked for, and where nobody can forget to ask. Nobody acts
where Nailer does something of its own, like clearing half files; then nothing is out of reach.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant, Person, Right
from nailer.errors import NotAllowed, NotFound


@dataclass(frozen=True, slots=True)
class Acting:
    """A person, with what they act through: the address it came from, and the program or token where it is no browser."""

    person: Person
    address: str = ""
    program: str = ""


_now: ContextVar[Acting | None] = ContextVar("acting", default=None)


def acting() -> Acting | None:
    """Who acts now; None for Nailer itself."""
    return _now.get()


def person() -> Person | None:
    """The person who acts now; None for Nailer itself."""
    found = _now.get()
    return found.person if found is not None else None


@contextmanager
def acting_as(who: Acting | None) -> Iterator[None]:
    """Everything inside, and every task begun inside, is done by somebody."""
    token = _now.set(who)
    try:
        yield
    finally:
        _now.reset(token)


def grant_on(site_id: int) -> Grant | None:
    """What whoever acts has of a site; None where nothing limits it. Raises NotFound where the site is none of theirs."""
    who = person()
    if who is None or who.is_admin:
        return None
    grant = who.grant(site_id)
    if grant is None:
        raise NotFound("This site does not exist.")
    return grant


def need(right: Right, site_id: int) -> None:
    """Raises NotFound where a site is none of whoever acts, NotAllowed where their part of it lacks a right."""
    grant = grant_on(site_id)
    if grant is not None and not grant.may(right):
        raise NotAllowed("You do not have permission to do that on this site. Ask an administrator.")


def need_admin() -> None:
    """Raises NotAllowed where whoever acts does not run Nailer."""
    who = person()
    if who is not None and not who.is_admin:
        raise NotAllowed("Only an administrator can do that.")


def sees(site_id: int, account_id: int) -> bool:
    """True where whoever acts may see a job or a timer: their own, or any of a site that is theirs as a whole."""
    who = person()
    if who is None or who.is_admin:
        return True
    grant = who.grant(site_id)
    return grant is not None and (grant.is_whole or account_id == who.account_id)


def reaches(site_id: int, side: SideName, path: SitePath) -> bool:
    """True where a place on a side lies in what whoever acts has of a site."""
    who = person()
    if who is None or who.is_admin:
        return True
    grant = who.grant(site_id)
    return grant is not None and grant.may(Right.LOOK) and grant.reaches(side, path)


def need_place(right: Right, site_id: int, side: SideName, path: SitePath) -> None:
    """Raises NotFound where a place on a side is beyond what whoever acts has of a site, NotAllowed without the right.

    For whatever is written down about a place. What is done to its files is held by the sides.
    """
    need(right, site_id)
    if not reaches(site_id, side, path):
        raise NotFound("This folder does not exist, or is not yours.")


def need_whole(site_id: int) -> None:
    """Raises NotFound where a site is none of whoever acts, NotAllowed where they have only a part of it."""
    grant = grant_on(site_id)
    if grant is not None and not grant.is_whole:
        raise NotAllowed("That concerns the whole site. Only people with access to all of it can do it.")


def reaches_pair(site_id: int, here: SitePath, there: SitePath, other_site_id: int | None) -> bool:
    """As `reaches`, for both folders of a pair."""
    on_here = (
        reaches(site_id, SideName.HERE, here) if other_site_id is None else reaches(other_site_id, SideName.THERE, here)
    )
    return on_here and reaches(site_id, SideName.THERE, there)
