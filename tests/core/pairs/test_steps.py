"""The steps of a decided plan: their order, what stays because of what, and their counts."""

from __future__ import annotations

import pytest

from nailer.core.compare.joint import Joint, Standing
from nailer.core.files.completeness import Incomplete, Lack
from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.differences import trees_compared
from nailer.core.pairs.proposals import decided, proposed
from nailer.core.pairs.rows import Decisions, SyncRow
from nailer.core.pairs.steps import Flow, SyncSteps, flow_of, removals_share, sync_steps
from nailer.core.pairs.wishes import Doing, SyncWish
from nailer.core.plans.plan import Action, PlanStep, Verdict
from tests.builders import NOON_S, a_file, a_folder, a_link
from tests.core.pairs.trees import LEVEL, PUBLISH, a_tree, doings, level_at, planned, shown

PAGE = a_file("a.html", 100, NOON_S)
DEVICE = Entry(b"pipe", Kind.OTHER)


def a_row(path: str, here: Entry | None, there: Entry | None) -> SyncRow:
    return SyncRow(tuple(path.encode().split(b"/")), here, there, Standing(Joint.BOTH_CHANGED, "as chosen"))


def made(row: SyncRow, doing: Doing, here: Tree, there: Tree, held: str = "") -> SyncSteps:
    """The steps of one decided row; `held` is the name that a sieve holds back."""
    return sync_steps(
        [row], chosen([doing]), here, there, lambda below, _, __: "drafts" if held in _words(below) else ""
    )


def chosen(each: list[Doing]) -> Decisions:
    return Decisions(each, [""] * len(each), {})


def _words(below: RelativePath) -> list[str]:
    return [part.decode() for part in below]


def told(steps: list[PlanStep]) -> list[str]:
    """Steps as `action path`, with the old path of a move."""
    return [f"{one.action} {b'/'.join(one.target).decode()}" for one in steps]


@pytest.mark.parametrize(("files", "removed", "share"), [(0, 0, 0.0), (1, 1, 1.0), (4, 1, 0.25)])
def test_the_share_that_is_removed_is_of_the_files_of_that_side(files: int, removed: int, share: float) -> None:
    tree = Tree({(): [a_folder("img"), *(a_file(f"{number}.html") for number in range(files))]})

    assert removals_share(tree, removed) == share


def test_a_kept_second_content_gets_a_name_that_is_free_on_both_sides() -> None:
    here = Tree({(): [a_folder("sub")], (b"sub",): [PAGE, a_file("a-2.html")]})
    there = Tree({(): [a_folder("sub")], (b"sub",): [PAGE, a_file("a-3.html")]})

    steps = made(a_row("sub/a.html", PAGE, PAGE), Doing.BOTH, here, there)

    assert told(steps.there) == ["transfer sub/a-4.html"]
    assert told(steps.here) == ["move sub/a-4.html", "transfer sub/a.html"]


@pytest.mark.parametrize(
    ("doing", "side"), [(Doing.UPLOAD, SideName.THERE), (Doing.DOWNLOAD, SideName.HERE)], ids=["up", "down"]
)
def test_a_folder_in_place_of_a_file_brings_what_may_be_carried(doing: Doing, side: SideName) -> None:
    folder, file = a_folder("a"), a_file("a")
    held, link, page = a_file("held.html"), a_link("link"), a_file("page.html")
    full = Tree({(): [folder], (b"a",): [held, link, DEVICE, page, a_folder("deep")], (b"a", b"deep"): [page]})
    plain = Tree({(): [file]})
    here, there = (full, plain) if doing is Doing.UPLOAD else (plain, full)
    row = a_row("a", here.folders[()][0], there.folders[()][0])

    steps = made(row, doing, here, there, held="held.html")

    assert told(steps.on(side)) == [
        "remove a",
        "make-folder a",
        "make-folder a/deep",
        "transfer a/deep/page.html",
        "transfer a/page.html",
    ]
    assert steps.on(side.other) == []


@pytest.mark.parametrize("side", list(SideName))
@pytest.mark.parametrize(
    ("inside", "held", "stays"),
    [
        pytest.param(a_file("b.html"), "", "", id="all of it goes"),
        pytest.param(a_file("b.html"), "b.html", "a sieve holds back", id="a sieve holds a part back"),
        pytest.param(DEVICE, "", "a sieve holds back", id="a device"),
    ],
)
def test_what_is_in_the_way_goes_whole_or_not_at_all(side: SideName, inside: Entry, held: str, stays: str) -> None:
    full, plain = Tree({(): [a_folder("a")], (b"a",): [inside]}), Tree({(): [a_file("a")]})
    here, there = (full, plain) if side is SideName.HERE else (plain, full)
    row = a_row("a", here.folders[()][0], there.folders[()][0])

    steps = made(row, Doing.DOWNLOAD if side is SideName.HERE else Doing.UPLOAD, here, there, held=held or "nothing")

    if stays:
        assert (steps.on(side), steps.left[0][1][: len(stays)]) == ([], stays)
    else:
        assert told(steps.on(side)) == ["remove a/b.html", "remove-folder a", "transfer a"]


def test_a_sieve_sees_what_is_in_the_way_on_the_side_where_it_is() -> None:
    seen_at: list[tuple[bool, bool]] = []

    def held(_: RelativePath, near: Entry | None, far: Entry | None) -> str:
        seen_at.append((near is not None, far is not None))
        return ""

    full, plain = Tree({(): [a_folder("a")], (b"a",): [PAGE]}), Tree({(): [a_file("a")]})
    row = a_row("a", plain.folders[()][0], full.folders[()][0])
    sync_steps([row], chosen([Doing.UPLOAD]), plain, full, held)
    sync_steps([row], chosen([Doing.DOWNLOAD]), plain, full, held)

    assert seen_at == [(False, True), (False, True)]


def test_folders_above_a_file_are_made_first_and_once() -> None:
    here = Tree({(): [a_folder("x")], (b"x",): [a_folder("y")], (b"x", b"y"): [PAGE, a_file("b.css")]})
    rows = [a_row("x/y/a.html", PAGE, None), a_row("x/y/b.css", a_file("b.css"), None)]

    steps = sync_steps(rows, chosen([Doing.UPLOAD] * 2), here, Tree({(): []}))

    assert told(steps.there) == ["make-folder x", "make-folder x/y", "transfer x/y/b.css", "transfer x/y/a.html"]


@pytest.mark.parametrize(
    ("staying", "lacks", "goes"),
    [
        pytest.param([], {}, ["remove a/b/p.html", "remove-folder a/b", "remove-folder a"], id="all goes"),
        pytest.param([a_file("q.html")], {}, ["remove a/b/p.html", "remove-folder a/b"], id="a file stays"),
        pytest.param([], {(b"a", b"b"): Incomplete(Lack.CUT)}, ["remove a/b/p.html"], id="not all was read"),
    ],
)
def test_a_folder_goes_after_all_in_it_or_stays(
    staying: list[Entry], lacks: dict[RelativePath, Incomplete], goes: list[str]
) -> None:
    page = a_file("p.html")
    there = Tree({(): [a_folder("a")], (b"a",): [a_folder("b"), *staying], (b"a", b"b"): [page]}, lacks=lacks)
    rows = [a_row("a", None, a_folder("a")), a_row("a/b", None, a_folder("b")), a_row("a/b/p.html", None, page)]

    steps = sync_steps(rows, chosen([Doing.REMOVE_THERE] * 3), Tree({(): []}), there)

    assert told(steps.there) == goes
    assert len(steps.left) == 3 - len(goes)


def test_a_folder_stays_where_something_comes_into_it() -> None:
    there = Tree({(): [a_folder("a")], (b"a",): []})
    rows = [a_row("a", None, a_folder("a")), a_row("a/new.html", a_file("new.html"), None)]

    steps = sync_steps(rows, chosen([Doing.REMOVE_THERE, Doing.UPLOAD]), Tree({(): []}), there)

    assert told(steps.there) == ["transfer a/new.html"]
    assert steps.left == [((b"a",), "contains files that stay")]


def test_a_removed_name_is_free_for_what_is_kept_beside() -> None:
    """Names of one folder are given out once; one that goes is free."""
    here = Tree({(): [PAGE, a_file("a-2.html")]})
    there = Tree({(): [PAGE, a_file("a-2.html")]})
    gone = a_row("a-2.html", a_file("a-2.html"), a_file("a-2.html"))

    steps = sync_steps([gone, a_row("a.html", PAGE, PAGE)], chosen([Doing.REMOVE_THERE, Doing.BOTH]), here, there)

    assert "transfer a-3.html" in told(steps.there), "here the name is still taken"


def test_every_step_is_counted_where_it_belongs() -> None:
    def step(action: Action, size: int = 0, verdict: Verdict = Verdict.NEW) -> PlanStep:
        return PlanStep(action, (b"a",), (b"a",), a_file("a", size), verdict, "")

    steps = SyncSteps(
        here=[step(Action.TRANSFER, 5), *[step(Action.REMOVE)] * 3, step(Action.MAKE_FOLDER)],
        there=[
            step(Action.TRANSFER, 7),
            step(Action.TRANSFER, 11, Verdict.REPLACES_NEWER),
            step(Action.REMOVE),
            *[step(Action.MOVE)] * 4,
            step(Action.REMOVE_FOLDER),
        ],
        left=[],
    )

    assert flow_of(steps) == Flow(2, 18, 1, 5, removed_here=3, removed_there=1, renamed=4, folders=2, newer_replaced=1)
    assert flow_of(steps).steps == 13
    assert flow_of(SyncSteps([], [], [])) == Flow(0, 0, 0, 0, 0, 0, 0, 0, 0)


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
        (Action.TRANSFER, "news"),
    ]
    steps = planned(here, there, {}, PUBLISH, {"news": Doing.DOWNLOAD})
    assert [(step.action, shown(step.target)) for step in steps.here] == [
        (Action.REMOVE, "news"),
        (Action.MAKE_FOLDER, "news"),
        (Action.MAKE_FOLDER, "news/img"),
        (Action.TRANSFER, "news/img/b.png"),
        (Action.TRANSFER, "news/a.html"),
    ]


def test_both_contents_are_kept_on_both_sides() -> None:
    files = {"a.html": (1, 0)}
    here, there = a_tree({"a.html": (2, 9)}), a_tree({"a.html": (3, 9)})

    steps = planned(here, there, level_at(files), LEVEL, {"a.html": Doing.BOTH})

    assert [(step.action, shown(step.source), shown(step.target)) for step in steps.there] == [
        (Action.TRANSFER, "a.html", "a-2.html")
    ]
    assert [(step.action, shown(step.source), shown(step.target)) for step in steps.here] == [
        (Action.MOVE, "a.html", "a-2.html"),
        (Action.TRANSFER, "a.html", "a.html"),
    ]


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


@pytest.mark.parametrize("unsure", ["problem", "lack"])
def test_a_folder_in_the_way_that_is_not_all_known_stays(unsure: str) -> None:
    """A file is to take the name of a folder of which a part could not be read."""
    here = Tree({(): [a_file("x", 3)]})
    inside = {(): [a_folder("x")], (b"x",): [a_folder("deep")]}
    deep = (b"x", b"deep")
    problems = {deep: "cannot be read"} if unsure == "problem" else {}
    lacks = {deep: Incomplete(Lack.CUT)} if unsure == "lack" else {}
    there = Tree(inside if unsure == "problem" else inside | {deep: []}, problems, lacks)
    found = trees_compared(here, there, {})
    (row,) = [row for row in found.rows if row.below == (b"x",)]
    doings = decided(found.rows, proposed(found.rows, SyncWish()), {found.rows.index(row): Doing.UPLOAD})

    steps = sync_steps(found.rows, doings, here, there)

    assert steps.there == []
    assert dict(steps.left)[(b"x",)] == "not all of what is in the way could be read"
