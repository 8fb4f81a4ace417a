"""The ways back stand in the order of what they cost."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.packages.recovery import LastChange, LastCopy, WayKind, ways_back

NOW = datetime(2026, 11, 29, 12, 0, tzinfo=UTC)
ORDER = [WayKind.COPY, WayKind.SEARCH]


def change(hours: int, kind: WayKind = WayKind.CHANGE, names: int = 3) -> LastChange:
    return LastChange(kind, hours, f"job {hours}", NOW - timedelta(hours=hours), "maren", names)


def copy(hours: int) -> LastCopy:
    return LastCopy(hours, "/htdocs", NOW - timedelta(hours=hours), 412, "")


@given(
    st.lists(st.integers(1, 99), unique=True), st.lists(st.integers(1, 99), unique=True), st.none() | st.integers(0, 99)
)
def test_changes_come_first_the_newest_of_them_then_copies_then_the_search(
    changes: list[int], copies: list[int], packages: int | None
) -> None:
    found = ways_back([change(one) for one in changes], [copy(one) for one in copies], packages, NOW)
    numbers = [way.number for way in found if way.kind is WayKind.CHANGE]
    assert numbers == sorted(changes)[:3]
    assert [way.number for way in found if way.kind is WayKind.COPY] == sorted(copies)
    assert [way.kind for way in found if way.kind in ORDER] == sorted(
        (w.kind for w in found if w.kind in ORDER), key=ORDER.index
    )
    assert (found[-1].kind is WayKind.SEARCH if found else False) == (packages != 0)
    assert all(way.cost for way in found)


def test_each_way_says_what_it_costs() -> None:
    version, job, aside, old, search = ways_back(
        [change(1, WayKind.VERSION), change(2), change(3, WayKind.ASIDE)], [copy(50)], 11, NOW
    )
    assert "Two renames" in version.cost
    assert "3 items" in job.cost
    assert "One rename" in aside.cost
    assert "undoes changes made in the last 2 days" in old.cost
    assert "Restore not tested yet" in old.cost
    assert "About 8 tests" in search.cost
    assert "Everything is restored at the end" in search.cost
