"""Where a path of then is now, and what a path of now was called."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.moves import Renaming, Renamings
from nailer.core.files.sitepath import SitePath
from tests.builders import path

BEGIN = datetime(2026, 11, 1, tzinfo=UTC)
paths = st.lists(st.sampled_from([b"a", b"b"]), min_size=1, max_size=3).map(lambda names: SitePath(tuple(names)))


def _at(hour: int) -> datetime:
    return BEGIN + timedelta(hours=hour)


def test_a_name_in_a_renamed_folder_is_followed_both_ways() -> None:
    moves = Renamings([Renaming(_at(2), path("/b/x"), path("/b/y")), Renaming(_at(1), path("/a"), path("/b"))])

    assert moves.now(path("/a/x"), _at(0)) == path("/b/y")
    assert moves.now(path("/b/x"), _at(1)) == path("/b/y")
    assert moves.now(path("/b/x"), _at(2)) == path("/b/x"), "another thing by that name, made later"
    assert [one.path for one in moves.names(path("/b/y"))] == [path("/b/y"), path("/b/x"), path("/a/x")]
    assert moves.names(path("/b/y"))[1].ended == _at(2)


@given(st.lists(st.tuples(paths, paths), max_size=6), paths)
def test_every_earlier_name_leads_to_the_present_one(pairs: list[tuple[SitePath, SitePath]], now: SitePath) -> None:
    apart = [(old, new) for old, new in pairs if old.below(new) is None and new.below(old) is None]
    moves = Renamings([Renaming(_at(number), old, new) for number, (old, new) in enumerate(apart)])

    for name in moves.names(now):
        last_hour = name.ended - timedelta(minutes=30) if name.ended else _at(99)
        assert moves.now(name.path, last_hour) == now
