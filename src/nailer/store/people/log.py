"""Who did what: rows that are added, and forgotten when they are old. Nothing changes one."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from nailer.store.database import Database, like, utc_now


@dataclass(frozen=True, slots=True)
class LogEntry:
    """One thing that was done. `site` and `person` are the names of that time. Times are UTC."""

    id: int
    at: datetime
    account_id: int | None
    person: str
    program: str
    address: str
    kind: str
    site_id: int | None
    site: str
    said: str


class LogStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(
        self,
        *,
        account_id: int | None,
        person: str,
        program: str,
        address: str,
        kind: str,
        site_id: int | None,
        site: str,
        said: str,
    ) -> None:
        """Write down what was done."""
        values = {
            "account_id": account_id,
            "person": person[:80],
            "program": program[:80],
            "address": address[:60],
            "kind": kind[:40],
            "site_id": site_id,
            "site": site[:120],
            "said": said[:1000],
            "now": utc_now(),
        }
        await self._db.write(lambda work: work.run("log.add", **values))

    async def latest(self, *, before: int, wanted: str, limit: int) -> list[LogEntry]:
        """Entries numbered below `before`, newest first, with `wanted` in a name, an address or what is said."""
        values = {"before": before, "wanted": like(wanted), "limit": limit}
        return [LogEntry(**row) for row in await self._db.read(lambda work: work.rows("log.latest", **values))]

    async def forget(self, before: datetime) -> None:
        """Forget what is older."""
        await self._db.write(lambda work: work.run("log.forget", before=before))
