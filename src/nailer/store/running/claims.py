"""Claims of runners on jobs: leases, and how a job ends."""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import timedelta

from nailer.core.jobs.states import ENDED, JobState, JobWish
from nailer.errors import Conflict
from nailer.store.database import Database, Work, utc_now
from nailer.store.jobs import Item, item_of


class JobClaims:
    """What runners write of the jobs they hold. A lease that ran out is free for any runner."""

    def __init__(self, database: Database) -> None:
        self._db = database

    async def claim(self, owner: str, *, lease_s: float) -> int | None:
        """The id of a job that now is this runner's, or None where there is nothing to do."""

        def _change(work: Work) -> int | None:
            now = utc_now()
            job_id = work.value("jobs.next_to_claim", now=now)
            if job_id is None:
                return None
            work.run("jobs.claim", id=job_id, owner=owner, until=now + timedelta(seconds=lease_s), now=now)
            work.run("jobs.recount", id=job_id)
            return int(job_id)

        return await self._db.write(_change)

    async def take(self, job_id: int, owner: str, *, lease_s: float) -> None:
        """Run a given job under a lease: for what a browser sends itself. Raises Conflict where somebody has it."""
        now = utc_now()
        until = now + timedelta(seconds=lease_s)
        if not await self._db.write(lambda work: work.run("jobs.take", id=job_id, owner=owner, until=until, now=now)):
            raise Conflict("This plan has already been carried out.")

    async def renew(self, job_id: int, owner: str, *, lease_s: float) -> JobWish | None:
        """Hold on to a job; return what a person wants of it, or None where it is no longer this owner's."""
        until = utc_now() + timedelta(seconds=lease_s)

        def _change(work: Work) -> JobWish | None:
            held = work.run("jobs.renew", id=job_id, owner=owner, until=until)
            row = work.one("jobs.wanted", id=job_id)
            if not held or row is None:
                return None
            if row["stop_wanted"]:
                return JobWish.STOP
            return JobWish.PAUSE if row["pause_wanted"] else JobWish.GO_ON

        return await self._db.write(_change)

    async def leases(self) -> list[tuple[int, str]]:
        """Jobs that runners hold, with their owners."""
        rows = await self._db.read(lambda work: work.rows("jobs.leases"))
        return [(row["id"], row["lease_owner"]) for row in rows]

    async def release(self, job_id: int, owner: str) -> None:
        """Give a running job back, to be claimed anew."""
        await self._db.write(lambda work: work.run("jobs.release", id=job_id, owner=owner))

    async def finish(self, job_id: int, owner: str, state: JobState, trouble: str | None, kind: str | None) -> None:
        """End a job, or let it pause. `trouble` and its kind are what ended it before its items had."""
        ended_at = utc_now() if state in ENDED else None
        values = {"id": job_id, "owner": owner, "state": state, "trouble": trouble, "kind": kind, "ended_at": ended_at}

        def _change(work: Work) -> None:
            work.run("jobs.recount", id=job_id)
            work.run("jobs.finish", **values)
            if ended_at is not None:
                work.run("jobs.let_follow", id=job_id)

        await self._db.write(_change)

    async def unfinished(self, job_id: int) -> tuple[int, int]:
        """How many items failed, and how many wait."""
        row = await self._db.read(lambda work: work.one("items.unfinished", job_id=job_id)) or {}
        return int(row["failed"]), int(row["waiting"])

    async def all_waiting(self, job_id: int) -> AsyncIterator[Item]:
        """Every item that waits to be carried, in order, read in windows."""
        after = -1
        while items := await self.waiting_items(job_id, after=after):
            for item in items:
                yield item
            after = items[-1].position

    async def waiting_items(self, job_id: int, *, after: int, limit: int = 500) -> list[Item]:
        """Items that wait to be carried, behind a position."""
        rows = await self._db.read(lambda work: work.rows("items.waiting", job_id=job_id, after=after, limit=limit))
        return [item_of(row) for row in rows]
