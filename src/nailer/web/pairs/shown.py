"""What the sync view shows of a plan: its rows in groups, with words for what will be done, and the picture of the flow."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, tzinfo
from math import log10

from nailer.core.compare.joint import JOINT_WORDS, Joint
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import shown_name
from nailer.core.pairs.proposals import choices_of
from nailer.core.pairs.rows import SyncRow
from nailer.core.pairs.steps import Flow
from nailer.core.pairs.wishes import Doing
from nailer.core.words import count_text, number_text, size_text
from nailer.services.pairs import Pair, SyncPlan
from nailer.web.shell.show import ShownSide, icon, shown_side

_LARGEST_SHOWN = 1_000_000
_PICTURES = (".png", ".jpg", ".jpeg", ".gif", ".webp", ".svg", ".avif")

# The groups of a plan, in the order in which they are read.
GROUPS: tuple[tuple[str, str, tuple[Doing, ...]], ...] = (
    ("decide", "To decide", (Doing.DECIDE,)),
    ("up", "Upload", (Doing.UPLOAD, Doing.BOTH)),
    ("down", "Download", (Doing.DOWNLOAD,)),
    ("rename", "Renamed", (Doing.RENAME_THERE, Doing.RENAME_HERE, Doing.ALONG)),
    ("remove", "Removed", (Doing.REMOVE_THERE, Doing.REMOVE_HERE)),
    ("leave", "Skipped", (Doing.LEAVE,)),
    ("stays", "Stays behind", (Doing.STAYS,)),
)
_GROUP_OF = {doing: number for number, (_, _, doings) in enumerate(GROUPS) for doing in doings}
LOOKS = {
    Doing.UPLOAD: "there",
    Doing.BOTH: "clash",
    Doing.DOWNLOAD: "here",
    Doing.RENAME_THERE: "there",
    Doing.RENAME_HERE: "here",
    Doing.REMOVE_THERE: "bad",
    Doing.REMOVE_HERE: "bad",
    Doing.DECIDE: "clash",
}


def doing_words(pair: Pair) -> dict[Doing, str]:
    """What each thing to be done is called for a pair: between two sites nothing is up or down."""
    between = pair.other_name is not None
    other = pair.other_name or "here"
    return {
        Doing.UPLOAD: f"Transfer to {pair.site_name}" if between else "Upload",
        Doing.DOWNLOAD: f"Transfer to {other}" if between else "Download",
        Doing.REMOVE_THERE: f"Remove at {pair.site_name}" if between else "Remove there",
        Doing.REMOVE_HERE: f"Remove at {other}" if between else "Remove here",
        Doing.RENAME_THERE: f"Rename at {pair.site_name}" if between else "Rename there",
        Doing.RENAME_HERE: f"Rename at {other}" if between else "Rename here",
        Doing.BOTH: "Keep both",
        Doing.DECIDE: "Decide",
        Doing.LEAVE: "Skip",
        Doing.STAYS: "Stays behind",
        Doing.ALONG: "Part of the rename",
    }


@dataclass(frozen=True, slots=True)
class ShownSyncRow:
    """One row as the template prints it. `options` are what can be chosen, the present doing first where it is none."""

    number: int
    path: str
    name: str
    folder: str
    icon: str
    is_folder: bool
    joint: Joint
    joint_word: str
    why: str
    here: ShownSide
    there: ShownSide
    doing: Doing
    word: str
    look: str
    options: tuple[tuple[str, str], ...]
    note: str
    comparable: bool
    picture: bool


@dataclass(frozen=True, slots=True)
class Filter:
    """Which rows are shown: those of a group, with a text in their path; by folder, or grouped by what will happen."""

    group: str = ""
    text: str = ""
    by_folder: bool = False


def numbers_shown(plan: SyncPlan, wanted: Filter) -> list[int]:
    """The rows that a filter shows, in its order."""
    text = wanted.text.casefold()
    each = plan.doings.each
    doings = next((doings for key, _, doings in GROUPS if key == wanted.group), None)
    numbers = [
        number
        for number, row in enumerate(plan.rows)
        if (doings is None or each[number] in doings) and (not text or text in _path(row).casefold())
    ]
    if wanted.by_folder:
        numbers.sort(key=lambda number: (plan.rows[number].below[:-1], plan.rows[number].below))
    else:
        # By what was proposed: a row that is decided stays where it was.
        numbers.sort(key=lambda number: _GROUP_OF[plan.offered.each[number]])
    return numbers


def group_counts(plan: SyncPlan) -> list[tuple[str, str, int]]:
    """The groups that hold rows, with how many."""
    counts = Counter(GROUPS[_GROUP_OF[doing]][0] for doing in plan.doings.each)
    return [(key, word, counts[key]) for key, word, _ in GROUPS if counts[key]]


def shown_rows(plan: SyncPlan, numbers: Sequence[int], now: datetime, zone: tzinfo) -> list[ShownSyncRow]:
    """Rows of a plan as the page shows them."""
    words = doing_words(plan.pair)
    left = plan.left
    return [_shown(plan, number, words, left.get(plan.rows[number].below, ""), now, zone) for number in numbers]


def _shown(
    plan: SyncPlan, number: int, words: dict[Doing, str], left: str, now: datetime, zone: tzinfo
) -> ShownSyncRow:
    row, doing = plan.rows[number], plan.doings.each[number]
    if not row.below:
        return _whole(plan, row, doing, words)
    options = [(one.value, words[one]) for one in choices_of(row, plan.offered.each[number])]
    if options and doing not in {Doing(value) for value, _ in options}:
        options.insert(0, ("", words[doing]))
    standing = row.standing
    small = all(side is None or side.size <= _LARGEST_SHOWN for side in (row.here, row.there))
    files = all(side is None or side.is_file for side in (row.here, row.there))
    picture = files and _path(row).lower().endswith(_PICTURES)
    entry = row.entry
    return ShownSyncRow(
        number=number,
        path=_path(row) + ("/" if row.is_folder else ""),
        name=shown_name(row.below[-1]) + ("/" if row.is_folder else ""),
        folder=folder_of(row),
        icon=icon(entry),
        is_folder=row.is_folder,
        joint=standing.joint,
        joint_word=JOINT_WORDS[standing.joint] + (", guessed" if standing.guess else ""),
        why=standing.reason[:1].upper() + standing.reason[1:],
        here=_side(row.here, now, zone),
        there=_side(row.there, now, zone),
        doing=doing,
        word=words[doing],
        look=LOOKS.get(doing, "line"),
        options=tuple(options),
        note=_note(plan, number, left),
        comparable=small and files,
        picture=picture,
    )


def _whole(plan: SyncPlan, row: SyncRow, doing: Doing, words: dict[Doing, str]) -> ShownSyncRow:
    """The row that says that the top of the pair could not be read."""
    return ShownSyncRow(
        number=0,
        path="/",
        name="/",
        folder="",
        icon="folder-fill",
        is_folder=True,
        joint=Joint.NOT_READ,
        joint_word=JOINT_WORDS[Joint.NOT_READ],
        why=row.reason,
        here=ShownSide(),
        there=ShownSide(),
        doing=doing,
        word=words[doing],
        look="line",
        options=(),
        note="",
        comparable=False,
        picture=False,
    )


def _side(entry: Entry | None, now: datetime, zone: tzinfo) -> ShownSide:
    return shown_side(entry, None, now, zone)


def _note(plan: SyncPlan, number: int, left: str) -> str:
    row, doing, why = plan.rows[number], plan.doings.each[number], plan.doings.why[number]
    if left:
        return f"left: {left}"
    if row.held:
        return f"sieve: {row.held}"
    if number in plan.merged:
        return "merged from both sides"
    if doing in (Doing.RENAME_THERE, Doing.RENAME_HERE):
        partner = plan.doings.goes_with.get(number)
        old = plan.rows[partner].below if partner is not None else row.twin
        return f"was {'/'.join(shown_name(name) for name in old)}" if old else why
    if doing in (Doing.REMOVE_HERE, Doing.REMOVE_THERE):
        return "old version kept" if row.entry.is_file else ""
    return f"{why}; differs only in line endings" if row.below in plan.line_ends else why


def folder_of(row: SyncRow) -> str:
    """The folder that a row lies in, below the tops of the pair."""
    return "/".join(shown_name(name) for name in row.below[:-1])


def _path(row: SyncRow) -> str:
    return "/".join(shown_name(name) for name in row.below)


@dataclass(frozen=True, slots=True)
class Arrow:
    """One stream of the picture: its words, its side, and how thick it is, in pixels."""

    words: str
    towards: SideName
    look: str
    width: float
    y: int


def arrows(flow: Flow, pair: Pair) -> list[Arrow]:
    """The picture of a plan: what goes each way, by bytes, and what is removed."""
    found: list[tuple[str, SideName, str, int, bool]] = []
    between = pair.other_name is not None
    if flow.up:
        words = f"{count_text(flow.up, 'file')}{'' if between else ' up'}, {size_text(flow.up_bytes)}"
        found.append((words, SideName.THERE, "there", flow.up_bytes, True))
    if flow.down:
        words = f"{count_text(flow.down, 'file')}{'' if between else ' down'}, {size_text(flow.down_bytes)}"
        found.append((words, SideName.HERE, "here", flow.down_bytes, True))
    if flow.renamed:
        found.append((f"{flow.renamed} renamed", SideName.THERE, "still", 0, False))
    for end, count in ((SideName.THERE, flow.removed_there), (SideName.HERE, flow.removed_here)):
        if count:
            found.append((f"{count_text(count, 'file')} removed {_at(pair, end)}", end, "bad", 0, False))
    step = 96 / (len(found) + 1)
    return [
        Arrow(words, towards, look, min(18.0, 4 + 2 * log10(size + 1)) if solid else 1.6, round(step * (number + 1)))
        for number, (words, towards, look, size, solid) in enumerate(found)
    ]


def _at(pair: Pair, end: SideName) -> str:
    if pair.other_name is None:
        return end.value
    return f"at {pair.site_name if end is SideName.THERE else pair.other_name}"


def flow_words(flow: Flow) -> str:
    """A plan in one line, for lists of runs: `3 up, 1 down, 2 removed`."""
    removed = flow.removed_here + flow.removed_there
    parts = [
        f"{number_text(flow.up)} up" if flow.up else "",
        f"{number_text(flow.down)} down" if flow.down else "",
        f"{number_text(flow.renamed)} renamed" if flow.renamed else "",
        f"{number_text(removed)} removed" if removed else "",
        count_text(flow.folders, "folder") if flow.folders else "",
    ]
    return ", ".join(part for part in parts if part) or "nothing to do"
