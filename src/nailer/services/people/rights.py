"""Who has what of which site, and giving and taking it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import RIGHT_WORDS, WHOLE_SITE_ONLY, Grant, Person, Right
from nailer.errors import InvalidInput
from nailer.services.people.log import Did, Log
from nailer.services.people.streams import Streams
from nailer.store.people.accounts import AccountStore
from nailer.store.people.grants import Granted, GrantStore
from nailer.store.sites import Site


class Rights:
    """The grants of this Nailer. Every change counts from the next request and the next file of a job on."""

    def __init__(self, store: GrantStore, accounts: AccountStore, log: Log, streams: Streams) -> None:
        self._store = store
        self._accounts = accounts
        self._log = log
        self._streams = streams

    async def person(self, account_id: int) -> Person:
        """Somebody with everything they may do. Raises NotFound, also where they are switched off."""
        return await self._store.person(account_id)

    async def all(self) -> list[Granted]:
        """Every grant, by person and site."""
        return await self._store.all()

    async def give(self, account_id: int, site: Site, grant: Grant) -> None:
        """Give a person a site, or another part of it. Raises InvalidInput, NotFound."""
        checked = checked_grant(site, grant)
        account = await self._accounts.get(account_id)
        await self._store.give(account_id, site.id, checked)
        await self._log.add(Did.RIGHTS, f"{account.name} may {grant_words(checked)}", site=site)
        self._streams.end()

    async def take(self, account_id: int, site: Site) -> None:
        """Take a site from a person. Raises NotFound."""
        account = await self._accounts.get(account_id)
        await self._store.take(account_id, site.id)
        await self._log.add(Did.RIGHTS, f"removed {account.name}'s access to this site", site=site)
        self._streams.end()


def checked_grant(site: Site, grant: Grant) -> Grant:
    """A grant as it may be given: with a right, and with both folders where it is not the whole site. The folder here is
    the one that the pair maps to the folder there where none is named. Raises InvalidInput."""
    if not grant.rights:
        raise InvalidInput(
            "Choose what this person may do on the site.", fields={"rights": "Choose at least one permission."}
        )
    if grant.folder_there is None:
        return replace(grant, folder_here=None)
    if grant.folder_there.is_root:
        raise InvalidInput(
            "“/” is the whole site. Leave the field empty instead.",
            fields={"there": "Type a folder, or leave the field empty for the whole site."},
        )
    here = grant.folder_here
    if here is None or here.is_root:
        below = grant.folder_there.below(site.start_there)
        if below is None or site.start_here.is_root:
            what = "Type the folder here that belongs to the folder there."
            raise InvalidInput(what, fields={"here": what})
        here = site.start_here.join(below)
    return Grant(grant.rights - WHOLE_SITE_ONLY, grant.folder_there, here)


def rights_words(rights: Iterable[Right]) -> str:
    """Rights as they are read: `look, download, upload and edit`."""
    wanted = set(rights)
    return ", ".join(word for right, word in RIGHT_WORDS.items() if right in wanted)


def grant_words(grant: Grant) -> str:
    """A grant as a sentence's end."""
    where = f"in {grant.folder_there}" if grant.folder_there is not None else "in the whole site"
    return f"{rights_words(grant.rights)} {where}"


def folder_typed(text: str) -> SitePath | None:
    """A folder as it is typed; None for nothing. Raises InvalidInput."""
    bare = text.strip()
    return SitePath.parse(bare.encode()) if bare else None
