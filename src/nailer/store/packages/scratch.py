"""Folders for trying something on a live server, each with an end."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from nailer.core.files.sitepath import SitePath
from nailer.core.words import aware
from nailer.store.database import Database, Row, utc_now


@dataclass(frozen=True, slots=True)
class ScratchArea:
    """A folder that nobody can guess, until it is removed. `problem`: why it could not be, '' for nothing."""

    id: int
    site_id: int
    account_id: int | None
    account_name: str | None
    path: SitePath
    why: str
    made_at: datetime
    ends_at: datetime
    problem: str


class ScratchStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(self, site_id: int, account_id: int, path: SitePath, why: str, ends_at: datetime) -> int:
        """Write down that one is about to be made; return its number."""
        values = {
            "site_id": site_id,
            "account_id": account_id,
            "path": path.raw,
            "why": why[:300],
            "now": utc_now(),
            "ends_at": ends_at.replace(tzinfo=None),
        }
        return await self._db.write(lambda work: work.insert("scratch.add", **values))

    async def of(self, site_id: int) -> list[ScratchArea]:
        """Those of a site that are there."""
        return [_area(row) for row in await self._db.read(lambda work: work.rows("scratch.of", site_id=site_id))]

    async def due(self) -> list[ScratchArea]:
        """Those whose end has come, of all sites."""
        return [_area(row) for row in await self._db.read(lambda work: work.rows("scratch.due", now=utc_now()))]

    async def end(self, area_id: int) -> None:
        """Write down that one is gone."""
        await self._db.write(lambda work: work.run("scratch.end", id=area_id, now=utc_now()))

    async def longer(self, site_id: int, area_id: int, ends_at: datetime) -> None:
        """Let one end at another time."""
        values = {"site_id": site_id, "id": area_id, "ends_at": ends_at.replace(tzinfo=None)}
        await self._db.write(lambda work: work.run("scratch.longer", **values))

    async def trouble(self, area_id: int, problem: str, again_at: datetime) -> None:
        """Write down why one could not be removed; it is tried again at a time."""
        values = {"id": area_id, "problem": problem[:500], "again_at": again_at.replace(tzinfo=None)}
        await self._db.write(lambda work: work.run("scratch.trouble", **values))


def _area(row: Row) -> ScratchArea:
    more = {"path": SitePath.parse(row["path"]), "made_at": aware(row["made_at"]), "ends_at": aware(row["ends_at"])}
    return ScratchArea(**(row | more))
