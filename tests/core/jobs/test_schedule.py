"""When timers fire: every way of saying it, over both changes of summer time."""

from __future__ import annotations

from datetime import UTC, datetime
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.jobs.schedule import Every, Schedule, checked_schedule, next_run, next_runs
from nailer.errors import InvalidInput

LONDON = "Europe/London"


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


@pytest.mark.parametrize(
    ("every", "spec", "words", "after", "fires"),
    [
        ("minutes", "15", "every 15 minutes", "2026-11-25T10:01:00", "2026-11-25T10:15:00"),
        ("minutes", "1", "every minute", "2026-11-25T10:00:00", "2026-11-25T10:01:00"),
        ("daily", "6:30", "daily at 06:30", "2026-11-25T07:00:00", "2026-11-26T06:30:00"),
        ("daily", "06:30", "daily at 06:30", "2026-07-01T05:00:00", "2026-07-01T05:30:00"),
        ("weekly", "3,0 06:30", "Mondays and Thursdays at 06:30", "2026-11-25T12:00:00", "2026-11-26T06:30:00"),
        (
            "weekly",
            "0,2,4 6:00",
            "Mondays, Wednesdays and Fridays at 06:00",
            "2026-11-25T12:00:00",
            "2026-11-27T06:00:00",
        ),
        ("weekly", "2 12:00", "Wednesdays at 12:00", "2026-11-25T12:00:00", "2026-12-02T12:00:00"),
        ("cron", "*/20  8-9 * * 1-5", "by cron: */20 8-9 * * 1-5", "2026-11-25T09:41:00", "2026-11-26T08:00:00"),
    ],
)
def test_a_schedule_is_said_and_fires(every: str, spec: str, words: str, after: str, fires: str) -> None:
    schedule = checked_schedule(every, spec, LONDON)

    assert schedule.words == words
    assert next_run(schedule, at(after)) == at(fires)


def test_a_time_that_summer_time_skips_comes_an_hour_later_and_a_repeated_one_once() -> None:
    schedule = Schedule(Every.DAILY, "01:30", LONDON)

    assert next_run(schedule, at("2026-03-28T12:00:00")) == at("2026-03-29T01:30:00")
    autumn = next_runs(schedule, at("2026-10-24T12:00:00"), 2)
    assert autumn == [at("2026-10-25T00:30:00"), at("2026-10-26T01:30:00")]


@given(
    st.sampled_from(
        [
            Schedule(Every.MINUTES, "7", LONDON),
            Schedule(Every.DAILY, "01:30", LONDON),
            Schedule(Every.WEEKLY, "6,0 23:59", "Pacific/Auckland"),
            Schedule(Every.CRON, "5 4 * * *", "America/New_York"),
        ]
    ),
    st.datetimes(datetime(2026, 1, 1), datetime(2028, 1, 1), timezones=st.just(UTC)),
)
def test_runs_always_come_later(schedule: Schedule, after: datetime) -> None:
    runs = next_runs(schedule, after)

    assert runs[0] > after
    assert all(one < other for one, other in pairwise(runs))


@pytest.mark.parametrize(
    ("every", "spec", "zone"),
    [
        ("minutes", "0", "UTC"),
        ("minutes", "x", "UTC"),
        ("daily", "24:00", "UTC"),
        ("daily", "6", "UTC"),
        ("weekly", "7 06:00", "UTC"),
        ("weekly", " 06:00", "UTC"),
        ("cron", "61 * * * *", "UTC"),
        ("cron", "* * * *", "UTC"),
        ("hourly", "1", "UTC"),
        ("daily", "06:00", "Mars/Olympus"),
        ("daily", "06:00", "../etc"),
    ],
)
def test_what_cannot_be_used_is_refused(every: str, spec: str, zone: str) -> None:
    with pytest.raises(InvalidInput):
        checked_schedule(every, spec, zone)


def test_an_expression_that_never_comes_true_is_said() -> None:
    with pytest.raises(InvalidInput):
        next_run(Schedule(Every.CRON, "0 0 30 2 *", "UTC"), at("2026-01-01T00:00:00"))
