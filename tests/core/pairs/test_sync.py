"""Two trees and their baseline: what every name will have done to it, and laws that hold for all trees."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nailer.core.compare.joint import Baseline, Compare, Joint, Seen, Standing, seen
from nailer.core.files.entry import NS, Entry, Kind, SideName, Stamp
from nailer.core.files.tree import Below, Tree
from nailer.core.files.whole import Lack, NotWhole
from nailer.core.pairs.differences import compared, hardly_the_same, same_sized
from nailer.core.pairs.proposals import bars, choices_of, decided, ends_of, proposed
from nailer.core.pairs.rows import Comparison, Doings, SyncRow
from nailer.core.pairs.standing import Rolled, rolled
from nailer.core.pairs.steps import Flow, SyncSteps, flow_of, removals_share, sync_steps
from nailer.core.pairs.wishes import ACTING, Direction, Doing, Removals, SyncWish
from nailer.core.plans.plan import Action, PlanStep
from tests.builders import NOON_S, a_file, a_folder, a_link

Files = dict[str, tuple[int, int]]  # path: size, seconds after noon
PUBLISH, FETCH, LEVEL = (SyncWish(way, Removals.FOLLOW) for way in Direction)


def a_tree(files: Mapping[str, tuple[int, int]], *more: tuple[str, Entry], folders: tuple[str, ...] = ()) -> Tree:
    """A tree of files by path; `more` are other entries with the folder they lie in."""
    found: dict[Below, list[Entry]] = {(): []}

    def folder(below: Below) -> list[Entry]:
        if below not in found:
            found[below] = []
            folder(below[:-1]).append(Entry(below[-1], Kind.FOLDER, access=0o755))
        return found[below]

    for path in folders:
        folder(tuple(path.encode().split(b"/")))
    for path, (size, at) in files.items():
        *above, name = path.encode().split(b"/")
        folder(tuple(above)).append(Entry(name, Kind.FILE, size, Stamp((NOON_S + at) * NS, NS)))
    for where, entry in more:
        folder(tuple(part for part in where.encode().split(b"/") if part)).append(entry)
    return Tree(found)


def level_at(files: Mapping[str, tuple[int, int]], *folders: str) -> dict[Below, dict[bytes, Baseline]]:
    """The baseline of files that were the same on both sides."""
    known: dict[Below, dict[bytes, Baseline]] = {}
    for path, (size, at) in files.items():
        *above, name = path.encode().split(b"/")
        was = Seen(size, Stamp((NOON_S + at) * NS, NS))
        known.setdefault(tuple(above), {})[name] = Baseline(was, was)
    for path in folders:
        *above, name = path.encode().split(b"/")
        known.setdefault(tuple(above), {})[name] = Baseline(Seen(0, None), Seen(0, None), folder=True)
    return known


def shown(below: Below) -> str:
    return b"/".join(below).decode()


def doings(here: Tree, there: Tree, known: dict[Below, dict[bytes, Baseline]], wish: SyncWish) -> dict[str, Doing]:
    found = compared(here, there, known)
    each = proposed(found.rows, wish, bars(here, there)).each
    return {shown(row.below): doing for row, doing in zip(found.rows, each, strict=True)}


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


def test_below_a_folder_that_could_not_be_read_nothing_is_done() -> None:
    files = {"img/a": (1, 0), "img/deep/b": (1, 0), "c": (1, 0)}
    here, there = a_tree(files), a_tree(files)
    unread = Tree({below: one for below, one in here.folders.items() if below != (b"img",)}, {(b"img",): "no right"})

    found = compared(unread, there, level_at(files, "img", "img/deep"))

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
    assert steps.left == [((b"old",), "holds what stays")]


def test_what_a_sieve_holds_back_is_neither_carried_nor_removed_with_its_folder() -> None:
    here = a_tree({"a.psd": (9, 0), "c": (1, 0)})
    there = a_tree({"c": (1, 0), "old/b.psd": (9, 0), "old/b.html": (2, 0)})

    def held(below: Below, _: Entry | None, __: Entry | None) -> str:
        return "working files" if below[-1].endswith(b".psd") else ""

    found = compared(here, there, {}, held=held)
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

    found = compared(here, there, {}, held=lambda below, *_: "house rules" if below[-1] == b".git" else "")

    assert [(shown(row.below), row.held) for row in found.rows] == [(".git", "house rules")]


def test_a_folder_of_which_everything_stays_behind_stays_too() -> None:
    here = a_tree({"drafts/deep/a.psd": (1, 0), "mixed/a.psd": (1, 0), "mixed/b.html": (1, 0)}, folders=("empty",))

    found = compared(here, a_tree({}), {}, held=lambda below, *_: "files" if below[-1].endswith(b".psd") else "")

    assert {shown(row.below): row.held for row in found.rows} == {
        "drafts": "files",
        "drafts/deep": "files",
        "drafts/deep/a.psd": "files",
        "empty": "",
        "mixed": "",
        "mixed/a.psd": "files",
        "mixed/b.html": "",
    }


def planned(
    here: Tree,
    there: Tree,
    known: dict[Below, dict[bytes, Baseline]],
    wish: SyncWish,
    chosen: Mapping[str, Doing] | None = None,
) -> SyncSteps:
    found = compared(here, there, known)
    offered = proposed(found.rows, wish, bars(here, there))
    numbers = {shown(row.below): number for number, row in enumerate(found.rows)}
    each = decided(found.rows, offered, {numbers[path]: doing for path, doing in (chosen or {}).items()})
    return sync_steps(found.rows, each, here, there)


def test_a_file_in_place_of_a_folder_waits_for_a_decision_and_clears_the_way() -> None:
    here = a_tree({"news": (5, 9)})
    there = a_tree({"news/a.html": (1, 0), "news/img/b.png": (1, 0)})

    assert doings(here, there, {}, PUBLISH) == {"news": Doing.DECIDE}
    steps = planned(here, there, {}, PUBLISH, {"news": Doing.UPLOAD})

    assert [(step.action, shown(step.target)) for step in steps.there] == [
        (Action.REMOVE, "news/a.html"),
        (Action.REMOVE, "news/img/b.png"),
        (Action.REMOVE_FOLDER, "news/img"),
        (Action.REMOVE_FOLDER, "news"),
        (Action.CARRY, "news"),
    ]
    steps = planned(here, there, {}, PUBLISH, {"news": Doing.DOWNLOAD})
    assert [(step.action, shown(step.target)) for step in steps.here] == [
        (Action.REMOVE, "news"),
        (Action.MAKE_FOLDER, "news"),
        (Action.MAKE_FOLDER, "news/img"),
        (Action.CARRY, "news/img/b.png"),
        (Action.CARRY, "news/a.html"),
    ]


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


def test_a_renaming_that_is_not_wanted_leaves_two_names_on_their_own() -> None:
    known = level_at({"old.html": (9, 0), "b": (1, 0)})
    here, there = a_tree({"new.html": (9, 0), "b": (1, 0)}), a_tree({"old.html": (9, 0), "b": (1, 0)})

    steps = planned(here, there, known, LEVEL, {"new.html": Doing.UPLOAD})

    assert [(step.action, shown(step.target)) for step in steps.there] == [
        (Action.CARRY, "new.html"),
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
    found = compared(a_tree({"new.html": (9, 0), "b": (1, 0)}), a_tree({"old.html": (9, 0), "b": (1, 0)}), known)

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


def test_both_contents_are_kept_on_both_sides() -> None:
    files = {"a.html": (1, 0)}
    here, there = a_tree({"a.html": (2, 9)}), a_tree({"a.html": (3, 9)})

    steps = planned(here, there, level_at(files), LEVEL, {"a.html": Doing.BOTH})

    assert [(step.action, shown(step.source), shown(step.target)) for step in steps.there] == [
        (Action.CARRY, "a.html", "a-2.html")
    ]
    assert [(step.action, shown(step.source), shown(step.target)) for step in steps.here] == [
        (Action.MOVE, "a.html", "a-2.html"),
        (Action.CARRY, "a.html", "a.html"),
    ]


def test_links_and_devices_are_left_with_a_reason() -> None:
    here = a_tree({"b": (1, 0)}, ("", a_link("www", "htdocs")), ("", Entry(b"pipe", Kind.OTHER)))

    found = compared(here, a_tree({"b": (1, 0)}), {})
    each = proposed(found.rows, PUBLISH)

    assert each.each == [Doing.LEAVE, Doing.LEAVE]
    assert each.why == ["neither a file nor a folder", "links are not carried"]


def test_a_link_that_stands_against_a_file_is_removed_only_when_chosen() -> None:
    here, there = a_tree({"a": (1, 0)}), a_tree({}, ("", a_link("a", "b")), folders=("b",))

    assert doings(here, there, {}, LEVEL)["a"] is Doing.DECIDE
    steps = planned(here, there, {}, LEVEL, {"a": Doing.UPLOAD})

    assert [step.action for step in steps.there] == [Action.REMOVE, Action.CARRY]
    assert Doing.DOWNLOAD not in choices_of(compared(here, there, {}).rows[0], Doing.DECIDE)


def test_pages_go_after_what_they_refer_to_and_removals_after_all() -> None:
    here = a_tree({"index.html": (1, 0), "new/site.css": (1, 0), "fares.html": (1, 0)})
    there = a_tree({"old/x.css": (1, 0)})

    steps = planned(here, there, {}, PUBLISH)

    assert [shown(step.target) for step in steps.there] == [
        "new",
        "new/site.css",
        "fares.html",
        "index.html",
        "old/x.css",
        "old",
    ]


def test_an_hour_by_which_a_server_jumps_changes_nothing() -> None:
    files = {f"{n}.html": (n, n * 60) for n in range(1, 9)}
    jumped = a_tree({path: (size, at + 3600) for path, (size, at) in files.items()})

    found = compared(a_tree(files), jumped, level_at(files))

    assert (found.rows, found.same) == ([], 8)


def test_by_size_a_clock_does_not_matter() -> None:
    files = {"a": (1, 0)}

    found = compared(a_tree(files), a_tree({"a": (1, 99_999)}), {}, compare=Compare.SIZE)

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

    found = compared(here, there, level_at(known), compare=Compare.CONTENT, equal={(b"a",): equal})

    assert [row.standing.joint for row in found.rows] == ([joint] if joint else [])


def test_contents_that_differ_under_equal_times_are_found() -> None:
    files = {"a": (5, 0)}

    found = compared(a_tree(files), a_tree(files), level_at(files), compare=Compare.CONTENT, equal={(b"a",): False})

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


def test_folders_know_what_stands_below_them() -> None:
    here = a_tree({"a/x": (1, 9), "a/deep/y": (1, 0), "c": (1, 0)})
    there = a_tree({"a/x": (2, 0), "b/z": (1, 0), "c": (1, 0)})

    found = rolled(compared(here, there, {}).rows)

    assert found[(b"a",)] == Rolled(ups=3)
    assert found[()] == Rolled(ups=3, downs=2)


# --- laws

_NAMES = st.sampled_from(["a", "b", "index.html", "site.css"])
_PATHS = st.one_of(_NAMES, st.tuples(st.sampled_from(["d", "e"]), _NAMES).map("/".join))
_FILES = st.dictionaries(_PATHS, st.tuples(st.integers(1, 3), st.sampled_from([0, 60, 7200])), max_size=7)


def applied(tree: Tree, steps: list[PlanStep], other: Tree) -> Tree:
    """What a side holds once its steps are carried out; fails where one cannot be."""
    names = {(*folder, entry.name): entry for folder, entries in tree.folders.items() for entry in entries}
    far = {(*folder, entry.name): entry for folder, entries in other.folders.items() for entry in entries}
    for step in steps:
        above = step.target[:-1]
        assert not above or names[above].is_folder, f"{step} has no folder"
        match step.action:
            case Action.MAKE_FOLDER:
                assert step.target not in names
                names[step.target] = Entry(step.target[-1], Kind.FOLDER)
            case Action.CARRY:
                assert names.get(step.target) == step.replaces
                assert far[step.source] == step.entry
                names[step.target] = replace(step.entry, name=step.target[-1])
            case Action.MOVE:
                assert step.target not in names
                names[step.target] = replace(names.pop(step.source), name=step.target[-1])
            case Action.REMOVE | Action.REMOVE_FOLDER:
                gone = names.pop(step.target)
                assert gone == step.entry
                assert not any(below[: len(step.target)] == step.target for below in names)
    folders: dict[Below, list[Entry]] = {(): []} | {below: [] for below, one in names.items() if one.is_folder}
    for below, entry in names.items():
        folders[below[:-1]].append(entry)
    return Tree(folders)


def contents(tree: Tree) -> dict[str, tuple[int, int]]:
    return {
        shown((*folder, entry.name)): (entry.size, int(entry.stamp.at_s - NOON_S) if entry.stamp else 0)
        for folder, entries in tree.folders.items()
        for entry in entries
        if entry.is_file
    }


def carried_out(
    here: Tree, there: Tree, known: dict[Below, dict[bytes, Baseline]], wish: SyncWish, clash: Doing
) -> tuple[Tree, Tree, Comparison, Doings]:
    found = compared(here, there, known)
    offered = proposed(found.rows, wish)
    wanted = {
        number: clash if clash in choices_of(row, Doing.DECIDE) else choices_of(row, Doing.DECIDE)[0]
        for number, row in enumerate(found.rows)
        if offered.each[number] is Doing.DECIDE
    }
    each = decided(found.rows, offered, wanted)
    assert each.undecided == 0
    steps = sync_steps(found.rows, each, here, there)
    far = applied(there, steps.there, here)
    # The side here changes after the other, so that what goes up is still where the plan saw it.
    return applied(here, steps.here, there), far, found, each


@given(_FILES, _FILES, _FILES)
@settings(max_examples=300)
def test_publishing_makes_there_like_here_and_leaves_here_alone(here: Files, there: Files, known: Files) -> None:
    one, two = a_tree(here), a_tree(there)

    near, far, _, each = carried_out(one, two, level_at(known), PUBLISH, Doing.UPLOAD)

    left = {Doing.DOWNLOAD, Doing.REMOVE_HERE} & set(each.each)
    if not left:
        assert contents(near) == here
        assert {path: size for path, (size, _) in contents(far).items()} == {
            path: size for path, (size, _) in here.items()
        }


@given(_FILES, _FILES)
@settings(max_examples=200)
def test_after_a_plan_another_finds_nothing_to_do(here: Files, there: Files) -> None:
    for wish, clash in ((PUBLISH, Doing.UPLOAD), (FETCH, Doing.DOWNLOAD), (LEVEL, Doing.UPLOAD)):
        near, far, _, _ = carried_out(a_tree(here), a_tree(there), {}, wish, clash)

        again = compared(near, far, {})

        assert [row for row in again.rows if proposed([row], wish).each[0] in ACTING | {Doing.DECIDE}] == []


@given(_FILES, _FILES)
@settings(max_examples=200)
def test_publishing_and_then_fetching_changes_nothing_here(here: Files, there: Files) -> None:
    near, far, _, _ = carried_out(a_tree(here), a_tree(there), {}, PUBLISH, Doing.UPLOAD)
    found = compared(near, far, {})

    steps = sync_steps(found.rows, proposed(found.rows, FETCH), near, far)

    assert (steps.here, steps.there) == ([], [])


@given(_FILES, _FILES, _FILES, st.sampled_from([Doing.UPLOAD, Doing.DOWNLOAD, Doing.BOTH]))
@settings(max_examples=300)
def test_levelling_loses_no_content(here: Files, there: Files, known: Files, clash: Doing) -> None:
    one, two = a_tree(here), a_tree(there)
    found = compared(one, two, level_at(known))
    near, far, _, _ = carried_out(one, two, level_at(known), LEVEL, clash)
    kept = [
        step.replaces
        for side in SideName
        for step in sync_steps(found.rows, _each(found, LEVEL, clash), one, two).on(side)
        if step.replaces is not None
    ]

    after = {size_time for tree in (near, far) for size_time in contents(tree).values()}
    after |= {(one.size, int(one.stamp.at_s - NOON_S)) for one in kept if one.stamp}

    assert {*here.values(), *there.values()} <= after


def _each(found: Comparison, wish: SyncWish, clash: Doing) -> Doings:
    offered = proposed(found.rows, wish)
    wanted = {
        number: clash if clash in choices_of(row, Doing.DECIDE) else choices_of(row, Doing.DECIDE)[0]
        for number, row in enumerate(found.rows)
        if offered.each[number] is Doing.DECIDE
    }
    return decided(found.rows, offered, wanted)


@given(_FILES, _FILES, _FILES, st.sampled_from(list(Direction)), st.sets(_NAMES, min_size=1))
@settings(max_examples=200)
def test_what_a_sieve_holds_back_is_on_its_side_afterwards(
    here: Files, there: Files, known: Files, way: Direction, held_names: set[str]
) -> None:
    one, two = a_tree(here), a_tree(there)

    def held(below: Below, _: Entry | None, __: Entry | None) -> str:
        return "held" if shown(below[-1:]) in held_names else ""

    found = compared(one, two, level_at(known), held=held)
    offered = proposed(found.rows, SyncWish(way, Removals.FOLLOW))
    wanted = {
        number: choices_of(row, Doing.DECIDE)[0]
        for number, row in enumerate(found.rows)
        if offered.each[number] is Doing.DECIDE
    }
    steps = sync_steps(found.rows, decided(found.rows, offered, wanted), one, two, held)

    for tree, after in ((here, applied(one, steps.here, two)), (there, applied(two, steps.there, one))):
        stays = {path: what for path, what in tree.items() if path.split("/")[-1] in held_names}
        assert {path: contents(after).get(path) for path in stays} == stays


def test_the_top_itself_unread_leaves_everything() -> None:
    row = compared(Tree({}, {(): "no right"}), a_tree({"a": (1, 0)}), {}).rows[0]

    assert isinstance(row, SyncRow)
    assert (row.below, proposed([row], PUBLISH).each) == ((), [Doing.LEAVE])


def test_an_entry_seen_twice_is_level_by_what_it_was() -> None:
    entry = a_file()

    assert seen(entry) == Seen(entry.size, entry.stamp)
    assert not a_folder().is_file


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
    assert ends_of(replace(row, here=replace(a_file("a"), access=0o600))) == ends_of(row)
    assert len(ends_of(row)) == 16


@pytest.mark.parametrize("unsure", ["problem", "lack"])
def test_a_folder_in_the_way_that_is_not_all_known_stays(unsure: str) -> None:
    """A file is to take the name of a folder of which a part could not be read."""
    here = Tree({(): [a_file("x", 3)]})
    inside = {(): [a_folder("x")], (b"x",): [a_folder("deep")]}
    deep = (b"x", b"deep")
    problems = {deep: "cannot be read"} if unsure == "problem" else {}
    lacks = {deep: NotWhole(Lack.CUT)} if unsure == "lack" else {}
    there = Tree(inside if unsure == "problem" else inside | {deep: []}, problems, lacks)
    found = compared(here, there, {})
    (row,) = [row for row in found.rows if row.below == (b"x",)]
    doings = decided(found.rows, proposed(found.rows, SyncWish()), {found.rows.index(row): Doing.UPLOAD})

    steps = sync_steps(found.rows, doings, here, there)

    assert steps.there == []
    assert dict(steps.left)[(b"x",)] == "not all of what is in the way could be read"
