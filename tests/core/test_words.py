"""Numbers and dates as people read them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.entry import Stamp
from nailer.core.words import exact_stamp, size_text, stamp_text, when_text
from tests.builders import NOON_S


def test_dates_are_as_short_as_can_be_told_apart() -> None:
    now = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)
    ages = [timedelta(hours=1), timedelta(days=1), timedelta(days=11), timedelta(days=500)]

    assert [when_text(now - age, now) for age in ages] == [
        "today 11:00",
        "yesterday 12:00",
        "12 Nov 12:00",
        "11 Jul 2025",
    ]


@given(st.integers(-(2**62), 2**62))
def test_no_time_a_server_sends_breaks_a_page(at_ns: int) -> None:
    now = datetime(2026, 11, 23, tzinfo=UTC)

    assert stamp_text(Stamp(at_ns), now)
    assert exact_stamp(Stamp(at_ns)).endswith("UTC")


@given(st.integers(0, 2**60))
def test_sizes_stay_short(size: int) -> None:
    assert len(size_text(size)) <= 10


def test_a_time_is_shown_in_the_zone_that_is_set() -> None:
    from zoneinfo import ZoneInfo

    now = datetime.fromtimestamp(NOON_S, UTC)

    assert stamp_text(Stamp.seconds(NOON_S), now, ZoneInfo("Asia/Tokyo")) != stamp_text(Stamp.seconds(NOON_S), now)
