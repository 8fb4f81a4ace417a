"""Trays: the names that a person picked in several folders of a site."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.files.sitepath import SitePath
from nailer.store.changes import pair_key
from nailer.store.database import Database


@dataclass(frozen=True, slots=True)
class TrayPlace:
    """The names of one folder pair that lie in a tray, in the order in which they were put there."""

    here: SitePath
    there: SitePath
    names: tuple[bytes, ...]


class TrayStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def of(self, account_id: int, site_id: int) -> list[TrayPlace]:
        """A person's tray for a site, folder by folder."""
        rows = await self._db.read(lambda work: work.rows("tray.of", account_id=account_id, site_id=site_id))
        places: dict[tuple[bytes, bytes], list[bytes]] = {}
        for row in rows:
            places.setdefault((row["here"], row["there"]), []).append(row["name"])
        return [
            TrayPlace(SitePath.parse(here), SitePath.parse(there), tuple(names))
            for (here, there), names in places.items()
        ]

    async def add(self, account_id: int, site_id: int, here: SitePath, there: SitePath, names: Sequence[bytes]) -> None:
        """Put names of a folder pair into a tray; those in it already stay."""
        key = {"account_id": account_id, "site_id": site_id, "place": pair_key(here, there)}
        rows = [key | {"here": here.raw, "there": there.raw, "name": name} for name in names]
        await self._db.write(lambda work: work.many("tray.add", rows))

    async def remove(
        self, account_id: int, site_id: int, here: SitePath, there: SitePath, names: Sequence[bytes]
    ) -> None:
        """Take names of a folder pair out of a tray."""
        key = {"account_id": account_id, "site_id": site_id, "place": pair_key(here, there)}
        await self._db.write(lambda work: work.many("tray.remove", [key | {"name": name} for name in names]))

    async def clear(self, account_id: int, site_id: int) -> None:
        """Empty a tray."""
        await self._db.write(lambda work: work.run("tray.clear", account_id=account_id, site_id=site_id))
