"""The book of sites: which there are, in which groups, with which stored sign-in, and what goes when one is removed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from datetime import datetime
from typing import Any

from nailer.acting import grant_on, person
from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant
from nailer.errors import Conflict, InvalidInput, NotAllowed
from nailer.services.sites.connect import Connector
from nailer.sides.pool import Pool
from nailer.store.sites import Credential, Place, Secrets, Site, SiteGroup, SiteStore

_LAST = 1000  # a place behind all others of a group
_LONGEST_GROUP = 120


@dataclass(frozen=True, slots=True)
class Removal:
    """What goes with a site: how many of each thing, and how many other sites use its stored sign-in."""

    site: Site
    goes: dict[str, int]
    shared: int


def _as_granted(site: Site, grant: Grant | None) -> Site:
    """A site as its settings say it, or with a person's own folders for its top; then what reaches beyond is left out."""
    if grant is None or grant.is_whole:
        return site if grant is None else replace(site, group_id=None)
    assert grant.folder_there is not None, "it is incomplete"
    return replace(
        site,
        start_there=grant.folder_there,
        start_here=grant.folder_here or SitePath(),
        from_home=False,
        guarded=_guarded_below(site, grant.folder_there),
        group_id=None,
        note="",
        user_name="",
    )


# What a person who may change a site's settings, but is not an administrator, changes of it. Everything else decides where
# its secrets are sent, which folder of this machine belongs to it, in which group it is, or whether it stays.
OPEN_TO_SETTINGS = frozenset(
    {
        "name",
        "colour",
        "note",
        "start_there",
        "from_home",
        "document_roots",
        "guarded",
        "password_kept",
        "passive",
        "charset",
        "connections_most",
        "clock_offset_s",
        "clock_how",
        "file_permissions",
        "folder_permissions",
        "in_place",
        "reads_back",
        "package_bytes",
    }
)


def _guarded_below(site: Site, top: SitePath) -> tuple[SitePath, ...]:
    """The guarded folders in a person's own one. Where it lies in a guarded folder itself all of it is guarded: a guard
    above is not lifted because nobody sees it."""
    above = any(top.below(one) is not None for one in site.guarded)
    return ((top,) if above else ()) + tuple(one for one in site.guarded if one != top and one.below(top) is not None)


def _changed(before: Site, after: Site) -> set[str]:
    return {one.name for one in fields(Site) if getattr(before, one.name) != getattr(after, one.name)}


class SiteBook:
    """Sites, their groups and their order. Whoever changes a site or removes it also ends its line to the server."""

    def __init__(self, store: SiteStore, connector: Connector, pool: Pool) -> None:
        self._store = store
        self._connector = connector
        self._pool = pool

    async def get(self, site_id: int) -> Site:
        """A site as whoever acts has it: whoever has one folder of it sees that as its top. Raises NotFound, also where it
        is none of theirs."""
        grant = grant_on(site_id)
        return _as_granted(await self._store.get(site_id), grant)

    async def all(self) -> list[Site]:
        """All sites that are there for whoever acts, in the order in which a person has put them."""
        who, sites = person(), await self._store.all()
        if who is None or who.is_admin:
            return sites
        return [_as_granted(site, grant) for site in sites if (grant := who.grant(site.id)) is not None]

    async def groups(self) -> list[SiteGroup]:
        """All groups; a group may lie in another. Whoever has some sites only sees no names of groups."""
        who = person()
        return await self._store.groups() if who is None or who.is_admin else []

    async def credentials(self) -> list[Credential]:
        """The stored sign-ins by name, without their secrets, and how many sites use each; none for whoever does not run
        Nailer: they name other sites."""
        who = person()
        return await self._store.credentials() if who is None or who.is_admin else []

    async def secrets(self, site: Site) -> Secrets:
        """The opened secrets of a site's sign-in, for dialling and for a form that leaves them as they are."""
        return await self._store.secrets(site)

    async def learned(self, site_id: int) -> tuple[dict[str, Any], datetime] | None:
        """What was found out about a site's server the last time, and when."""
        return await self._store.learned(site_id)

    async def add(self, site: Site, secrets: Secrets) -> Site:
        """Store a new site; return it with its number."""
        return self._looked_at(await self._store.add(site, secrets))

    async def duplicate(self, site_id: int) -> Site:
        """A second site with the same settings and the same stored sign-in, under a name that is free."""
        site = await self._store.get(site_id)
        taken = {one.name for one in await self._store.all()}
        name = next(one for number in range(2, 10_000) if (one := f"{site.name[:112]} {number}") not in taken)
        return self._looked_at(await self._store.add(replace(site, id=0, name=name, opened_at=None), Secrets()))

    async def take_in(self, site: Site, group: Sequence[str]) -> Site:
        """Store a site that came in from a file, in its groups, which are made where they are missing."""
        parent: int | None = None
        for name in group:
            same = next(
                (one for one in await self._store.groups() if one.parent_id == parent and one.name == name), None
            )
            parent = same.id if same else await self._store.add_group(name[:_LONGEST_GROUP], parent, _LAST)
        return self._looked_at(await self._store.add(replace(site, group_id=parent), Secrets()))

    async def change(self, site: Site, secrets: Secrets | None) -> list[int]:
        """Change a stored site, and its sign-in where `secrets` are given. Return the sites whose line was ended by that:
        a sign-in that several sites share was changed for all of them."""
        before, who = await self._store.get(site.id), person()
        if before.fleeting != site.fleeting:
            raise InvalidInput("A site that is stored stays stored: remove it instead.")
        if who is not None and not who.is_admin:
            beyond = _changed(before, site) - OPEN_TO_SETTINGS
            if beyond:
                raise NotAllowed(
                    "Only an administrator can change how the server is reached, and which folder here belongs to the "
                    f"site. Nothing was changed. Refused: {', '.join(sorted(beyond))}."
                )
            if secrets is not None and await self._shares_sign_in(before):
                raise NotAllowed("Other sites use the same sign-in details. Only an administrator can change them.")
        await self._store.update(site, secrets)
        self._looked_at(site)
        changed = [
            one.id
            for one in await self._store.all()
            if one.id == site.id or (secrets is not None and one.credential_id == site.credential_id)
        ]
        for site_id in changed:
            await self._let_go(site_id)
        return changed

    async def _shares_sign_in(self, site: Site) -> bool:
        return any(one.id == site.credential_id and one.sites > 1 for one in await self._store.credentials())

    def _looked_at(self, site: Site) -> Site:
        self._connector.look_at(site)
        return site

    async def removal(self, site_id: int) -> Removal:
        """What would go with a site. Raises NotFound."""
        site = await self._store.get(site_id)
        shared = next((one.sites for one in await self._store.credentials() if one.id == site.credential_id), 1)
        return Removal(site, await self._store.goes_with(site_id), shared - 1)

    async def remove(self, site_id: int, typed_name: str) -> None:
        """Remove a site whose name a person has typed. Raises NotFound, or Conflict where another name was typed."""
        site = await self._store.get(site_id)
        if typed_name.strip() != site.name and not site.fleeting:
            raise Conflict(f"Type the site's name, {site.name}, to remove it. Nothing was removed.")
        await self._store.remove(site_id)
        await self._let_go(site_id)

    async def arrange(self, sites: list[tuple[int, int | None]]) -> None:
        """Put sites into this order, each in its group."""
        await self._store.arrange(sites)

    async def add_group(self, name: str, parent_id: int | None) -> int:
        """Make a group, in another one or on top; return its number. Raises InvalidInput."""
        return await self._store.add_group(_group_name(name), parent_id, _LAST)

    async def rename_group(self, group_id: int, name: str) -> None:
        """Raises InvalidInput."""
        await self._store.rename_group(group_id, _group_name(name))

    async def move_group(self, group_id: int, parent_id: int | None) -> None:
        """Put a group into another, or on top. Raises Conflict where it would lie in itself."""
        await self._store.move_group(group_id, parent_id, _LAST)

    async def remove_group(self, group_id: int) -> None:
        """Take a group away; what lay in it lies in the group above then."""
        await self._store.remove_group(group_id)

    async def allow_in_place(self, site_id: int) -> None:
        """Let files of this site be overwritten in place, where its server renames nothing."""
        await self._store.set_in_place(site_id, allowed=True)

    async def opened(self, site_id: int) -> None:
        """Remember that the site was opened now."""
        await self._store.opened(site_id)

    async def visit(self, site_id: int, account_id: int, here: SitePath, there: SitePath) -> None:
        """Remember that a person was in a folder pair."""
        await self._store.visit(site_id, account_id, here, there)

    async def pin_place(self, site_id: int, account_id: int, here: SitePath, there: SitePath, *, pinned: bool) -> None:
        """Keep a folder pair among a person's places, or let it go."""
        await self._store.pin_place(site_id, account_id, here, there, pinned=pinned)

    async def last_opened(self) -> Site | None:
        """The site that was opened last, of those that whoever acts may see."""
        opened = [(site.opened_at, site) for site in await self.all() if site.opened_at is not None]
        return max(opened, key=lambda one: one[0])[1] if opened else None

    async def forget_places(self, site_id: int, account_id: int) -> None:
        """Forget where a person was in a site; what is pinned stays."""
        await self._store.forget_places(site_id, account_id)

    async def forget_openings(self) -> None:
        """Forget which sites were opened lately, for everybody."""
        await self._store.forget_openings()

    async def places(self, site_id: int, account_id: int) -> list[Place]:
        """A person's pinned folder pairs of a site, then the recent ones."""
        return await self._store.places(site_id, account_id)

    async def _let_go(self, site_id: int) -> None:
        await self._pool.close_site(site_id)
        self._connector.forget_site(site_id)


def _group_name(name: str) -> str:
    cleaned = name.strip()
    if not cleaned or len(cleaned) > _LONGEST_GROUP:
        raise InvalidInput(f"A group needs a name of at most {_LONGEST_GROUP} characters.")
    return cleaned
