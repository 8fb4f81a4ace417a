"""Jobs whose pages are watched: what these answered before, and how it ended."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from nailer.core.check.live import Fetched, FetchedHow
from nailer.core.words import aware
from nailer.store.database import Database, utc_now


@dataclass(frozen=True, slots=True)
class Watch:
    """The pages that one job may make worse. `before` is None until the job is confirmed. `ended_at` is None until they were
    looked at afterwards: `worse` says then what became worse ('' for nothing), `back_job_id` which job took it back."""

    job_id: int
    addresses: tuple[str, ...]
    before: tuple[Fetched, ...] | None
    worse: str
    back_job_id: int | None
    ended_at: datetime | None


class WatchStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(self, job_id: int, addresses: Sequence[str]) -> None:
        """Watch these pages while a job is carried out."""
        values = {"job_id": job_id, "addresses": json.dumps(list(addresses))}
        await self._db.write(lambda work: work.run("watches.add", **values))

    async def of_job(self, job_id: int) -> Watch | None:
        """What is watched of a job; None where nothing is."""
        row = await self._db.read(lambda work: work.one("watches.of_job", job_id=job_id))
        if row is None:
            return None
        before = row["before_answers"]
        return Watch(
            job_id,
            tuple(json.loads(row["addresses"])),
            tuple(answer_of(one) for one in json.loads(before)) if before is not None else None,
            row["worse"] or "",
            row["back_job_id"],
            aware(row["ended_at"]) if row["ended_at"] else None,
        )

    async def before(self, job_id: int, answers: Sequence[Fetched]) -> None:
        """Write down what the pages answered before the job began."""
        rows = [answer_row(one) for one in answers]
        await self._db.write(lambda work: work.run("watches.before", job_id=job_id, answers=json.dumps(rows)))

    async def end(self, job_id: int, worse: str, back_job_id: int | None) -> None:
        """Write down how the pages were afterwards."""
        values = {"job_id": job_id, "worse": worse, "back_job_id": back_job_id, "now": utc_now()}
        await self._db.write(lambda work: work.run("watches.end", **values))

    async def unended(self) -> list[int]:
        """Jobs that have ended while nobody looked at their pages."""
        return [row["job_id"] for row in await self._db.read(lambda work: work.rows("watches.unended"))]


def answer_row(one: Fetched) -> list[object]:
    """What is written down of an answer."""
    return [one.address, one.status, one.size, one.trouble, one.words]


def answer_of(row: Sequence[object]) -> Fetched:
    """What a page answered, as far as it was written down."""
    address, status, size, trouble, words = row
    return Fetched(
        FetchedHow.PLAIN,
        str(address),
        int(str(status)) if status is not None else None,
        size=int(str(size)),
        trouble=str(trouble),
        words=str(words),
    )
