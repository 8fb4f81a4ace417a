"""Limits of speed as they are typed and stored."""

from __future__ import annotations

import pytest

from nailer.core.jobs.limits import Limit, Limits, hours_json, hours_of_json, hours_text, parse_hours, parse_rate
from nailer.errors import InvalidInput


@pytest.mark.parametrize("text", ["fast", "-4 MB/s", "10 B/s", "4 parsecs"])
def test_a_speed_that_is_none_is_refused_in_words(text: str) -> None:
    with pytest.raises(InvalidInput):
        parse_rate(text)


def test_hours_of_the_day_have_limits_of_their_own() -> None:
    limits = Limits(Limit(up=1_000_000), parse_hours("22:00-06:00\n08:00-18:00 up 500 kB/s down 2 MB/s"))

    assert limits.at(23 * 60) == Limit(), "at night there is none"
    assert limits.at(12 * 60) == Limit(500_000, 2_000_000)
    assert limits.at(19 * 60) == Limit(1_000_000)
    assert hours_of_json(hours_json(limits.hours)) == limits.hours
    assert parse_hours(hours_text(limits.hours)) == limits.hours
    with pytest.raises(InvalidInput, match="cannot be read"):
        parse_hours("from eight to six")
