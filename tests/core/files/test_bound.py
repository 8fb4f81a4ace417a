"""Which folders belong together."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.bound import Bound, belong, counterpart
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from tests.builders import path

SKERRY = Bound(path("/studio/skerry/htdocs"), path("/htdocs"))
SHOP = Bound(path("/studio/shop"), path("/htdocs/shop"))

names = st.sampled_from([b"a", b"b", b"htdocs"])
below = st.lists(names, max_size=3).map(tuple)


def test_folders_that_were_led_apart_do_not_belong_together() -> None:
    assert belong([SKERRY], path("/studio/skerry/htdocs/news"), path("/htdocs/news"))
    assert not belong([SKERRY], path("/studio/skerry/htdocs"), path("/htdocs/angebote"))
    assert not belong([SKERRY], path("/studio/else"), path("/htdocs"))


def test_the_innermost_pair_leads_and_both_readings_belong() -> None:
    assert counterpart([SKERRY, SHOP], SideName.THERE, path("/htdocs/shop/cart")) == path("/studio/shop/cart")
    assert counterpart([SKERRY, SHOP], SideName.HERE, path("/studio/skerry/htdocs/shop")) == path("/htdocs/shop")
    assert belong([SKERRY, SHOP], path("/studio/skerry/htdocs/shop"), path("/htdocs/shop"))
    assert belong([SKERRY, SHOP], path("/studio/shop"), path("/htdocs/shop"))


def test_all_allowed_roots_together_are_nobodys_folder() -> None:
    bound = Bound(SitePath(), path("/htdocs"))

    assert counterpart([bound], SideName.THERE, path("/logs")) is None


@given(st.lists(st.builds(Bound, below.map(SitePath), below.map(SitePath)), min_size=1, max_size=3), below)
def test_what_lies_at_the_same_place_below_a_pair_belongs_together(
    bounds: list[Bound], inside: tuple[bytes, ...]
) -> None:
    for bound in bounds:
        here, there = bound.here.join(inside), bound.there.join(inside)
        other = counterpart(bounds, SideName.THERE, there)
        assert other is not None, "a bound holds it"
        assert belong(bounds, other, there)
        if len(bounds) == 1:
            assert belong(bounds, here, there)
