"""How a replacement is shown: its names in groups, the one that needs a person first, and its steps."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.packages.replacing import ONLY_OLD, Fate, PackageRow, Take
from nailer.services.packages import Replacement, ReplacementKind, ReplacementPlan, ReplacementState

_MOST_ROWS = 400
_State = ReplacementState

TAKE_WORDS = {
    Take.NEW: "take the new one",
    Take.OLD: "keep the current version",
    Take.JOINED: "use the merged version",
    Take.CARRY: "keep it in the new version",
    Take.LEAVE: "leave it in the old version",
    Take.DROP: "do not keep it",
}


@dataclass(frozen=True, slots=True)
class RowGroup:
    """Names that belong together: `rows` are the first of `count`. `fates` and `takes` serve a choice for all of them."""

    key: str
    title: str
    help: str
    rows: Sequence[PackageRow]
    count: int
    fates: tuple[Fate, ...] = ()
    takes: tuple[Take, ...] = ()
    is_open: bool = True


def groups_of(plan: ReplacementPlan) -> list[RowGroup]:
    """The names of a plan: what a person must decide, hand edits, what only the old has, and what just comes."""
    if plan.one.kind is ReplacementKind.REMOVE:
        return []  # all of it goes: there is nothing to decide
    waiting = [row for row in plan.rows if row.taken(plan.one.choices) is None]
    first = {row.below for row in waiting}
    rest = [row for row in plan.rows if row.below not in first]

    def _with(*fates: Fate) -> list[PackageRow]:
        return [row for row in rest if row.fate in fates]

    only_old = (Fate.OWN, Fate.LEFTOVER, Fate.UNSURE)
    groups = [
        RowGroup("decide", "To decide", "Nothing is replaced until you have decided these.", waiting, len(waiting)),
        RowGroup("edits", "Hand edits", "", _with(Fate.EDITED, Fate.MERGED, Fate.CLASH), 0),
        RowGroup("only-old", "Only in the old version", "", _with(*only_old), 0, only_old, ONLY_OLD),
        RowGroup("changed", "Changed", "", _with(Fate.CHANGED), 0),
        RowGroup("added", "Added", "", _with(Fate.ADDED), 0),
        RowGroup("same", "The same in both", "", _with(Fate.SAME), 0, is_open=False),
    ]
    if any(row.fate is Fate.UNSURE for row in waiting):
        groups[0] = RowGroup("decide", groups[0].title, groups[0].help, waiting, len(waiting), (Fate.UNSURE,), ONLY_OLD)
    return [_cut(one) for one in groups if one.rows]


def _cut(one: RowGroup) -> RowGroup:
    rows = one.rows[:_MOST_ROWS]
    few = len(one.rows) <= 40
    return RowGroup(
        one.key,
        one.title,
        one.help,
        rows,
        len(one.rows),
        one.fates,
        one.takes,
        one.is_open and (few or one.key == "decide"),
    )


@dataclass(frozen=True, slots=True)
class RunStep:
    """One step of carrying out: `state` is done, now, next, or left."""

    words: str
    state: str


_ORDER = (_State.BUILDING, _State.SWAPPING, _State.LOOKING)
_WORDS = {
    ReplacementKind.REPLACE: (
        "New version built next to the old one and verified",
        "Two renames: the old one aside, the new one in its place",
        "Version read back, pages fetched as visitors get them",
    ),
    ReplacementKind.INSTALL: (
        "Built under a hidden name, and compared with what was wanted",
        "One rename puts it in place",
        "Version read back, pages fetched as visitors get them",
    ),
    ReplacementKind.REMOVE: (
        "Copied, every file with its hash",
        "One rename: it is set aside under a hidden name",
        "Pages fetched as visitors get them",
    ),
}


def steps_of(one: Replacement) -> list[RunStep]:
    """The steps of one that is carried out, each with how far it is."""
    words: tuple[str, ...] = _WORDS[one.kind]
    if one.in_place:
        words = ("Replaced file by file, each old one kept", *words[2:])
    order = [state for state in _ORDER if not (one.in_place and state is _State.SWAPPING)]
    ended = one.state in (_State.IN_PLACE, _State.BACK, _State.RESTORING)
    now = order.index(one.state) if one.state in order else None
    steps = []
    for number, text in enumerate(words):
        if ended or (now is not None and number < now):
            state = "done"
        else:
            state = "now" if number == now else "left" if one.state is _State.FAILED else "next"
        steps.append(RunStep(text, state))
    if one.state in (_State.RESTORING, _State.BACK):
        steps.append(RunStep("Old version restored", "done" if one.state is _State.BACK else "now"))
    return steps
