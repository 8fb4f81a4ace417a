"""What scans of sites have found, since when, what is ignored; and what was learned of them by trying."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime

from nailer.core.site.findings import FindingKind, SiteFinding, finding_of
from nailer.core.words import aware
from nailer.store.checks.attention import write_counts
from nailer.store.database import Database, Row, Work, utc_now


@dataclass(frozen=True, slots=True)
class StoredFinding:
    """A finding that stands. `first_at` is the first scan that found it without a break. `ignored` is why nobody wants
    to hear of it; '' and no `ignored_at` where it counts."""

    id: int
    finding: SiteFinding
    first_at: datetime
    last_at: datetime
    ignored_at: datetime | None
    ignored: str
    ignored_by: str | None


@dataclass(frozen=True, slots=True)
class SiteFact:
    """Something learned of a site by trying. `how` says how; `was` is what an earlier look said otherwise."""

    name: str
    value: str
    how: str
    learned_at: datetime
    was: str
    was_at: datetime | None


class FindingStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def of(self, site_id: int) -> list[StoredFinding]:
        """What stands of a site."""
        rows = await self._db.read(lambda work: work.rows("findings.of", site_id=site_id))
        return [_finding(row) for row in rows]

    async def put(
        self, site_id: int, looked_for: Collection[FindingKind], found: Sequence[SiteFinding]
    ) -> list[SiteFinding]:
        """Store what a look has found; what it looked for and did not find is gone. Returns what was not known before."""
        now = utc_now()
        known = {(one.finding.kind, one.finding.key) for one in await self.of(site_id)}
        rows = [
            {
                "site_id": site_id,
                "kind": one.kind.value,
                "hash": _key(one.key),
                "data": json.dumps(one.data),
                "now": now,
            }
            for one in found
        ]

        def _change(work: Work) -> None:
            work.many("findings.found", rows)
            for kind in looked_for:
                work.run("findings.gone", site_id=site_id, kind=kind.value, now=now)
            _recount(work, site_id)

        await self._db.write(_change)
        return [one for one in found if (one.kind, one.key) not in known]

    async def ignore(self, site_id: int, finding_id: int, account_id: int, why: str) -> None:
        """Let a finding be, because of something."""
        values = {"site_id": site_id, "id": finding_id, "now": utc_now(), "account_id": account_id, "why": why[:300]}

        def _change(work: Work) -> None:
            work.run("findings.ignore", **values)
            _recount(work, site_id)

        await self._db.write(_change)

    async def unignore(self, site_id: int, finding_id: int) -> None:
        """Count a finding again."""

        def _change(work: Work) -> None:
            work.run("findings.heed", site_id=site_id, id=finding_id)
            _recount(work, site_id)

        await self._db.write(_change)

    async def recount(self, site_id: int) -> None:
        """Number what stands of a site, where it was stored without."""
        await self._db.write(lambda work: _recount(work, site_id))

    async def facts(self, site_id: int) -> dict[str, SiteFact]:
        """What was learned of a site by trying, by name."""
        rows = await self._db.read(lambda work: work.rows("findings.facts", site_id=site_id))
        return {row["name"]: _fact(row) for row in rows}

    async def learn(self, site_id: int, name: str, value: str, how: str) -> None:
        """Write down a fact of a site; what an earlier look said otherwise is kept beside it."""
        values = {"site_id": site_id, "name": name, "value": value, "how": how[:200], "now": utc_now()}
        await self._db.write(lambda work: work.run("findings.learn", **values))


def _recount(work: Work, site_id: int) -> None:
    stands = [_finding(row) for row in work.rows("findings.of", site_id=site_id)]
    write_counts(work, site_id, [one.finding for one in stands if one.ignored_at is None])


def _key(key: str) -> bytes:
    return hashlib.sha256(key.encode("utf-8", "surrogateescape")).digest()[:16]


def _finding(row: Row) -> StoredFinding:
    return StoredFinding(
        row["id"],
        finding_of(FindingKind(row["kind"]), json.loads(row["data"])),
        aware(row["first_at"]),
        aware(row["last_at"]),
        aware(row["ignored_at"]) if row["ignored_at"] else None,
        row["ignored"],
        row["ignored_by"],
    )


def _fact(row: Row) -> SiteFact:
    at = {"learned_at": aware(row["learned_at"]), "was_at": aware(row["was_at"]) if row["was_at"] else None}
    return SiteFact(**(row | at))
