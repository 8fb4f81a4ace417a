"""The tray: names picked in several folders of a site, until they are carried."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.files.sitepath import SitePath
from nailer.core.words import count_text
from nailer.errors import InvalidInput
from nailer.store.sites import Site
from nailer.store.tray import TrayPlace, TrayStore

_MOST_NAMES = 5000


@dataclass(frozen=True, slots=True)
class Tray:
    """What lies in a person's tray for one site."""

    places: tuple[TrayPlace, ...] = ()

    @property
    def count(self) -> int:
        """How many names."""
        return sum(len(one.names) for one in self.places)

    @property
    def text(self) -> str:
        """`5 names of 2 folders`."""
        return f"{count_text(self.count, 'item')} of {count_text(len(self.places), 'folder')}"

    def of_folder(self, here: SitePath, there: SitePath) -> frozenset[bytes]:
        """The names of one folder pair that are in it."""
        return frozenset(name for one in self.places if (one.here, one.there) == (here, there) for name in one.names)


class TrayBook:
    def __init__(self, store: TrayStore) -> None:
        self._store = store

    async def of(self, account_id: int, site: Site) -> Tray:
        """A person's tray for a site."""
        return Tray(tuple(await self._store.of(account_id, site.id)))

    async def add(self, account_id: int, site: Site, here: SitePath, there: SitePath, names: Sequence[bytes]) -> Tray:
        """Put names into the tray. Raises InvalidInput where it would hold too many."""
        tray = await self.of(account_id, site)
        if tray.count + len(names) > _MOST_NAMES:
            raise InvalidInput(
                f"The tray holds at most {_MOST_NAMES} items. Upload or download them first, or add whole folders "
                "instead."
            )
        await self._store.add(account_id, site.id, here, there, names)
        return await self.of(account_id, site)

    async def remove(
        self, account_id: int, site: Site, here: SitePath, there: SitePath, names: Sequence[bytes]
    ) -> Tray:
        """Take names out of the tray."""
        await self._store.remove(account_id, site.id, here, there, names)
        return await self.of(account_id, site)

    async def clear(self, account_id: int, site: Site) -> None:
        """Empty the tray."""
        await self._store.clear(account_id, site.id)
