"""Laws of sync that hold for all trees."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from nailer.core.compare.joint import Baseline
from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.differences import trees_compared
from nailer.core.pairs.proposals import choices_of, decided, proposed
from nailer.core.pairs.rows import Comparison, Decisions
from nailer.core.pairs.steps import sync_steps
from nailer.core.pairs.wishes import ACTING, Direction, Doing, Removals, SyncWish
from nailer.core.plans.plan import Action, PlanStep
from tests.builders import NOON_S
from tests.core.pairs.trees import FETCH, LEVEL, PUBLISH, Files, a_tree, level_at, shown

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
            case Action.TRANSFER:
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
    folders: dict[RelativePath, list[Entry]] = {(): []} | {below: [] for below, one in names.items() if one.is_folder}
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
    here: Tree, there: Tree, known: dict[RelativePath, dict[bytes, Baseline]], wish: SyncWish, clash: Doing
) -> tuple[Tree, Tree, Comparison, Decisions]:
    found = trees_compared(here, there, known)
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


def _each(found: Comparison, wish: SyncWish, clash: Doing) -> Decisions:
    offered = proposed(found.rows, wish)
    wanted = {
        number: clash if clash in choices_of(row, Doing.DECIDE) else choices_of(row, Doing.DECIDE)[0]
        for number, row in enumerate(found.rows)
        if offered.each[number] is Doing.DECIDE
    }
    return decided(found.rows, offered, wanted)


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

        again = trees_compared(near, far, {})

        assert [row for row in again.rows if proposed([row], wish).each[0] in ACTING | {Doing.DECIDE}] == []


@given(_FILES, _FILES)
@settings(max_examples=200)
def test_publishing_and_then_fetching_changes_nothing_here(here: Files, there: Files) -> None:
    near, far, _, _ = carried_out(a_tree(here), a_tree(there), {}, PUBLISH, Doing.UPLOAD)
    found = trees_compared(near, far, {})

    steps = sync_steps(found.rows, proposed(found.rows, FETCH), near, far)

    assert (steps.here, steps.there) == ([], [])


@given(_FILES, _FILES, _FILES, st.sampled_from([Doing.UPLOAD, Doing.DOWNLOAD, Doing.BOTH]))
@settings(max_examples=300)
def test_levelling_loses_no_content(here: Files, there: Files, known: Files, clash: Doing) -> None:
    one, two = a_tree(here), a_tree(there)
    found = trees_compared(one, two, level_at(known))
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


@given(_FILES, _FILES, _FILES, st.sampled_from(list(Direction)), st.sets(_NAMES, min_size=1))
@settings(max_examples=200)
def test_what_a_sieve_holds_back_is_on_its_side_afterwards(
    here: Files, there: Files, known: Files, way: Direction, held_names: set[str]
) -> None:
    one, two = a_tree(here), a_tree(there)

    def held(below: RelativePath, _: Entry | None, __: Entry | None) -> str:
        return "held" if shown(below[-1:]) in held_names else ""

    found = trees_compared(one, two, level_at(known), held=held)
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
