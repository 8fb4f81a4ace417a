"""Counts that add up, and a time left that means something."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.jobs.progress import Count, Rate, Tally


@given(st.lists(st.tuples(st.integers(0, 9), st.integers(0, 900)), min_size=4, max_size=4))
def test_the_tally_always_adds_up(parts: list[tuple[int, int]]) -> None:
    done, failed, left, waiting = (Count(*part) for part in parts)
    tally = Tally(done + failed + left + waiting, done, failed, left)

    assert tally.waiting == waiting
    assert 0 <= tally.share <= 1


def test_no_time_left_is_shown_before_it_means_something() -> None:
    rate = Rate().after(0, 0.0).after(5000, 1.0)
    assert rate.time_left_s(10_000) is None

    assert Rate().after(0, 0.0).after(5000, 1.0).after(5000, 2.0).time_left_s(10_000) == pytest.approx(2.0)


def test_a_standing_rate_gives_no_time() -> None:
    rate = Rate()
    for second in range(60):
        rate = rate.after(0, float(second))

    assert rate.time_left_s(1000) is None
