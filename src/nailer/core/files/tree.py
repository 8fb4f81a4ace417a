"""One side of a pair as it was read: every folder with what is in it, and what could not be read."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from nailer.core.files.completeness import Incomplete
from nailer.core.files.entry import Entry

RelativePath = tuple[bytes, ...]

_FEW = 5


@dataclass(frozen=True, slots=True)
class Tree:
    """`folders` holds what is in each folder by its names below the top, which is `()`. `problems` says of folders why
    they could not be read; they are not among `folders`. `lacks` says of folders that were read why they may hold more.
    `missing`: the top itself is not there. `ruled_out` are names that were asked for by themselves and are not there."""

    folders: Mapping[RelativePath, Sequence[Entry]]
    problems: Mapping[RelativePath, str] = field(default_factory=dict)
    lacks: Mapping[RelativePath, Incomplete] = field(default_factory=dict)
    missing: bool = False
    ruled_out: frozenset[RelativePath] = frozenset()

    @property
    def files(self) -> int:
        """How many files were read."""
        return sum(entry.is_file for entries in self.folders.values() for entry in entries)

    @property
    def is_empty(self) -> bool:
        """True where nothing at all was found: also where the top is missing, or could not be read."""
        return not any(self.folders.values())

    @property
    def times_useless(self) -> bool:
        """True where times cannot tell files apart: there are some, and all say the same moment, or none.

        >>> from nailer.core.files.entry import Kind
        >>> Tree({(): [Entry(str(n).encode(), Kind.FILE, n) for n in range(9)]}).times_useless
        True
        """
        moments = set()
        files = 0
        for entries in self.folders.values():
            for entry in entries:
                if entry.is_file:
                    files += 1
                    moments.add(entry.stamp.at_ns if entry.stamp else None)
                    if len(moments) > 1:
                        return False
        return files >= _FEW

    def under(self, top: RelativePath) -> Iterator[tuple[RelativePath, Entry]]:
        """Everything below a folder, parents before children."""
        for entry in sorted(self.folders.get(top, ()), key=lambda one: one.name):
            below = (*top, entry.name)
            yield below, entry
            if entry.is_folder:
                yield from self.under(below)

    def is_complete_under(self, top: RelativePath) -> bool:
        """True where a folder and everything below it is known to have been read."""
        return not any(below[: len(top)] == top for unsure in (self.problems, self.lacks) for below in unsure)

    def may_hide(self, below: RelativePath) -> str:
        """Why a name that was not found may be there all the same; '' where it is known not to be."""
        lack = self.lacks.get(below[:-1]) if below not in self.ruled_out else None
        return lack.sentence if lack is not None and lack.may_hide(below[-1]) else ""
