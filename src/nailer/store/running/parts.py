"""Nailer's own temporary files, each with its owner: written down before it is made, until it is known to be gone."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath
from nailer.store.database import Database, utc_now


@dataclass(frozen=True, slots=True)
class Part:
    """A temporary file and the item that it was made for. `target` is the name it was to take, None where the item is
    forgotten."""

    item_id: int
    job_id: int
    site_id: int
    side: SideName
    path: SitePath
    made_at: datetime
    target: SitePath | None = None


@dataclass(frozen=True, slots=True)
class Proof:
    """A point in a file up to which its content is known: so many bytes, with that BLAKE3. `changed_ns` is the time of the
    file they came from, where its side tells seconds."""

    at: int
    digest: bytes
    changed_ns: int | None = None

    def holds_for(self, source: Entry) -> bool:
        """True where a file has the time that it had when these bytes came from it."""
        return self.changed_ns is not None and source.stamp is not None and source.stamp.at_ns == self.changed_ns


def begin_row(item_id: int, job_id: int, site_id: int, side: SideName, path: SitePath) -> Mapping[str, Any]:
    """A row of `parts.begin`."""
    return {
        "item_id": item_id,
        "job_id": job_id,
        "site_id": site_id,
        "side": side.value,
        "path": path.raw,
        "now": utc_now(),
    }


class PartStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def begin(self, rows: Sequence[Mapping[str, Any]]) -> None:
        """Write down temporary files before they are made."""
        if rows:
            await self._db.write(lambda work: work.many("parts.begin", list(rows)))

    async def gone(self, item_ids: Sequence[int]) -> None:
        """These items' temporary files are known to be gone."""
        rows = [{"item_id": one} for one in item_ids]
        if rows:
            await self._db.write(lambda work: work.many("parts.gone", rows))

    async def prove(self, item_id: int, proofs: Sequence[Proof]) -> None:
        """Remember up to where what an item has carried is known."""
        text = json.dumps([[one.at, one.digest.hex(), one.changed_ns] for one in proofs])
        await self._db.write(lambda work: work.run("parts.prove", item_id=item_id, proofs=text))

    async def proofs_of(self, item_id: int) -> list[Proof]:
        """Up to where what an item has carried is known."""
        text = await self._db.read(lambda work: work.value("parts.proofs_of", item_id=item_id))
        return [Proof(at, bytes.fromhex(digest), changed_ns) for at, digest, changed_ns in json.loads(text or "[]")]

    async def carried(self, carried: Mapping[int, int]) -> None:
        """Remember how many bytes of items lie there when a job pauses."""
        rows = [{"item_id": item_id, "transferred_bytes": size} for item_id, size in carried.items()]
        if rows:
            await self._db.write(lambda work: work.many("parts.carried", rows))

    async def transferred_of_job(self, job_id: int) -> int:
        """Bytes of a job's half files that need not be sent again."""
        return int(await self._db.read(lambda work: work.value("parts.transferred_of_job", job_id=job_id)) or 0)

    async def count_of_job(self, job_id: int) -> int:
        """How many temporary files of a job may still be there."""
        return int(await self._db.read(lambda work: work.value("parts.of_job", job_id=job_id)) or 0)

    async def unwanted(self, limit: int = 500) -> list[Part]:
        """Temporary files that nobody will go on with."""
        rows = await self._db.read(lambda work: work.rows("parts.unwanted", limit=limit))
        return [
            Part(
                row["item_id"],
                row["job_id"],
                row["site_id"],
                SideName(row["side"]),
                SitePath.parse(row["path"]),
                row["made_at"],
                SitePath.parse(row["target"]) if row["target"] is not None else None,
            )
            for row in rows
        ]

    async def owned(self, site_id: int, side: SideName) -> set[SitePath]:
        """Temporary files of one side that have an owner."""
        rows = await self._db.read(lambda work: work.rows("parts.owned", site_id=site_id, side=side.value))
        return {SitePath.parse(row["path"]) for row in rows}
