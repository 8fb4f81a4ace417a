"""What could go to make room, ranked, each byte counted once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.files.entry import Entry
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.sitepath import SitePath
from nailer.core.site.names import Names


class Reason(StrEnum):
    """Why a file could go, the surest first."""

    WORKING = "Working files not meant for visitors"
    ARCHIVES = "Archives"
    OLD = "Old copies"
    TWICE = "Duplicate files"
    UNREFERENCED = "Unused files"
    SMALLER = "Pictures far larger than shown"
    LOGS = "Logs"


_BY_KIND = {
    FileKind.LAYERED: Reason.WORKING,
    FileKind.ARCHIVE: Reason.ARCHIVES,
    FileKind.DATABASE: Reason.ARCHIVES,
    FileKind.OLD: Reason.OLD,
    FileKind.LITTER: Reason.OLD,
    FileKind.LOG: Reason.LOGS,
}


@dataclass(frozen=True, slots=True)
class CouldGo:
    """A file that could go, or be made smaller: `frees` are the bytes that this gives back. `same_as` is the copy that
    stays."""

    path: SitePath
    entry: Entry
    frees: int
    same_as: SitePath | None = None


@dataclass(frozen=True, slots=True)
class Savings:
    """All files that one reason names, the largest first."""

    reason: Reason
    files: tuple[CouldGo, ...]

    @property
    def frees(self) -> int:
        """The bytes that it gives back."""
        return sum(one.frees for one in self.files)


def savings(
    there: Names,
    *,
    wanted: Collection[SitePath],
    twins: Sequence[Sequence[SitePath]] = (),
    unreferenced: Collection[SitePath] = (),
    smaller: Mapping[SitePath, int] | None = None,
    kept: Callable[[SitePath], bool] = lambda _: False,
) -> list[Savings]:
    """What could go, by reason, the most bytes first within the order of reasons. A file that several reasons name counts
    for the first; what `kept` says is marked, and what pages refer to (`wanted`), is in none but for being made smaller.
    `twins` are groups of files of one content: the one that pages refer to stays, else the one with the shortest path.
    `smaller` says how many bytes a smaller copy of a picture would free."""
    found: dict[Reason, list[CouldGo]] = defaultdict(list)
    named: set[SitePath] = set()
    entries = dict(there.files())
    free = {path for path in entries if not kept(path)}

    def add(reason: Reason, path: SitePath, frees: int, same_as: SitePath | None = None) -> None:
        if path in free and path not in named and frees > 0:
            named.add(path)
            found[reason].append(CouldGo(path, entries[path], frees, same_as))

    for path, entry in entries.items():
        kind = kind_by_name(path.name)
        if kind in _BY_KIND and path not in wanted:
            add(_BY_KIND[kind], path, entry.size)
    for group in twins:
        stays = min(group, key=lambda one: (one not in wanted, len(one.raw), one))
        for path in group:
            if path != stays and path not in wanted and path in entries:
                add(Reason.TWICE, path, entries[path].size, stays)
    for path in unreferenced:
        if path in entries:
            add(Reason.UNREFERENCED, path, entries[path].size)
    for path, frees in (smaller or {}).items():
        if path in entries:
            add(Reason.SMALLER, path, frees)
    return [
        Savings(reason, tuple(sorted(found[reason], key=lambda one: (-one.frees, one.path))))
        for reason in Reason
        if found[reason]
    ]


def enough(found: Sequence[Savings], needed: int) -> list[Reason]:
    """The first reasons that together make the room that is needed; all of them where that is not enough.

    >>> enough([], 5)
    []
    """
    chosen: list[Reason] = []
    left = needed
    for one in found:
        if left <= 0:
            break
        chosen.append(one.reason)
        left -= one.frees
    return chosen
