"""Which copies stay."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.sitepath import SitePath
from nailer.core.packages.keeping import KeepingRule, copy_name, published_by, staying
from tests.builders import path

MOMENTS = st.datetimes(datetime(2020, 1, 1), datetime(2026, 12, 31), timezones=st.just(UTC))
RULES = st.builds(KeepingRule, st.integers(0, 9), st.integers(0, 9), st.integers(0, 9))


@given(st.lists(MOMENTS, unique=True, max_size=60), RULES)
def test_the_newest_stays_and_no_more_than_the_rule_says(copies: list[datetime], rule: KeepingRule) -> None:
    kept = staying(copies, rule)
    assert kept <= set(copies)
    assert not copies or max(copies) in kept
    assert len(kept) <= max(1, rule.daily + rule.weekly + rule.monthly) if copies else not kept


@given(st.lists(MOMENTS, unique=True, min_size=1, max_size=60), RULES)
def test_each_of_the_last_spans_keeps_its_newest(copies: list[datetime], rule: KeepingRule) -> None:
    kept = staying(copies, rule)
    days = sorted({one.date() for one in copies}, reverse=True)[: rule.daily]
    months = sorted({(one.year, one.month) for one in copies}, reverse=True)[: rule.monthly]
    assert all(max(one for one in copies if one.date() == day) in kept for day in days)
    assert all(max(one for one in copies if (one.year, one.month) == month) in kept for month in months)


@given(st.lists(MOMENTS, unique=True, max_size=40), RULES)
def test_what_stays_once_stays_when_it_is_asked_again(copies: list[datetime], rule: KeepingRule) -> None:
    kept = staying(copies, rule)
    assert staying(sorted(kept), rule) == kept


def test_a_year_of_daily_copies_leaves_a_few() -> None:
    first = datetime(2025, 11, 30, 3, 0, tzinfo=UTC)
    kept = staying([first + timedelta(days=number) for number in range(365)], KeepingRule())
    assert 17 <= len(kept) <= 23


def test_a_copy_is_called_by_site_folder_version_and_day() -> None:
    day = date(2026, 11, 29)
    assert copy_name("Fähren & Co", path("/htdocs"), "", day) == "f-hren-co_htdocs_2026-11-29"
    assert copy_name("x", SitePath(), "", day) == "x_account_2026-11-29"


def test_a_place_that_is_published_is_told() -> None:
    published = [path("/studio/skerry/htdocs")]
    assert published_by(path("/studio/skerry/htdocs/copies"), published) == published[0]
    assert published_by(path("/studio/skerry/htdocs"), published) == published[0]
    assert published_by(path("/studio/skerry/copies"), published) is None
