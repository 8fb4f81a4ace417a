"""Timers: plans of pairs at set times. A claim makes sure that no two runs of one are made at once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum

from nailer.core.joint import Compare
from nailer.core.schedule import Every, Schedule, next_run
from nailer.core.sync import Direction, Removals, Wish
from nailer.errors import NotFound
from nailer.store.database import Database, Row, Work, aware, utc_now


class Mail(StrEnum):
    """When a timer's owner is written to."""

    NEVER = "never"
    TROUBLE = "trouble"
    ALWAYS = "always"


class Missed(StrEnum):
    """What becomes of runs whose time passed while Nailer was not running: one run for all of them, or none."""

    ONCE = "once"
    SKIP = "skip"


class Clashes(StrEnum):
    """What a run does where something needs a person: nothing at all, or everything else."""

    STOP = "stop"
    LEAVE = "leave"


@dataclass(frozen=True, slots=True)
class NewTimer:
    account_id: int
    pair_id: int
    name: str
    wish: Wish
    compare: Compare
    schedule: Schedule
    mail: Mail
    missed: Missed
    clashes: Clashes


@dataclass(frozen=True, slots=True)
class Timer:
    """`next_at` is UTC; None while it is off. `busy`: a run of it is being made now."""

    id: int
    account_id: int
    account_name: str
    pair_id: int
    pair_name: str
    site_id: int
    site_name: str
    colour: str
    name: str
    wish: Wish
    compare: Compare
    schedule: Schedule
    on: bool
    mail: Mail
    missed: Missed
    clashes: Clashes
    next_at: datetime | None
    busy: bool


class TimerStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def all(self) -> list[Timer]:
        return [_timer(row) for row in await self._db.read(lambda work: work.rows("timers.all"))]

    async def get(self, timer_id: int) -> Timer:
        """Raises NotFound."""
        row = await self._db.read(lambda work: work.one("timers.by_id", id=timer_id))
        if row is None:
            raise NotFound("There is no such timer any more.")
        return _timer(row)

    async def add(self, timer: NewTimer) -> int:
        more = {"account_id": timer.account_id, "pair_id": timer.pair_id, "is_on": True}
        return await self._db.write(lambda work: work.insert("timers.add", **_row(timer), **more))

    async def write(self, timer_id: int, timer: NewTimer) -> None:
        await self._db.write(lambda work: work.run("timers.set", id=timer_id, **_row(timer)))

    async def switch(self, timer: Timer, *, on: bool) -> None:
        def change(work: Work) -> None:
            next_at = _naive(next_run(timer.schedule, datetime.now(UTC))) if on else None
            work.run("timers.switch", id=timer.id, is_on=on, next_at=next_at)

        await self._db.write(change)

    async def remove(self, timer_id: int) -> None:
        await self._db.write(lambda work: work.run("timers.remove", id=timer_id))

    async def claim_due(self, *, lease_s: float) -> tuple[Timer, datetime] | None:
        """A timer whose time has come, with the moment that had been set (UTC), now claimed; None where there is none.
        Its next time counts from now: what was missed does not pile up."""

        def change(work: Work) -> tuple[Timer, datetime] | None:
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

        return await self._db.write(change)

    async def claim_now(self, timer_id: int, *, lease_s: float) -> bool:
        """Claim a timer for a run that a person asks for; False where one is being made already."""
        now = utc_now()
        until = now + timedelta(seconds=lease_s)
        return bool(await self._db.write(lambda work: work.run("timers.claim_now", id=timer_id, now=now, until=until)))

    async def renew(self, timer_id: int, *, lease_s: float) -> None:
        until = utc_now() + timedelta(seconds=lease_s)
        await self._db.write(lambda work: work.run("timers.renew", id=timer_id, until=until))

    async def release(self, timer_id: int) -> None:
        await self._db.write(lambda work: work.run("timers.release", id=timer_id))


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
        site_id=row["site_id"],
        site_name=row["site_name"],
        colour=row["colour"],
        name=row["name"],
        wish=Wish(Direction(row["direction"]), Removals(row["removals"])),
        compare=Compare(row["compare"]),
        schedule=Schedule(Every(row["every"]), row["spec"], row["zone"]),
        on=bool(row["is_on"]),
        mail=Mail(row["mail"]),
        missed=Missed(row["missed"]),
        clashes=Clashes(row["clashes"]),
        next_at=row["next_at"] if row["is_on"] else None,
        busy=row["claimed_until"] is not None and row["claimed_until"] > utc_now(),
    )
