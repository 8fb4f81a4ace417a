"""When a timer fires: every so many minutes, daily, weekly, or as a cron expression says; always in a zone of its own."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum

from croniter import croniter

from nailer.core.numbers import number_in
from nailer.core.zones import zone_named
from nailer.errors import InvalidInput

_MOST_MINUTES = 7 * 24 * 60
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


class Every(StrEnum):
    """How a timer's times are said."""

    MINUTES = "minutes"
    DAILY = "daily"
    WEEKLY = "weekly"
    CRON = "cron"


@dataclass(frozen=True, slots=True)
class Schedule:
    """`spec` is, for each way of saying it: minutes as a number; `HH:MM`; `0,3 HH:MM` with days from Monday as 0; or the
    five fields of a cron expression (POSIX crontab). `zone` is the name of a time zone."""

    every: Every
    spec: str
    zone: str

    @property
    def words(self) -> str:
        """`every 15 minutes`, `daily at 06:30`, `Mondays and Thursdays at 06:30`, `by cron: */5 * * * *`."""
        match self.every:
            case Every.MINUTES:
                return f"every {self.spec} minutes" if self.spec != "1" else "every minute"
            case Every.DAILY:
                return f"daily at {self.spec}"
            case Every.WEEKLY:
                days, at = self.spec.split(" ")
                names = [f"{DAYS[int(day)]}s" for day in days.split(",")]
                return f"{' and '.join([', '.join(names[:-1]), names[-1]]) if len(names) > 1 else names[0]} at {at}"
            case Every.CRON:
                return f"by cron: {self.spec}"


def checked_schedule(every: str, spec: str, zone: str) -> Schedule:
    """A schedule from what a person typed. Raises InvalidInput, saying which part cannot be used.

    >>> checked_schedule("daily", "6:30", "UTC").spec
    '06:30'
    """
    zone_named(zone)
    try:
        way = Every(every)
    except ValueError as error:
        raise InvalidInput("A timer runs every few minutes, daily, weekly or by a cron expression.") from error
    spec = " ".join(spec.split())
    match way:
        case Every.MINUTES:
            minutes = number_in(spec, least=1, most=_MOST_MINUTES)
            if minutes is None:
                raise InvalidInput(f"Type a number of minutes from 1 to {_MOST_MINUTES}.")
            spec = str(minutes)
        case Every.DAILY:
            spec = _clock(spec)
        case Every.WEEKLY:
            days, _, at = spec.partition(" ")
            numbers = sorted({part for part in days.split(",") if part})
            if not numbers or not set(numbers) <= set("0123456"):
                raise InvalidInput("Select at least one day of the week.")
            spec = f"{','.join(numbers)} {_clock(at)}"
        case Every.CRON:
            if len(spec.split(" ")) != 5 or not croniter.is_valid(spec):
                raise InvalidInput("A cron expression has five fields: minute, hour, day, month, day of the week.")
    return Schedule(way, spec, zone)


def next_run(schedule: Schedule, after: datetime) -> datetime:
    """The first moment after another at which a timer fires, in UTC. A time of day that summer time skips comes an hour
    later; one that it repeats counts once.

    Raises InvalidInput where an expression never comes true.

    >>> next_run(Schedule(Every.MINUTES, "15", "UTC"), datetime(2026, 1, 1, 12, 7, tzinfo=UTC)).minute
    15
    """
    zone = zone_named(schedule.zone)
    local = after.astimezone(zone)
    match schedule.every:
        case Every.MINUTES:
            step = int(schedule.spec) * 60
            seconds = int(after.timestamp()) // step * step + step
            return datetime.fromtimestamp(seconds, UTC)
        case Every.DAILY | Every.WEEKLY:
            days, _, at = schedule.spec.rpartition(" ")
            hour, minute = (int(part) for part in at.split(":"))
            wanted = {int(day) for day in days.split(",")} if days else set(range(7))
            for ahead in range(9):
                day = local.date() + timedelta(days=ahead)
                moment = datetime(day.year, day.month, day.day, hour, minute, tzinfo=zone).astimezone(UTC)
                if day.weekday() in wanted and moment > after:
                    return moment
            raise InvalidInput("This timer would never run.")
        case Every.CRON:
            try:
                found: datetime = croniter(schedule.spec, local).get_next(datetime)
            except (ValueError, KeyError) as error:
                raise InvalidInput("This cron expression never matches a date.") from error
            return found.astimezone(UTC)


def next_runs(schedule: Schedule, after: datetime, count: int = 5) -> list[datetime]:
    """The next moments at which a timer fires, in UTC."""
    found: list[datetime] = []
    for _ in range(count):
        found.append(next_run(schedule, found[-1] if found else after))
    return found


def _clock(text: str) -> str:
    hours, _, minutes = text.partition(":")
    hour, minute = number_in(hours, most=23), number_in(minutes, most=59)
    if hour is None or minute is None or len(minutes) != 2:
        raise InvalidInput(f"“{text[:20]}” is not a time of day. Write it like 06:30.")
    return f"{hour:02d}:{minute:02d}"
