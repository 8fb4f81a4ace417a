"""What differs between two trees: the fast way for names that are as they were, and everything that must not take it."""

from __future__ import annotations

from dataclasses import replace

import pytest

from nailer.core.compare.joint import Baseline, Compare, Joint, Seen, seen
from nailer.core.files.completeness import Incomplete, Lack
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.differences import hardly_the_same, same_sized, trees_compared
from nailer.core.pairs.proposals import proposed
from nailer.core.pairs.steps import removals_share, sync_steps
from nailer.core.pairs.wishes import Doing
from tests.builders import NOON_S, a_file, a_folder, a_link
from tests.core.pairs.trees import PUBLISH, Files, a_tree, level_at, shown

HERE, THERE = a_file("a.html", 100, NOON_S), a_file("a.html", 100, NOON_S + 40)
LEVEL = {(): {b"a.html": Baseline(seen(HERE), seen(THERE))}}


def trees(here: Entry | None, there: Entry | None) -> tuple[Tree, Tree]:
    return Tree({(): [here] if here else []}), Tree({(): [there] if there else []})


def test_a_name_that_is_as_it_was_counts_and_makes_no_row() -> None:
    found = trees_compared(*trees(HERE, THERE), LEVEL)

    assert (found.rows, found.same, found.level, found.gone) == ([], 1, [], [])


@pytest.mark.parametrize(
    ("here", "there", "joint"),
    [
        pytest.param(a_file("a.html", 100, NOON_S + 500), THERE, Joint.NEWER_HERE, id="another time here"),
        pytest.param(HERE, a_file("a.html", 100, NOON_S + 500), Joint.NEWER_THERE, id="another time there"),
        pytest.param(a_file("a.html", 101, NOON_S), THERE, Joint.NEWER_HERE, id="another size here"),
        pytest.param(HERE, a_file("a.html", 101, NOON_S + 40), Joint.NEWER_THERE, id="another size there"),
        pytest.param(HERE, replace(a_link("a.html"), size=100), Joint.BOTH_CHANGED, id="a link there"),
        pytest.param(replace(a_link("a.html"), size=100), THERE, Joint.BOTH_CHANGED, id="a link here"),
    ],
)
def test_whatever_changed_makes_a_row(here: Entry, there: Entry, joint: Joint) -> None:
    (row,) = trees_compared(*trees(here, there), LEVEL).rows

    assert row.standing.joint is joint


@pytest.mark.parametrize("here_says", [True, False])
def test_a_side_that_gives_no_time_any_more_is_not_taken_for_unchanged(here_says: bool) -> None:
    mute = Entry(b"a.html", Kind.FILE, 101)
    found = trees_compared(*(trees(HERE, mute) if here_says else trees(mute, THERE)), LEVEL)

    assert len(found.rows) == 1


def test_a_time_that_was_never_given_is_equal_to_none() -> None:
    """A side without times cannot show that nobody touched it: the name is a row, not counted as the same."""
    known = {(): {b"a.html": Baseline(Seen(100, None), seen(THERE))}}
    mute = Entry(b"a.html", Kind.FILE, 100)

    for near in (mute, HERE):
        found = trees_compared(*trees(near, THERE), known)
        assert (found.same, len(found.rows)) == (0, 1)


def test_contents_that_were_read_speak_even_where_size_and_time_are_as_they_were() -> None:
    (row,) = trees_compared(*trees(HERE, THERE), LEVEL, compare=Compare.CONTENT, equal={(b"a.html",): False}).rows

    assert row.standing.joint is Joint.BOTH_CHANGED


def test_names_found_to_be_the_same_are_level_and_known_ones_are_not_written_again() -> None:
    new = trees_compared(*trees(HERE, replace(THERE, stamp=HERE.stamp)), {})
    folders = trees_compared(*trees(a_folder("img"), a_folder("img")), {})
    was_a_file = trees_compared(
        *trees(a_folder("img"), a_folder("img")), {(): {b"img": Baseline(seen(HERE), seen(HERE))}}
    )
    known = trees_compared(
        *trees(a_folder("img"), a_folder("img")), {(): {b"img": Baseline(Seen(0, None), Seen(0, None), True)}}
    )

    assert (new.level, new.same) == ([(b"a.html",)], 1)
    assert (folders.level, folders.same) == ([(b"img",)], 0)
    assert was_a_file.level == [(b"img",)]
    assert known.level == []


def test_names_that_neither_side_has_are_gone() -> None:
    found = trees_compared(*trees(None, None), LEVEL)
    half = trees_compared(*trees(HERE, THERE), {(): {**LEVEL[()], b"b.html": Baseline(seen(HERE), seen(THERE))}})

    assert found.gone == [(b"a.html",)]
    assert half.gone == [(b"b.html",)]


@pytest.mark.parametrize("end", [0, 1])
def test_a_name_that_a_listing_may_hide_is_neither_gone_nor_removed(end: int) -> None:
    cut = {(): Incomplete(Lack.CUT)}
    none = [Tree({(): []}), Tree({(): []})]
    none[end] = Tree({(): []}, lacks=cut)
    alone = [Tree({(): [HERE]}), Tree({(): [HERE]})]
    alone[end] = Tree({(): []}, lacks=cut)

    assert trees_compared(none[0], none[1], LEVEL).gone == []
    (row,) = trees_compared(alone[0], alone[1], LEVEL).rows
    assert row.standing.joint is Joint.NOT_READ


@pytest.mark.parametrize("end", [0, 1])
def test_what_a_whole_listing_lacks_is_known_to_be_gone(end: int) -> None:
    """The other side's listing says nothing about it."""
    sides = [Tree({(): [HERE]}, lacks={(): Incomplete(Lack.CUT)}), Tree({(): [HERE]}, lacks={(): Incomplete(Lack.CUT)})]
    sides[end] = Tree({(): []})

    (row,) = trees_compared(sides[0], sides[1], {}).rows

    assert row.standing.joint is (Joint.ONLY_THERE if end == 0 else Joint.ONLY_HERE)


def test_a_folder_that_could_not_be_read_is_one_row() -> None:
    here = Tree({(): [a_folder("img")], (b"img",): [a_file("x.png")]})
    there = Tree({(): [a_folder("img")]}, problems={(b"img",): "refused"})

    (row,) = trees_compared(here, there, {}).rows

    assert (row.below, row.standing.joint, row.standing.reason) == ((b"img",), Joint.NOT_READ, "refused")


def test_what_a_sieve_holds_is_not_level_and_not_entered() -> None:
    here = Tree({(): [a_folder("img"), HERE], (b"img",): [a_file("x.png")]})
    there = Tree({(): [a_folder("img"), replace(THERE, stamp=HERE.stamp)], (b"img",): []})

    found = trees_compared(here, there, {}, held=lambda *_: "by a sieve")

    assert (found.level, found.rows) == ([], [])


def test_only_files_of_one_size_need_their_contents_compared() -> None:
    here = Tree({(): [a_file("a", 5), a_file("b", 5), a_folder("c"), a_file("d", 5)]})
    there = Tree({(): [a_file("a", 5), a_file("b", 6), a_folder("c"), a_file("e", 5)]})

    assert [below for below, _, _ in same_sized(here, there)] == [(b"a",)]
    assert not list(same_sized(here, there, lambda *_: "by a sieve"))


def top(*names: str) -> Tree:
    return Tree({(): [a_file(name) for name in names]})


def test_two_trees_with_hardly_a_name_in_common_are_perhaps_the_wrong_pair() -> None:
    four, others = top("a", "b", "c", "d"), top("e", "f", "g", "h")
    ten = top(*"abcdefghij")

    assert hardly_the_same(four, others)
    assert not hardly_the_same(top("a", "b", "c"), others), "too few to tell"
    assert not hardly_the_same(ten, top("a", *"klmnopqrs")), "one in ten is enough"


def test_what_a_sieve_holds_back_is_neither_carried_nor_removed_with_its_folder() -> None:
    here = a_tree({"a.psd": (9, 0), "c": (1, 0)})
    there = a_tree({"c": (1, 0), "old/b.psd": (9, 0), "old/b.html": (2, 0)})

    def held(below: RelativePath, _: Entry | None, __: Entry | None) -> str:
        return "working files" if below[-1].endswith(b".psd") else ""

    found = trees_compared(here, there, {}, held=held)
    each = proposed(found.rows, PUBLISH)
    steps = sync_steps(found.rows, each, here, there, held)

    assert {shown(row.below): doing for row, doing in zip(found.rows, each.each, strict=True)} == {
        "a.psd": Doing.STAYS,
        "old": Doing.REMOVE_THERE,
        "old/b.html": Doing.REMOVE_THERE,
        "old/b.psd": Doing.STAYS,
    }
    assert [shown(step.target) for step in steps.there] == ["old/b.html"]


def test_a_folder_held_back_is_one_row_and_nothing_in_it_is_looked_at() -> None:
    here, there = a_tree({".git/HEAD": (1, 0), "a": (1, 0)}), a_tree({"a": (1, 0)})

    found = trees_compared(here, there, {}, held=lambda below, *_: "house rules" if below[-1] == b".git" else "")

    assert [(shown(row.below), row.held) for row in found.rows] == [(".git", "house rules")]


def test_a_folder_of_which_everything_stays_behind_stays_too() -> None:
    here = a_tree({"drafts/deep/a.psd": (1, 0), "mixed/a.psd": (1, 0), "mixed/b.html": (1, 0)}, folders=("empty",))

    found = trees_compared(here, a_tree({}), {}, held=lambda below, *_: "files" if below[-1].endswith(b".psd") else "")

    assert {shown(row.below): row.held for row in found.rows} == {
        "drafts": "files",
        "drafts/deep": "files",
        "drafts/deep/a.psd": "files",
        "empty": "",
        "mixed": "",
        "mixed/a.psd": "files",
        "mixed/b.html": "",
    }


def test_an_hour_by_which_a_server_jumps_changes_nothing() -> None:
    files = {f"{n}.html": (n, n * 60) for n in range(1, 9)}
    jumped = a_tree({path: (size, at + 3600) for path, (size, at) in files.items()})

    found = trees_compared(a_tree(files), jumped, level_at(files))

    assert (found.rows, found.same) == ([], 8)


def test_by_size_a_clock_does_not_matter() -> None:
    files = {"a": (1, 0)}

    found = trees_compared(a_tree(files), a_tree({"a": (1, 99_999)}), {}, compare=Compare.SIZE)

    assert (found.rows, found.level) == ([], [(b"a",)])


@pytest.mark.parametrize(
    ("known", "equal", "joint"),
    [
        ({}, True, None),
        ({}, False, Joint.NEWER_THERE),
        ({"a": (5, 0)}, True, None),
        ({"a": (5, 0)}, False, Joint.NEWER_THERE),
        ({"a": (5, 9)}, False, Joint.NEWER_HERE),
        ({"a": (9, 1)}, False, Joint.BOTH_CHANGED),
        ({"a": (9, 1)}, True, None),
    ],
)
def test_by_content(known: Files, equal: bool, joint: Joint | None) -> None:
    here, there = a_tree({"a": (5, 0)}), a_tree({"a": (5, 9)})

    found = trees_compared(here, there, level_at(known), compare=Compare.CONTENT, equal={(b"a",): equal})

    assert [row.standing.joint for row in found.rows] == ([joint] if joint else [])


def test_contents_that_differ_under_equal_times_are_found() -> None:
    files = {"a": (5, 0)}

    found = trees_compared(
        a_tree(files), a_tree(files), level_at(files), compare=Compare.CONTENT, equal={(b"a",): False}
    )

    assert [row.standing.joint for row in found.rows] == [Joint.BOTH_CHANGED]
    assert [one[0] for one in same_sized(a_tree(files), a_tree(files | {"b": (1, 0)}))] == [(b"a",)]


def test_useless_times_wrong_pairs_and_large_removals_are_noticed() -> None:
    flat = a_tree({f"{n}": (n, 0) for n in range(9)})
    lively = a_tree({f"p{n}": (n, n) for n in range(9)})

    assert flat.times_useless
    assert not lively.times_useless
    assert hardly_the_same(flat, lively)
    assert not hardly_the_same(flat, flat)
    assert removals_share(flat, 3) == pytest.approx(1 / 3)


def test_an_entry_seen_twice_is_level_by_what_it_was() -> None:
    entry = a_file()

    assert seen(entry) == Seen(entry.size, entry.stamp)
    assert not a_folder().is_file
