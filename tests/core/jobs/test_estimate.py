"""How long carrying will take, learned from what was carried."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.jobs.estimate import Carried, pace_of

counts = st.tuples(st.integers(1, 5000), st.integers(0, 10**9))


@given(st.lists(counts, min_size=1, max_size=12), st.floats(0.001, 0.5), st.floats(1e-9, 1e-5), counts)
def test_a_line_that_keeps_its_pace_is_foretold(
    jobs: list[tuple[int, int]], file_s: float, byte_s: float, wanted: tuple[int, int]
) -> None:
    done = [Carried(files, size, files * file_s + size * byte_s) for files, size in jobs]
    pace = pace_of(done)
    if pace is None:
        return
    for one in done:
        assert pace.seconds(one.files, one.size) >= 0
    steady = [one for one in done if one.took_s >= 0.05]
    if len(steady) > 1 and len({round(one.size / one.files, 3) for one in steady}) == len(steady):
        first = steady[0]
        assert pace.seconds(first.files, first.size) == pytest.approx(first.took_s, rel=0.2)


def test_a_limit_bounds_what_is_foretold_and_nothing_is_foretold_from_nothing() -> None:
    pace = pace_of([Carried(1, 10_000_000, 1.0), Carried(2, 40_000_000, 4.0)])

    assert pace is not None
    assert pace.seconds(1, 10_000_000, limit=1_000_000) >= 10
    assert pace_of([]) is None
    assert pace_of([Carried(3, 3, 0.001)]) is None


def test_jobs_that_are_all_alike_are_foretold_by_what_fits() -> None:
    pace = pace_of([Carried(100, 0, 2.0)] * 3)

    assert pace is not None
    assert pace.seconds(50, 0) == pytest.approx(1.0)
