"""What was learned of hosts, shared by all sites on one."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from nailer.core.words import aware
from nailer.store.database import Database, utc_now


@dataclass(frozen=True, slots=True)
class HostFact:
    """One fact of a host. `how` says by what it was learned, `site_name` where (None: that site is gone); `was` is what
    an earlier look said otherwise."""

    name: str
    value: str
    how: str
    site_id: int | None
    site_name: str | None
    learned_at: datetime
    was: str
    was_at: datetime | None


class HostFactStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def of(self, host: str, account: str) -> list[HostFact]:
        """What is known of a host, and of one account there, by name."""
        rows = await self._db.read(lambda work: work.rows("host_facts.of", host=host.lower(), account=account[:200]))
        return [
            HostFact(
                **(
                    row
                    | {
                        "learned_at": aware(row["learned_at"]),
                        "was_at": aware(row["was_at"]) if row["was_at"] else None,
                    }
                )
            )
            for row in rows
        ]

    async def learn(self, host: str, account: str, site_id: int, name: str, value: str, how: str) -> None:
        """Write down a fact of a host, or ('account' not empty) of one account there; what an earlier look said otherwise is
        kept beside it."""
        values = {
            "host": host.lower(),
            "account": account[:200],
            "site_id": site_id,
            "name": name[:200],
            "value": value[:500],
            "how": how[:200],
            "now": utc_now(),
        }
        await self._db.write(lambda work: work.run("host_facts.learn", **values))
