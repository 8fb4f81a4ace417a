"""The ledger: one row a name with its two sides and the joint; filtered, sorted and counted."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from enum import StrEnum

from nailer.core.compare.joint import Baseline, Joint, Standing, joint_of
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import is_hidden, shown_name


@dataclass(frozen=True, slots=True)
class Inside:
    """What one side of a folder holds, counted one level deep. `held` is how many names more stay behind by sieves."""

    files: int
    folders: int
    held: int = 0


@dataclass(frozen=True, slots=True)
class LedgerRow:
    """One name. `inside_here` and `inside_there` are None where that folder was not read. `held` is the sieve that holds it
    back when files are carried, `unseen` the one that keeps it out of sight, `kept` why nothing may remove it; ''
    for none."""

    name: bytes
    here: Entry | None
    there: Entry | None
    standing: Standing
    inside_here: Inside | None = None
    inside_there: Inside | None = None
    held: str = ""
    unseen: str = ""
    kept: str = ""

    @property
    def entry(self) -> Entry:
        """The entry of a side that has it; there first, as that is what visitors see."""
        found = self.there or self.here
        if found is None:
            raise ValueError("a row without sides")
        return found

    @property
    def is_folder(self) -> bool:
        """True where either side has a folder of this name."""
        return any(side is not None and side.is_folder for side in (self.here, self.there))

    @property
    def opens_as_folder(self) -> bool:
        """True where either side has a folder, or a link that leads to one."""
        return any(side is not None and side.opens_as_folder for side in (self.here, self.there))


class SortBy(StrEnum):
    NAME = "name"
    KIND = "kind"
    HERE_SIZE = "here-size"
    HERE_TIME = "here-time"
    JOINT = "joint"
    THERE_SIZE = "there-size"
    THERE_TIME = "there-time"
    PERMISSIONS = "permissions"


@dataclass(frozen=True, slots=True)
class View:
    """How a person looks at a ledger. `joint` is '' for all, 'differ' for all that is not the same, else a joint."""

    joint: str = ""
    text: str = ""
    sort: SortBy = SortBy.NAME
    descending: bool = False
    hidden: bool = False


Hides = Callable[[bytes], str]


def _nothing(_: bytes) -> str:
    return ""


def build_rows(
    here: Iterable[Entry],
    there: Iterable[Entry],
    baselines: Mapping[bytes, Baseline],
    rolled: Mapping[bytes, tuple[Standing, Inside | None, Inside | None]],
    hides: tuple[Hides, Hides] = (_nothing, _nothing),
) -> list[LedgerRow]:
    """One row for every name of either side, in the order of names. `rolled` holds what is known inside folders; `hides`
    says of a name that one listing lacks why it may be on that side all the same, here first."""
    ours = {entry.name: entry for entry in here}
    theirs = {entry.name: entry for entry in there}
    rows = []
    for name in ours.keys() | theirs.keys():
        one, other = ours.get(name), theirs.get(name)
        unsure = hides[0](name) if one is None else hides[1](name) if other is None else ""
        row = LedgerRow(name, one, other, joint_of(one, other, baselines.get(name), unsure=unsure))
        if name in rolled:
            standing, inside_here, inside_there = rolled[name]
            known = standing if row.standing.joint is Joint.NOT_READ else row.standing
            row = replace(row, standing=known, inside_here=inside_here, inside_there=inside_there)
        rows.append(row)
    rows.sort(key=_by_name)
    return rows


def not_compared(rows: Iterable[LedgerRow], why: str) -> list[LedgerRow]:
    """The rows of two folders that do not belong together: equal names in them say nothing of each other."""
    return [replace(row, standing=Standing(Joint.NOT_READ, why)) for row in rows]


def visible(rows: Iterable[LedgerRow], view: View) -> list[LedgerRow]:
    """The rows a view lets through, in its order; folders before files whatever the sorting."""
    wanted = view.text.casefold()
    through = [
        row
        for row in rows
        if (view.hidden or not _is_out_of_sight(row))
        and _joint_wanted(row.standing, view.joint)
        and (not wanted or wanted in shown_name(row.name).casefold())
    ]
    if view.sort is SortBy.KIND:
        through.sort(key=lambda row: ending_of(row.name), reverse=view.descending)
    elif view.sort is not SortBy.NAME:
        through.sort(key=lambda row: _sort_value(row, view.sort), reverse=view.descending)
    elif view.descending:
        through.reverse()
    through.sort(key=lambda row: not row.opens_as_folder)
    return through


def ending_of(name: bytes) -> str:
    """What stands behind the last dot of a name, in small letters; '' where nothing does.

    >>> ending_of(b"index.HTML"), ending_of(b".env"), ending_of(b"README")
    ('html', '', '')
    """
    before, _, ending = name.rpartition(b".")
    return shown_name(ending).lower() if before and len(ending) <= _LONGEST_ENDING else ""


def joint_counts(rows: Iterable[LedgerRow], *, hidden: bool) -> dict[Joint, int]:
    """How many names stand at each joint; hidden names only where they are shown."""
    counts = dict.fromkeys(Joint, 0)
    for row in rows:
        if hidden or not _is_out_of_sight(row):
            counts[row.standing.joint] += 1
    return counts


def _is_out_of_sight(row: LedgerRow) -> bool:
    return is_hidden(row.name) or bool(row.unseen)


def _joint_wanted(standing: Standing, joint: str) -> bool:
    if not joint:
        return True
    return standing.differs if joint == "differ" else standing.joint == joint


_DIGITS = re.compile(r"(\d+)")
_LONGEST_ENDING = 10
_MOST_DIGITS = 300  # longer than any name that a disk can hold


def _by_name(row: LedgerRow) -> tuple[list[tuple[int, int, str]], bytes]:
    """Names as people count: `plate-2` before `plate-10`. The raw bytes settle what looks alike."""
    parts = _DIGITS.split(shown_name(row.name).casefold())
    key = [
        (0, int(part), "") if part.isdecimal() and len(part) <= _MOST_DIGITS else (1, 0, part) for part in parts if part
    ]
    return key, row.name


_JOINT_ORDER = {
    joint: place
    for place, joint in enumerate(
        (
            Joint.BOTH_CHANGED,
            Joint.NEWER_HERE,
            Joint.ONLY_HERE,
            Joint.NEWER_THERE,
            Joint.ONLY_THERE,
            Joint.NOT_READ,
            Joint.SAME,
        )
    )
}


def _sort_value(row: LedgerRow, sort: SortBy) -> int:
    here, there = row.here, row.there
    match sort:
        case SortBy.HERE_SIZE:
            return here.size if here else -1
        case SortBy.THERE_SIZE:
            return there.size if there else -1
        case SortBy.HERE_TIME:
            return here.stamp.at_ns if here and here.stamp else -(2**62)
        case SortBy.THERE_TIME:
            return there.stamp.at_ns if there and there.stamp else -(2**62)
        case SortBy.PERMISSIONS:
            return row.entry.permissions if row.entry.permissions is not None else -1
        case SortBy.JOINT:
            return _JOINT_ORDER[row.standing.joint]
        case SortBy.NAME | SortBy.KIND:
            return 0
