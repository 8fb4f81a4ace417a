"""What every wish does with every name, what else a name offers, and what was decided."""

from __future__ import annotations

from dataclasses import replace

import pytest

from nailer.core.compare.joint import Joint, Standing
from nailer.core.files.entry import Entry, Kind, Stamp
from nailer.core.files.tree import Tree
from nailer.core.pairs.differences import trees_compared
from nailer.core.pairs.proposals import choices_of, ends_of, proposed
from nailer.core.pairs.rows import SyncRow
from nailer.core.pairs.steps import Flow, flow_of, sync_steps
from nailer.core.pairs.wishes import Doing, Removals, SyncWish
from nailer.core.plans.plan import Action
from tests.builders import NOON_S, a_file, a_link
from tests.core.pairs.trees import FETCH, LEVEL, PUBLISH, a_tree, doings, level_at, planned, shown

# L, R, B by size and time, then what level, publish and fetch do; '=' is nothing at all.
_TABLE = [
    ("same", (1, 0), (1, 0), (1, 0), "= = ="),
    ("newer here", (2, 9), (1, 0), (1, 0), "upload upload download"),
    ("newer there", (1, 0), (2, 9), (1, 0), "download upload download"),
    ("both changed alike", (2, 9), (2, 9), (1, 0), "= = ="),
    ("both changed", (2, 9), (3, 9), (1, 0), "decide decide decide"),
    ("removed here", None, (1, 0), (1, 0), "remove-there remove-there download"),
    ("removed there", (1, 0), None, (1, 0), "remove-here upload remove-here"),
    ("gone here, changed there", None, (2, 9), (1, 0), "decide decide download"),
    ("changed here, gone there", (2, 9), None, (1, 0), "decide upload decide"),
    ("new here", (1, 0), None, None, "upload upload remove-here"),
    ("new there", None, (1, 0), None, "download remove-there download"),
    ("new on both, equal", (1, 0), (1, 0), None, "= = ="),
    ("new on both, newer here", (1, 9), (2, 0), None, "decide upload download"),
    ("new on both, newer there", (1, 0), (2, 9), None, "decide upload download"),
    ("new on both, one time", (1, 0), (2, 0), None, "decide decide decide"),
]


@pytest.mark.parametrize(
    ("here", "there", "known", "does"), [row[1:] for row in _TABLE], ids=[row[0] for row in _TABLE]
)
def test_what_each_wish_does(
    here: tuple[int, int] | None, there: tuple[int, int] | None, known: tuple[int, int] | None, does: str
) -> None:
    others = {"other.css": (7, 0)}
    one = a_tree(others | ({"a.html": here} if here else {}))
    two = a_tree(others | ({"a.html": there} if there else {}))
    before = level_at(others | ({"a.html": known} if known else {}))

    found = [doings(one, two, before, wish).get("a.html", "=") for wish in (LEVEL, PUBLISH, FETCH)]

    assert found == does.split()


@pytest.mark.parametrize(
    ("removals", "does"), [(Removals.FOLLOW, "remove-there"), (Removals.KEEP, "leave"), (Removals.ASK, "decide")]
)
def test_removals_follow_are_left_or_asked_for(removals: Removals, does: str) -> None:
    found = doings(
        a_tree({"b": (1, 0)}), a_tree({"a": (1, 0), "b": (1, 0)}), level_at({"a": (1, 0)}), SyncWish(removals=removals)
    )

    assert found == {"a": does}


def test_nothing_is_removed_because_a_side_was_found_empty() -> None:
    files = {"a": (1, 0), "img/b": (1, 0)}

    for wish in (LEVEL, PUBLISH):
        found = doings(Tree({(): ()}), a_tree(files), level_at(files, "img"), wish)

        assert set(found.values()) == {Doing.LEAVE}


def test_nothing_is_removed_here_because_there_was_found_empty() -> None:
    """A server that shows an empty start folder, as after a move, would otherwise empty the work here."""
    files = {"a": (1, 0), "img/b": (1, 0)}

    for wish in (LEVEL, FETCH):
        found = doings(a_tree(files), Tree({(): ()}), level_at(files, "img"), wish)

        assert set(found.values()) == {Doing.LEAVE}


def test_below_a_folder_that_could_not_be_read_nothing_is_done() -> None:
    files = {"img/a": (1, 0), "img/deep/b": (1, 0), "c": (1, 0)}
    here, there = a_tree(files), a_tree(files)
    unread = Tree({below: one for below, one in here.folders.items() if below != (b"img",)}, {(b"img",): "no right"})

    found = trees_compared(unread, there, level_at(files, "img", "img/deep"))

    assert [(shown(row.below), row.standing.joint, row.reason) for row in found.rows] == [
        ("img", Joint.NOT_READ, "no right")
    ]
    assert proposed(found.rows, PUBLISH).each == [Doing.LEAVE]
    assert choices_of(found.rows[0], Doing.LEAVE) == ()


def test_a_folder_of_which_a_part_was_not_read_is_not_removed() -> None:
    there = a_tree({"old/a": (1, 0), "old/deep/b": (1, 0), "c": (1, 0)})
    there = Tree({k: v for k, v in there.folders.items() if k != (b"old", b"deep")}, {(b"old", b"deep"): "no right"})
    here = a_tree({"c": (1, 0)})

    steps = planned(here, there, {}, PUBLISH)

    assert [(step.action, shown(step.target)) for step in steps.there] == [(Action.REMOVE, "old/a")]
    assert steps.left == [((b"old",), "contains files that stay")]


def test_a_file_under_another_name_costs_a_renaming() -> None:
    known = level_at({"old.html": (9, 0), "b": (1, 0)})
    here, there = a_tree({"new.html": (9, 0), "b": (1, 0)}), a_tree({"old.html": (9, 0), "b": (1, 0)})

    assert doings(here, there, known, LEVEL) == {"new.html": Doing.RENAME_THERE, "old.html": Doing.ALONG}
    steps = planned(here, there, known, LEVEL)
    assert [(step.action, shown(step.source), shown(step.target)) for step in steps.there] == [
        (Action.MOVE, "old.html", "new.html")
    ]
    assert doings(there, here, known, LEVEL) == {"new.html": Doing.RENAME_HERE, "old.html": Doing.ALONG}
    assert flow_of(steps) == Flow(renamed=1)
    found = trees_compared(here, there, known)
    each = proposed(found.rows, LEVEL)
    kept = sync_steps(found.rows, each, here, there, kept=lambda _, below: "kept" if below == (b"old.html",) else "")
    assert (kept.there, kept.left) == ([], [((b"new.html",), "kept")]), "a keep mark holds the old name"


def test_a_renaming_that_is_not_wanted_leaves_two_names_on_their_own() -> None:
    known = level_at({"old.html": (9, 0), "b": (1, 0)})
    here, there = a_tree({"new.html": (9, 0), "b": (1, 0)}), a_tree({"old.html": (9, 0), "b": (1, 0)})

    steps = planned(here, there, known, LEVEL, {"new.html": Doing.UPLOAD})

    assert [(step.action, shown(step.target)) for step in steps.there] == [
        (Action.TRANSFER, "new.html"),
        (Action.REMOVE, "old.html"),
    ]


def test_both_names_of_a_renaming_can_be_left_whatever_their_order() -> None:
    for old, new in (("a.html", "z.html"), ("z.html", "a.html")):
        known = level_at({old: (9, 0), "b": (1, 0)})
        here, there = a_tree({new: (9, 0), "b": (1, 0)}), a_tree({old: (9, 0), "b": (1, 0)})

        steps = planned(here, there, known, LEVEL, {old: Doing.LEAVE, new: Doing.LEAVE})

        assert (steps.here, steps.there) == ([], [])


def test_another_content_of_the_same_size_and_time_is_no_renaming() -> None:
    known = level_at({"old.html": (9, 0)})
    before = known[()][b"old.html"]
    known[()][b"old.html"] = replace(before, content_hash=b"one")
    found = trees_compared(a_tree({"new.html": (9, 0), "b": (1, 0)}), a_tree({"old.html": (9, 0), "b": (1, 0)}), known)

    each = proposed(found.rows, LEVEL, hashes={(b"new.html",): b"another"}).each
    same = proposed(found.rows, LEVEL, hashes={(b"new.html",): b"one"}).each

    assert each == [Doing.UPLOAD, Doing.REMOVE_THERE]
    assert same == [Doing.RENAME_THERE, Doing.ALONG]


def test_many_files_of_one_content_are_paired_by_their_names_or_not_at_all() -> None:
    known = level_at({"a/x": (9, 0), "a/y": (9, 0), "k": (1, 0)}, "a")
    there = a_tree({"a/x": (9, 0), "a/y": (9, 0), "k": (1, 0)})

    moved = doings(a_tree({"b/x": (9, 0), "b/y": (9, 0), "k": (1, 0)}), there, known, LEVEL)
    mixed = doings(a_tree({"p": (9, 0), "q": (9, 0), "k": (1, 0)}), there, known, LEVEL)

    assert [moved[path] for path in ("b/x", "b/y")] == [Doing.RENAME_THERE] * 2
    assert [mixed[path] for path in ("p", "q")] == [Doing.UPLOAD] * 2


@pytest.mark.parametrize(("one", "other"), [("Pier.jpg", "pier.jpg"), ("caf\u00e9.html", "cafe\u0301.html")])
def test_names_that_differ_only_in_spelling_wait_for_a_decision(one: str, other: str) -> None:
    here, there = a_tree({one: (9, 0), "b": (1, 0)}), a_tree({other: (9, 0), "b": (1, 0)})

    assert set(doings(here, there, {}, PUBLISH).values()) == {Doing.DECIDE}
    steps = planned(here, there, {}, PUBLISH, {one: Doing.RENAME_THERE})

    assert [(step.action, shown(step.source), shown(step.target)) for step in steps.there] == [
        (Action.MOVE, other, one)
    ]


def test_links_and_devices_are_left_with_a_reason() -> None:
    here = a_tree({"b": (1, 0)}, ("", a_link("www", "htdocs")), ("", Entry(b"pipe", Kind.OTHER)))

    found = trees_compared(here, a_tree({"b": (1, 0)}), {})
    each = proposed(found.rows, PUBLISH)

    assert each.each == [Doing.LEAVE, Doing.LEAVE]
    assert each.why == ["neither a file nor a folder", "links are not transferred"]


def test_a_link_that_stands_against_a_file_is_removed_only_when_chosen() -> None:
    here, there = a_tree({"a": (1, 0)}), a_tree({}, ("", a_link("a", "b")), folders=("b",))

    assert doings(here, there, {}, LEVEL)["a"] is Doing.DECIDE
    steps = planned(here, there, {}, LEVEL, {"a": Doing.UPLOAD})

    assert [step.action for step in steps.there] == [Action.REMOVE, Action.TRANSFER]
    assert Doing.DOWNLOAD not in choices_of(trees_compared(here, there, {}).rows[0], Doing.DECIDE)


def test_the_top_itself_unread_leaves_everything() -> None:
    row = trees_compared(Tree({}, {(): "no right"}), a_tree({"a": (1, 0)}), {}).rows[0]

    assert isinstance(row, SyncRow)
    assert (row.below, proposed([row], PUBLISH).each) == ((), [Doing.LEAVE])


@pytest.mark.parametrize(
    "changed",
    [
        {"here": a_file("a", size=6)},
        {"there": None},
        {"there": replace(a_file("a"), stamp=Stamp.seconds(NOON_S + 60))},
        {"here": replace(a_file("a"), kind=Kind.LINK, target=b"b")},
        {"here": None, "there": a_file("a")},
    ],
)
def test_the_ends_of_a_row_are_others_once_one_of_them_has_changed(changed: dict[str, Entry | None]) -> None:
    row = SyncRow((b"a",), a_file("a"), a_file("a", size=9), Standing(Joint.BOTH_CHANGED, "both changed"))

    assert ends_of(replace(row, **changed)) != ends_of(row)
    assert ends_of(replace(row, here=replace(a_file("a"), permissions=0o600))) == ends_of(row)
    assert len(ends_of(row)) == 16
