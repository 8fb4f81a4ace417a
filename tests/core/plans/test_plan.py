"""Plans: what they do with each thing they meet, and laws that hold for all trees."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.compare.joint import Joint
from nailer.core.files.entry import NS, Entry, Kind, SideName, Stamp
from nailer.core.plans.plan import (
    Action,
    Answers,
    Choice,
    FoundFile,
    KnownOfBoth,
    PlanStep,
    Summary,
    Verdict,
    chosen,
    removal_plan,
    summary,
    summary_sentence,
    transfer_plan,
)
from tests.builders import NOON_S, a_file, a_folder, a_link

NEW, OLD = a_file(size=5, at_s=NOON_S + 900), a_file(size=4, at_s=NOON_S)


def found(entry: Entry, *above: str) -> FoundFile:
    return FoundFile((*(name.encode() for name in above), entry.name), entry)


def under(steps: list[PlanStep], choice: Choice) -> list[Choice | None]:
    """One choice for all that is there already."""
    return [Answers(choice).of(step, number) for number, step in enumerate(steps)]


@pytest.mark.parametrize(
    ("there", "verdict"),
    [
        (None, Verdict.NEW),
        (OLD, Verdict.REPLACES),
        (a_file(size=4, at_s=NOON_S + 5000), Verdict.REPLACES_NEWER),
        (NEW, Verdict.SAME),
        (a_folder("index.html"), Verdict.LEFT),
        (a_link("index.html"), Verdict.LEFT),
    ],
)
def test_what_a_file_meets(there: Entry | None, verdict: Verdict) -> None:
    (step,) = transfer_plan([found(NEW)], {(b"index.html",): there} if there else {})

    assert step.verdict is verdict
    assert step.reason


def test_what_looks_the_same_goes_only_when_asked_for() -> None:
    met = {(b"index.html",): NEW}

    assert not transfer_plan([found(NEW)], met)[0].acts
    assert transfer_plan([found(NEW)], met, resend_same=True)[0].verdict is Verdict.REPLACES


def test_pages_land_after_what_they_refer_to_and_the_index_last() -> None:
    names = ["index.html", "fares.html", "site.css", "pier.svg"]

    steps = transfer_plan([found(a_file(name)) for name in names], {})

    assert [step.target[-1] for step in steps] == [b"site.css", b"pier.svg", b"fares.html", b"index.html"]


def test_links_and_devices_are_left_with_a_reason() -> None:
    steps = transfer_plan([found(a_link()), found(Entry(b"pipe", Kind.OTHER))], {})

    assert [step.verdict for step in steps] == [Verdict.LEFT, Verdict.LEFT]


def test_nothing_is_carried_under_a_folder_that_cannot_be_made() -> None:
    tree = [found(a_folder("img")), found(a_file("pier.svg"), "img")]

    steps = transfer_plan(tree, {(b"img",): a_file("img")})

    assert all(step.verdict is Verdict.LEFT for step in steps)


def test_a_folder_that_could_not_be_read_is_left_and_said() -> None:
    (step,) = transfer_plan([FoundFile((b"img",), a_folder("img"), problem="Permission refused.")], {})

    assert (step.verdict, step.reason) == (Verdict.LEFT, "Permission refused.")


@pytest.mark.parametrize(
    ("choice", "replaced", "newer"),
    [
        (Choice.REPLACE, True, True),
        (Choice.ONLY_NEWER, True, False),
        (Choice.LEAVE, False, False),
    ],
)
def test_one_choice_for_all_that_is_there(choice: Choice, replaced: bool, newer: bool) -> None:
    met = {(b"index.html",): OLD, (b"fares.html",): a_file("fares.html", at_s=NOON_S + 5000)}
    steps = transfer_plan([found(NEW), found(a_file("fares.html", 9))], met)

    after = {step.target[-1]: step.acts for step in chosen(steps, under(steps, choice), {})}

    assert after == {b"index.html": replaced, b"fares.html": newer}


def test_keeping_both_takes_the_first_free_name() -> None:
    steps = transfer_plan([found(NEW)], {(b"index.html",): OLD})

    (step,) = chosen(steps, under(steps, Choice.KEEP_BOTH), {(): frozenset({b"index.html", b"index-2.html"})})

    assert (step.target, step.replaces, step.verdict) == ((b"index-3.html",), None, Verdict.NEW)


def test_two_kept_beside_each_other_get_different_names() -> None:
    met = {(b"a.txt",): a_file("a.txt", 1), (b"a-2.txt",): a_file("a-2.txt", 1)}
    steps = transfer_plan([found(a_file("a.txt", 7)), found(a_file("a-2.txt", 8))], met)

    after = chosen(steps, under(steps, Choice.KEEP_BOTH), {(): frozenset({b"a.txt", b"a-2.txt"})})

    assert len({step.target for step in after}) == 2
    assert not {step.target for step in after} & met.keys()


def test_an_unread_folder_bars_its_own_removal_and_its_parents() -> None:
    tree = [
        found(a_folder("img")),
        FoundFile((b"img", b"deep"), a_folder("deep"), problem="Permission refused."),
        found(a_file("a.svg"), "img"),
    ]

    verdicts = {step.target: step.verdict for step in removal_plan(tree)}

    assert verdicts[b"img", b"a.svg"] is Verdict.REMOVES
    assert verdicts[(b"img",)] is Verdict.LEFT
    assert verdicts[b"img", b"deep"] is Verdict.LEFT


def test_summary_counts_files_and_bytes() -> None:
    met = {(b"index.html",): OLD}
    counts = summary(transfer_plan([found(NEW), found(a_file("b", 7)), found(a_folder("d"))], met))

    assert (counts.new, counts.replaced, counts.folders, counts.bytes_to_transfer) == (1, 1, 1, 12)


# Trees for the laws: names of two letters, folders nested up to three deep.
names = st.sampled_from([b"a", b"b", b"index.html", b"site.css"])
paths = st.lists(names, min_size=1, max_size=3).map(tuple)


def _closed(raw: dict[tuple[bytes, ...], int]) -> dict[tuple[bytes, ...], Entry]:
    """A real tree: whatever has something below it is a folder."""
    entries: dict[tuple[bytes, ...], Entry] = {}
    folders = {below[:depth] for below in raw for depth in range(1, len(below))}
    for below in folders:
        entries[below] = Entry(below[-1], Kind.FOLDER)
    for below, size in raw.items():
        if below not in folders:
            entries[below] = Entry(below[-1], Kind.FILE, size, Stamp((NOON_S + size * 100) * NS))
    return entries


trees = st.dictionaries(paths, st.integers(0, 3), max_size=12).map(_closed)


def _carried(steps: list[PlanStep], there: dict[tuple[bytes, ...], Entry]) -> dict[tuple[bytes, ...], Entry]:
    """What carrying out a plan leaves there; fails where a step comes before what it needs."""
    after = dict(there)
    for step in steps:
        if not step.acts:
            continue
        above = step.target[:-1]
        assert not above or after[above].is_folder, "a folder is made before what goes into it"
        after[step.target] = step.entry
    return after


@given(here=trees, there=trees)
def test_a_carried_out_plan_leaves_everything_there_that_had_room(
    here: dict[tuple[bytes, ...], Entry], there: dict[tuple[bytes, ...], Entry]
) -> None:
    steps = transfer_plan([FoundFile(below, entry) for below, entry in here.items()], there)

    after = _carried(steps, there)

    left = {step.target for step in steps if step.verdict is Verdict.LEFT}
    for below, entry in here.items():
        assert below in left or after[below].kind is entry.kind
        assert below in left or entry.is_folder or after[below].size == entry.size


@given(here=trees, there=trees)
def test_planning_again_finds_nothing_to_do(
    here: dict[tuple[bytes, ...], Entry], there: dict[tuple[bytes, ...], Entry]
) -> None:
    tree = [FoundFile(below, entry) for below, entry in here.items()]

    after = _carried(transfer_plan(tree, there), there)

    assert not [step for step in transfer_plan(tree, after) if step.acts]


@given(tree=trees)
def test_removal_empties_every_folder_before_it_goes(tree: dict[tuple[bytes, ...], Entry]) -> None:
    left = dict(tree)

    for step in removal_plan([FoundFile(below, entry) for below, entry in tree.items()]):
        if step.action is Action.REMOVE_FOLDER:
            assert not [below for below in left if below[:-1] == step.target]
        del left[step.target]

    assert not left


def a_step(action: Action, verdict: Verdict, entry: Entry = OLD) -> PlanStep:
    return PlanStep(action, (entry.name,), (entry.name,), entry, verdict, "")


def test_every_step_is_counted_where_it_belongs_and_only_files_that_go_weigh() -> None:
    counted = summary(
        [
            a_step(Action.TRANSFER, Verdict.NEW, a_file(size=1)),
            *[a_step(Action.TRANSFER, Verdict.REPLACES, a_file(size=10))] * 2,
            *[a_step(Action.TRANSFER, Verdict.REPLACES_NEWER, a_file(size=100))] * 3,
            *[a_step(Action.TRANSFER, Verdict.SAME, a_file(size=1000))] * 4,
            *[a_step(Action.TRANSFER, Verdict.LEFT, a_file(size=1000))] * 5,
            *[a_step(Action.REMOVE, Verdict.REMOVES, a_file(size=1000))] * 6,
            *[a_step(Action.SET_PERMISSIONS, Verdict.SETS, a_file(size=1000))] * 7,
            *[a_step(Action.MAKE_FOLDER, Verdict.NEW, a_folder("new"))] * 8,
            *[a_step(Action.MAKE_FOLDER, Verdict.SAME, a_folder("same"))] * 9,
            *[a_step(Action.REMOVE_FOLDER, Verdict.LEFT, a_folder("unread"))] * 10,
        ]
    )

    assert counted == Summary(1, 2, 3, 4, left=15, removed=6, set=7, folders=8, bytes_to_transfer=321)
    assert counted.acts == 19
    assert counted + counted == Summary(2, 4, 6, 8, left=30, removed=12, set=14, folders=16, bytes_to_transfer=642)


NOTHING = Summary(0, 0, 0, 0, 0, 0, 0, 0, 0)


@pytest.mark.parametrize(
    ("counted", "sentence"),
    [
        (NOTHING, "nothing to do"),
        (replace(NOTHING, new=3), "3 new"),
        (replace(NOTHING, replaced=2), "2 replaced"),
        (replace(NOTHING, replaced=2, replaced_newer=1), "3 replaced (1 of them newer there)"),
        (replace(NOTHING, removed=1), "1 removed there"),
        (replace(NOTHING, set=1), "1 item with new permissions"),
        (replace(NOTHING, folders=2), "2 folders"),
        (replace(NOTHING, same=1, left=2), "1 already the same, 2 skipped"),
    ],
)
def test_a_plan_is_said_in_one_line(counted: Summary, sentence: str) -> None:
    assert summary_sentence(counted, SideName.THERE) == sentence


@pytest.mark.parametrize(
    ("verdict", "action", "weighs"),
    [
        (Verdict.NEW, Action.TRANSFER, 4),
        (Verdict.LEFT, Action.TRANSFER, 0),
        (Verdict.REMOVES, Action.REMOVE, 0),
        (Verdict.NEW, Action.MOVE, 0),
    ],
)
def test_only_what_is_carried_goes_over_the_line(verdict: Verdict, action: Action, weighs: int) -> None:
    assert a_step(action, verdict).bytes_to_transfer == weighs


def test_keeping_both_gives_each_its_own_free_name() -> None:
    """Two files of one folder, of which one has a name already that the other would get."""
    steps = [
        replace(a_step(Action.TRANSFER, Verdict.REPLACES, a_file("a.html")), target=(b"sub", b"a.html")),
        replace(a_step(Action.TRANSFER, Verdict.NEW, a_file("a-2.html")), target=(b"sub", b"a-2.html")),
        replace(a_step(Action.TRANSFER, Verdict.REPLACES_NEWER, a_file("a.html")), target=(b"sub", b"a.html")),
    ]

    kept = chosen(steps, under(steps, Choice.KEEP_BOTH), {(b"sub",): frozenset({b"a-3.html"})})

    assert [step.target for step in kept] == [(b"sub", b"a-4.html"), (b"sub", b"a-2.html"), (b"sub", b"a-5.html")]


def test_equal_contents_with_another_time_are_the_same_already() -> None:
    met = {(b"index.html",): a_file("index.html", NEW.size, at_s=NOON_S - 90_000)}
    known = KnownOfBoth(equal={(b"index.html",)})

    (step,) = transfer_plan([found(NEW)], met, known=known)
    (sent,) = transfer_plan([found(NEW)], met, known=known, resend_same=True)

    assert (step.verdict, step.acts, sent.acts) == (Verdict.SAME, False, True)


@pytest.mark.parametrize(
    ("answers", "verdict"),
    [
        (Answers(), Verdict.BOTH_CHANGED),
        (Answers(Choice.LEAVE), Verdict.BOTH_CHANGED),
        (Answers(clashes=Choice.REPLACE), Verdict.REPLACES),
        (Answers(clashes=Choice.LEAVE), Verdict.LEFT),
        (Answers(clashes=Choice.KEEP_BOTH), Verdict.NEW),
        (Answers(clashes=Choice.LEAVE, rows={7: Choice.REPLACE}), Verdict.REPLACES),
        (Answers(clashes=Choice.REPLACE, rows={8: Choice.LEAVE}), Verdict.REPLACES),
    ],
)
def test_what_both_sides_changed_waits_for_its_own_decision(answers: Answers, verdict: Verdict) -> None:
    steps = transfer_plan(
        [found(NEW)], {(b"index.html",): OLD}, known=KnownOfBoth({(b"index.html",): Joint.BOTH_CHANGED})
    )
    assert (summary(steps).both_changed, summary(steps).acts) == (1, 0)
    assert summary_sentence(summary(steps), SideName.THERE) == "1 changed on both sides"

    (step,) = chosen(steps, [answers.of(steps[0], 7)], {(): frozenset({b"index.html"})})

    assert (step.verdict, step.acts) == (verdict, verdict in (Verdict.REPLACES, Verdict.NEW))
