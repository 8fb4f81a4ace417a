"""How refused tries add up, fade, and cost waits."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.people.tries import Watched, faded, network_of, watched

ONE = Watched("one", 3, 300.0)


@pytest.mark.parametrize(
    ("refused", "idle_s", "left_s"),
    [
        (0, 0, 0),
        (2.4, 0, 0),
        (2.9, 0, 1),
        (3, 0, 1),
        (3, 1, 0),
        (4, 0.5, 1.5),
        (6, 0, 8),
        (50, 0, 300),
        (5000, 299, 1),
        (3, -5, 6),
    ],
)
def test_waits_double_past_the_free_tries_up_to_the_longest(refused: float, idle_s: float, left_s: float) -> None:
    assert ONE.left_s(refused, idle_s) == left_s


def test_refused_tries_fade_one_in_ten_minutes_and_never_grow() -> None:
    assert [faded(3.0, idle_s) for idle_s in (-60, 0, 300, 600, 1800, 9999)] == [3.0, 3.0, 2.5, 2.0, 0.0, 0.0]


@given(st.lists(st.floats(0, 3000), max_size=20))
def test_fading_in_steps_is_fading_at_once(idle_s: list[float]) -> None:
    left = 12.0
    for one in idle_s:
        left = faded(left, one)

    assert left == pytest.approx(faded(12.0, sum(idle_s)), abs=1e-6)


def test_a_try_counts_for_the_name_here_the_network_and_the_name() -> None:
    first, again, elsewhere = (watched(*one) for one in (("Maren", "::1"), ("MAREN", "::2"), ("maren", "192.0.2.1")))

    assert first == again
    assert (first[0].who != elsewhere[0].who, first[1].who != elsewhere[1].who, first[2] == elsewhere[2]) == (True,) * 3
    assert first[0].free < first[1].free < first[2].free


@pytest.mark.parametrize("address", ["x" * 5000, "", "fe80::1%eth0", "192.0.2.7:80"])
@pytest.mark.parametrize("name", ["\u0390" * 80, "\udcff", ""])
def test_no_name_and_no_address_outgrows_its_place_in_the_database(name: str, address: str) -> None:
    assert all(len(one.who) <= 200 for one in watched(name, address))
    assert len(network_of(address)) <= 60
