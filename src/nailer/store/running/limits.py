"""Limits of speed as they are stored: of all sites together (site 0), and of one."""

from __future__ import annotations

from nailer.core.jobs.limits import Limit, Limits, hours_json, hours_of_json
from nailer.store.database import Database


class LimitStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def all(self) -> dict[int, Limits]:
        """The limits of all sites, by number; 0 is all together."""
        rows = await self._db.read(lambda work: work.rows("limits.all"))
        return {row["site_id"]: Limits(Limit(row["up"], row["down"]), hours_of_json(row["hours"])) for row in rows}

    async def write(self, site_id: int, limits: Limits) -> None:
        """Store a site's limits."""
        values = {"up": limits.usual.up, "down": limits.usual.down, "hours": hours_json(limits.hours)}
        await self._db.write(lambda work: work.run("limits.write", site_id=site_id, **values))
