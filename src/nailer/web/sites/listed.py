"""The list of sites: each with what it needs, sorted and filtered by that."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.site.attention import NeedKind, SiteNeed, Urgency, urgency_of
from nailer.services.sites import Site, SiteGroup, group_paths
from nailer.web.shell import urls
from nailer.web.shell.doors import ChecksDoor, PackagesDoor, PairsDoor, SitesDoor
from nailer.web.shell.forms import QueryValues
from nailer.web.shell.pages import render

router = APIRouter()

_FILTERS = ("all", "stopped", "needs", "not-sent", "well")


@dataclass(frozen=True, slots=True)
class ShownSite:
    """A row of the list. `lines`: connections that are open."""

    site: Site
    needs: tuple[SiteNeed, ...]
    known: bool
    changed: bool
    lines: int

    @property
    def urgency(self) -> Urgency:
        """That of its most urgent need."""
        return urgency_of(self.needs)

    @property
    def in_filters(self) -> set[str]:
        """The filters that show it."""
        stands = "stopped" if self.urgency is Urgency.STOPPED else "needs" if self.needs else "well"
        kinds = {one.kind for one in self.needs}
        return {"all", stands} | ({"not-sent"} if NeedKind.NOT_SENT in kinds else set())


@dataclass(frozen=True, slots=True)
class ShownGroup:
    """A group with its whole name (`Island clients / Staging`), how deep it lies, and its rows. `id` 0: no group."""

    id: int
    title: str
    name: str
    depth: int
    rows: list[ShownSite]

    @property
    def urgency(self) -> Urgency:
        """That of its most urgent site."""
        return max((one.urgency for one in self.rows), default=Urgency.WELL)


@router.get("/sites")
async def sites_page(
    request: Request, sites: SitesDoor, checks: ChecksDoor, pairs: PairsDoor, packages: PackagesDoor
) -> Response:
    """All sites in their groups, each with what needs somebody. `show` filters, `order=urgent` sorts."""
    groups, listed = await sites.book.groups(), await sites.book.all()
    known, changed = await sites.identities.known_servers(), sites.connector.changed
    facts = await checks.attention.of(
        listed,
        not_sent=pairs.not_sent.of_sites(),
        changed=changed,
        asides=lambda site_id: [one.title for one in packages.asides.shown(site_id)],
    )
    connected = sites.pool.open_sites()
    rows = [
        ShownSite(
            site,
            checks.attention.needs(facts[site.id]) if site.id in facts else (),
            (site.host, site.port) in known,
            (site.host, site.port) in changed,
            connected[site.id].lines if site.id in connected else 0,
        )
        for site in listed
    ]
    query = QueryValues(request)
    show = next((one for one in _FILTERS if one == query.text("show")), "all")
    is_urgent = query.text("order") == "urgent"
    shown = _grouped(groups, [one for one in rows if show in one.in_filters], keep_empty=show == "all")
    opened = sorted((site for site in listed if site.opened_at), key=lambda one: str(one.opened_at), reverse=True)
    return render(
        request,
        "sites/sites.html",
        groups=_most_urgent_first(shown) if is_urgent else shown,
        group_choices=urls.group_titles(groups),
        counts=Counter(name for one in rows for name in one.in_filters),
        facts=facts,
        show=show,
        is_urgent=is_urgent,
        count=len(listed),
        recent=opened[:5] if len(listed) > 3 else [],
        open_lines=sites.pool.open_lines,
        first=await checks.attention.newest(listed, facts),
    )


def _most_urgent_first(groups: list[ShownGroup]) -> list[ShownGroup]:
    for group in groups:
        group.rows.sort(key=lambda one: -one.urgency)
    return sorted((one for one in groups if one.rows), key=lambda one: -one.urgency)


def _grouped(groups: list[SiteGroup], rows: Sequence[ShownSite], *, keep_empty: bool) -> list[ShownGroup]:
    """Groups in the order they are shown, each with its rows. A deeper group comes after the one it lies in."""
    paths = group_paths(groups)
    shown = [
        ShownGroup(key, title, paths[key][-1], len(paths[key]) - 1, [one for one in rows if one.site.group_id == key])
        for key, title in urls.group_titles(groups)
    ]
    loose = [one for one in rows if one.site.group_id is None and not one.site.fleeting]
    once = [one for one in rows if one.site.fleeting]
    rest = [ShownGroup(0, "Without a group", "", 0, loose)] if loose or not shown else []
    found = [*shown, *rest, *([ShownGroup(-1, "Not saved", "", 0, once)] if once else [])]
    return found if keep_empty else [group for group in found if group.rows]
