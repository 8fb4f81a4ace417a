"""Laws of the search by halves: what was planted is found, within the bound, and a cut search goes on the same way."""

from __future__ import annotations

from collections.abc import Callable

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.packages.halves import Culprits, Ended, most_tests, resumed, search, usual_tests

Broken = Callable[[frozenset[int]], bool]


def run(count: int, broken: Broken, most: int | None = None) -> tuple[Culprits, list[frozenset[int]]]:
    running, asked = search(range(count), most or most_tests(count)), []
    try:
        wanted = next(running)
        while True:
            asked.append(wanted)
            wanted = running.send(broken(wanted))
    except StopIteration as ended:
        return ended.value, asked


@given(st.integers(1, 200), st.data())
def test_one_culprit_is_found_within_about_log2_tests(count: int, data: st.DataObject) -> None:
    planted = data.draw(st.integers(0, count - 1))
    found, asked = run(count, lambda inside: planted in inside)
    assert found == Culprits(Ended.FOUND, ((planted,),), len(asked))
    assert len(asked) <= usual_tests(count)


@given(st.integers(2, 120), st.data())
def test_two_that_only_fail_together_are_found_together(count: int, data: st.DataObject) -> None:
    pair = data.draw(st.sets(st.integers(0, count - 1), min_size=2, max_size=2))
    found, asked = run(count, lambda inside: pair <= inside)
    assert found.ended is Ended.FOUND
    assert [set(group) for group in found.groups] == [pair]
    assert len(asked) <= most_tests(count)


@given(st.integers(2, 120), st.data())
def test_two_that_fail_alone_are_both_found(count: int, data: st.DataObject) -> None:
    two = data.draw(st.sets(st.integers(0, count - 1), min_size=2, max_size=2))
    found, asked = run(count, lambda inside: bool(two & inside))
    assert found.ended is Ended.FOUND
    assert sorted(found.groups) == sorted((one,) for one in two)
    assert len(asked) <= most_tests(count)


@given(st.integers(1, 60), st.data())
def test_any_set_that_is_found_breaks_the_page_and_none_of_it_can_be_missed(count: int, data: st.DataObject) -> None:
    """Whatever groups were planted: with all that was found set aside the page is well."""
    sets = st.sets(st.integers(0, count - 1), min_size=1, max_size=3)
    planted = data.draw(st.lists(sets, min_size=1, max_size=3))

    def broken(inside: frozenset[int]) -> bool:
        return any(one <= inside for one in planted)

    found, _ = run(count, broken, 5000)
    assert found.ended is Ended.FOUND
    for group in found.groups:
        assert broken(frozenset(group))
        assert not any(broken(frozenset(group) - {one}) for one in group)
    aside = {one for group in found.groups for one in group}
    assert not broken(frozenset(range(count)) - aside)


@given(st.integers(1, 60), st.lists(st.booleans(), max_size=400))
def test_a_page_that_answers_anyhow_ends_within_the_bound(count: int, answers: list[bool]) -> None:
    given_ = iter(answers)
    found, asked = run(count, lambda _: next(given_, True))
    assert len(asked) <= most_tests(count)
    assert len(set(asked)) == len(asked), "nothing is asked twice"
    assert found.tests == len(asked)


@given(st.integers(1, 60), st.data())
def test_a_search_that_was_cut_goes_on_from_its_answers(count: int, data: st.DataObject) -> None:
    pair = data.draw(st.sets(st.integers(0, count - 1), min_size=1, max_size=2))
    whole, asked = run(count, lambda inside: pair <= inside)
    cut = data.draw(st.integers(0, len(asked)))
    answers = [pair <= inside for inside in asked[:cut]]
    _, wanted, ended = resumed(range(count), most_tests(count), answers)
    if cut == len(asked):
        assert ended == whole
    else:
        assert wanted == asked[cut]


def test_what_is_not_broken_and_what_is_not_among_them_end_at_once() -> None:
    found, asked = run(9, lambda _: False)
    assert (found.ended, len(asked)) == (Ended.NOT_BROKEN, 1)
    found, asked = run(9, lambda _: True)
    assert (found.ended, len(asked)) == (Ended.NOT_AMONG, 2)


def test_the_most_suspect_are_in_the_first_half() -> None:
    _, asked = run(8, lambda inside: 0 in inside)
    assert asked[2] == {0, 1, 2, 3}


def test_a_bound_says_what_is_still_in_doubt() -> None:
    found, asked = run(50, lambda inside: {3, 40} <= inside, 6)
    assert (found.ended, len(asked)) == (Ended.BOUND, 6)
    assert {3, 40} <= set(found.suspects)
