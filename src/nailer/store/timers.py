"""Timers: plans of pairs and jobs at set times. A claim makes sure that no two runs of one are made at once."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from nailer.acting import sees
from nailer.core.compare.joint import Compare
from nailer.core.files.entry import SideName
from nailer.core.files.names import names_text
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.progress import Count
from nailer.core.jobs.schedule import Every, Schedule, next_run
from nailer.core.jobs.timers import Clashes, Mail, Missed
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Removals, SyncWish
from nailer.core.words import aware
from nailer.errors import NotFound
from nailer.store.database import Database, Row, Work, utc_now

_MOST_JOBS = 1000
NOTHING = Count()


@dataclass(frozen=True, slots=True)
class Carry:
    """What a timer carries: picked names of one folder of a site into a folder of its other side."""

    site_id: int
    to_side: SideName
    source: SitePath
    target: SitePath
    names: tuple[bytes, ...]

    @property
    def words(self) -> str:
        """What the timer carries, in words."""
        word = "Upload" if self.to_side is SideName.THERE else "Download"
        return f"{word} of {names_text(list(self.names))} from {self.source} to {self.target}"


@dataclass(frozen=True, slots=True)
class NewTimer:
    """A timer of a pair, or one that carries: one of both is given."""

    account_id: int
    pair_id: int | None
    name: str
    wish: SyncWish
    compare: Compare
    schedule: Schedule
    mail: Mail
    missed: Missed
    clashes: Clashes
    carries: Carry | None = None


@dataclass(frozen=True, slots=True)
class Timer:
    """`next_at` is UTC; None while it is off. `busy`: a run of it is being made now. `pair_id` is None where it carries."""

    id: int
    account_id: int
    account_name: str
    pair_id: int | None
    pair_name: str | None
    carries: Carry | None
    site_id: int
    site_name: str
    colour: str
    name: str
    wish: SyncWish
    compare: Compare
    schedule: Schedule
    on: bool
    mail: Mail
    missed: Missed
    clashes: Clashes
    next_at: datetime | None
    busy: bool


@dataclass(frozen=True, slots=True)
class TimedJob:
    """What became of one run of a timer that carries; `job_id` is None where it touched nothing."""

    id: int
    job_id: int | None
    state: RunState
    told: tuple[str, ...]
    files: int
    bytes: int
    started_at: datetime
    ended_at: datetime | None


class TimerStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def all(self) -> list[Timer]:
        """All timers, as far as whoever acts sees them."""
        rows = await self._db.read(lambda work: work.rows("timers.all"))
        return [one for one in map(_timer, rows) if sees(one.site_id, one.account_id)]

    async def get(self, timer_id: int) -> Timer:
        """Raises NotFound."""
        row = await self._db.read(lambda work: work.one("timers.by_id", id=timer_id))
        if row is None or not sees((found := _timer(row)).site_id, found.account_id):
            raise NotFound("This timer no longer exists.")
        return found

    async def add(self, timer: NewTimer) -> int:
        """Store a timer; return its number."""
        more = {"account_id": timer.account_id, "pair_id": timer.pair_id, "is_on": True, **_transfer_row(timer.carries)}
        return await self._db.write(lambda work: work.insert("timers.add", **_row(timer), **more))

    async def write(self, timer_id: int, timer: NewTimer) -> None:
        """Store a timer that was changed; its next run is worked out anew."""
        await self._db.write(lambda work: work.run("timers.set", id=timer_id, **_row(timer)))

    async def switch(self, timer: Timer, *, on: bool) -> None:
        """Switch a timer on or off; switched on, it waits for its next time."""

        def _change(work: Work) -> None:
            next_at = _naive(next_run(timer.schedule, datetime.now(UTC))) if on else None
            work.run("timers.switch", id=timer.id, is_on=on, next_at=next_at)

        await self._db.write(_change)

    async def remove(self, timer_id: int) -> None:
        """Forget a timer."""
        await self._db.write(lambda work: work.run("timers.remove", id=timer_id))

    async def claim_due(self, *, lease_s: float) -> tuple[Timer, datetime] | None:
        """A timer whose time has come, with the moment that had been set (UTC), now claimed; None where there is none.
        Its next time counts from now: what was missed does not pile up."""

        def _change(work: Work) -> tuple[Timer, datetime] | None:
            now = utc_now()
            timer_id = work.value("timers.due", now=now)
            if timer_id is None:
                return None
            row = work.one("timers.by_id", id=timer_id)
            if row is None:
                return None
            timer = _timer(row)
            next_at = _naive(next_run(timer.schedule, aware(now)))
            work.run("timers.claim", id=timer_id, until=now + timedelta(seconds=lease_s), next_at=next_at)
            return timer, aware(row["next_at"])

        return await self._db.write(_change)

    async def claim_now(self, timer_id: int, *, lease_s: float) -> bool:
        """Claim a timer for a run that a person asks for; False where one is being made already."""
        now = utc_now()
        until = now + timedelta(seconds=lease_s)
        return bool(await self._db.write(lambda work: work.run("timers.claim_now", id=timer_id, now=now, until=until)))

    async def renew(self, timer_id: int, *, lease_s: float) -> None:
        """Hold on to a claimed timer."""
        until = utc_now() + timedelta(seconds=lease_s)
        await self._db.write(lambda work: work.run("timers.renew", id=timer_id, until=until))

    async def release(self, timer_id: int) -> None:
        """Let go of a claimed timer; its next run is worked out."""
        await self._db.write(lambda work: work.run("timers.release", id=timer_id))

    async def add_job(
        self, timer_id: int, state: RunState, told: Sequence[str], *, job_id: int | None = None, count: Count = NOTHING
    ) -> int:
        """Write down a run of a timer that carries, and forget those of long ago."""
        values = {
            "timer_id": timer_id,
            "job_id": job_id,
            "state": state,
            "told": json.dumps(list(told)),
            "files": count.files,
            "bytes": count.size,
            "now": utc_now(),
            "ended_at": None if state is RunState.RUNNING else utc_now(),
        }

        def _change(work: Work) -> int:
            added = work.insert("timers.add_job", **values)
            work.run("timers.forget_jobs", timer_id=timer_id, most=_MOST_JOBS)
            return added

        return await self._db.write(_change)

    async def jobs(self, timer_id: int, limit: int = 10) -> list[TimedJob]:
        """The runs of a timer that carries, newest first."""
        rows = await self._db.read(lambda work: work.rows("timers.jobs", timer_id=timer_id, limit=limit))
        return [_timed_job(row) for row in rows]

    async def set_job_state(self, timed_job_id: int, state: RunState) -> None:
        """How a run that carried stands now."""
        ended_at = None if state is RunState.RUNNING else utc_now()
        await self._db.write(
            lambda work: work.run("timers.set_job_state", id=timed_job_id, state=state, ended_at=ended_at)
        )


def _naive(moment: datetime) -> datetime:
    return moment.astimezone(UTC).replace(tzinfo=None)


def _row(timer: NewTimer) -> Row:
    """Reads the zone's file: not for the event loop."""
    return {
        "name": timer.name[:120],
        "direction": timer.wish.direction,
        "removals": timer.wish.removals,
        "compare": timer.compare,
        "every": timer.schedule.every,
        "spec": timer.schedule.spec,
        "zone": timer.schedule.zone,
        "mail": timer.mail,
        "missed": timer.missed,
        "clashes": timer.clashes,
        "next_at": _naive(next_run(timer.schedule, datetime.now(UTC))),
    }


def _timer(row: Row) -> Timer:
    return Timer(
        id=row["id"],
        account_id=row["account_id"],
        account_name=row["account_name"],
        pair_id=row["pair_id"],
        pair_name=row["pair_name"],
        carries=_transfer(row) if row["pair_id"] is None else None,
        site_id=row["of_site"],
        site_name=row["site_name"],
        colour=row["colour"],
        name=row["name"],
        wish=SyncWish(Direction(row["direction"]), Removals(row["removals"])),
        compare=Compare(row["compare"]),
        schedule=Schedule(Every(row["every"]), row["spec"], row["zone"]),
        on=bool(row["is_on"]),
        mail=Mail(row["mail"]),
        missed=Missed(row["missed"]),
        clashes=Clashes(row["clashes"]),
        next_at=row["next_at"] if row["is_on"] else None,
        busy=row["claimed_until"] is not None and row["claimed_until"] > utc_now(),
    )


def _transfer_row(carries: Carry | None) -> Row:
    return {
        "site_id": carries.site_id if carries else None,
        "to_side": carries.to_side if carries else None,
        "source_folder": carries.source.raw if carries else None,
        "target_folder": carries.target.raw if carries else None,
        "names": b"/".join(carries.names) if carries else None,
    }


def _transfer(row: Row) -> Carry:
    return Carry(
        row["site_id"],
        SideName(row["to_side"]),
        SitePath.parse(row["source_folder"]),
        SitePath.parse(row["target_folder"]),
        tuple(row["names"].split(b"/")),
    )


def _timed_job(row: Row) -> TimedJob:
    return TimedJob(
        id=row["id"],
        job_id=row["job_id"],
        state=RunState(row["state"]),
        told=tuple(json.loads(row["told"])),
        files=row["files"],
        bytes=row["bytes"],
        started_at=row["started_at"],
        ended_at=row["ended_at"],
    )
