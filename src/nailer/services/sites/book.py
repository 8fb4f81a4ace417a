"""The book of sites: which there are, in which groups, with which stored sign-in, and what goes when one is removed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from nailer.core.files.sitepath import SitePath
from nailer.errors import Conflict, InvalidInput
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


class SiteBook:
    """Sites, their groups and their order. Whoever changes a site or removes it also ends its line to the server."""

    def __init__(self, store: SiteStore, connector: Connector, pool: Pool) -> None:
        self._store = store
        self._connector = connector
        self._pool = pool

    async def get(self, site_id: int) -> Site:
        """Raises NotFound."""
        return await self._store.get(site_id)

    async def all(self) -> list[Site]:
        """All sites, in the order in which a person has put them."""
        return await self._store.all()

    async def groups(self) -> list[SiteGroup]:
        """All groups; a group may lie in another."""
        return await self._store.groups()

    async def credentials(self) -> list[Credential]:
        """The stored sign-ins by name, without their secrets, and how many sites use each."""
        return await self._store.credentials()

    async def secrets(self, site: Site) -> Secrets:
        """The opened secrets of a site's sign-in, for dialling and for a form that leaves them as they are."""
        return await self._store.secrets(site)

    async def learned(self, site_id: int) -> tuple[dict[str, Any], datetime] | None:
        """What was found out about a site's server the last time, and when."""
        return await self._store.learned(site_id)

    async def add(self, site: Site, secrets: Secrets) -> Site:
        """Store a new site; return it with its number."""
        return await self._store.add(site, secrets)

    async def duplicate(self, site_id: int) -> Site:
        """A second site with the same settings and the same stored sign-in, under a name that is free."""
        site = await self._store.get(site_id)
        taken = {one.name for one in await self._store.all()}
        name = next(one for number in range(2, 10_000) if (one := f"{site.name[:112]} {number}") not in taken)
        return await self._store.add(replace(site, id=0, name=name, opened_at=None), Secrets())

    async def take_in(self, site: Site, group: Sequence[str], root: str) -> Site:
        """Store a site that came in from a file, in its groups, which are made where they are missing.

        A site without a folder here gets one of its own name in `root`.
        """
        parent: int | None = None
        for name in group:
            same = next(
                (one for one in await self._store.groups() if one.parent_id == parent and one.name == name), None
            )
            parent = same.id if same else await self._store.add_group(name[:_LONGEST_GROUP], parent, _LAST)
        if root and (site.start_here.is_root or not site.start_here.names[0]):
            own = site.name.encode()[:200].replace(b"/", b"-")
            site = replace(site, start_here=SitePath((root.encode(), own)))
        return await self._store.add(replace(site, group_id=parent), Secrets())

    async def change(self, site: Site, secrets: Secrets | None) -> list[int]:
        """Change a stored site, and its sign-in where `secrets` are given. Return the sites whose line was ended by that:
        a sign-in that several sites share was changed for all of them."""
        await self._store.update(site, secrets)
        changed = [
            one.id
            for one in await self._store.all()
            if one.id == site.id or (secrets is not None and one.credential_id == site.credential_id)
        ]
        for site_id in changed:
            await self._let_go(site_id)
        return changed

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
