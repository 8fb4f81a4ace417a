"""When folders are copied by themselves, and which of those copies stay."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.schedule import Every, Schedule, next_run
from nailer.core.packages.keeping import KeepingRule
from nailer.core.words import aware
from nailer.store.database import Database, Row, utc_now


@dataclass(frozen=True, slots=True)
class CopyTime:
    """A folder that is copied each day at an hour of a zone. `words` say how the last run went, '' for none yet."""

    id: int
    site_id: int
    account_id: int
    path: SitePath
    at: str
    zone: str
    rule: KeepingRule
    next_at: datetime
    words: str


class CopyTimeStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(self, site_id: int, account_id: int, path: SitePath, at: str, zone: str, rule: KeepingRule) -> int:
        """Copy a folder each day from now on; return the number of the row."""
        values = {
            "site_id": site_id,
            "account_id": account_id,
            "path": path.raw,
            "at": at,
            "zone": zone,
            "daily": rule.daily,
            "weekly": rule.weekly,
            "monthly": rule.monthly,
            "next_at": _next(at, zone),
        }
        return await self._db.write(lambda work: work.insert("copy_times.add", **values))

    async def of(self, site_id: int) -> list[CopyTime]:
        """Those of a site."""
        return [_time(row) for row in await self._db.read(lambda work: work.rows("copy_times.of", site_id=site_id))]

    async def drop(self, site_id: int, time_id: int) -> None:
        """Copy a folder by itself no more."""
        await self._db.write(lambda work: work.run("copy_times.drop", site_id=site_id, id=time_id))

    async def claim_due(self) -> list[CopyTime]:
        """Those whose time has come; each is given to one caller, and comes again a day later."""
        found = [_time(row) for row in await self._db.read(lambda work: work.rows("copy_times.due", now=utc_now()))]
        claimed = []
        for one in found:
            values = {"id": one.id, "was": one.next_at.replace(tzinfo=None), "next_at": _next(one.at, one.zone)}
            if await self._db.write(lambda work, values=values: work.run("copy_times.put_off", **values)):  # type: ignore[misc]
                claimed.append(one)
        return claimed

    async def said(self, time_id: int, words: str) -> None:
        """Write down how a run went."""
        await self._db.write(lambda work: work.run("copy_times.said", id=time_id, words=words[:500]))


def _next(at: str, zone: str) -> datetime:
    schedule = Schedule(Every.DAILY, at, zone)
    return next_run(schedule, aware(utc_now()) + timedelta(seconds=1)).replace(tzinfo=None)


def _time(row: Row) -> CopyTime:
    rule = KeepingRule(row.pop("daily"), row.pop("weekly"), row.pop("monthly"))
    more = {"path": SitePath.parse(row["path"]), "rule": rule, "next_at": aware(row["next_at"])}
    return CopyTime(**(row | more))
