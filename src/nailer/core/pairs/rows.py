"""What differs between two trees, row by row, and what is to be done with each."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.core.compare.joint import Baseline, Standing
from nailer.core.files.entry import Entry
from nailer.core.files.tree import RelativePath
from nailer.core.pairs.wishes import Doing


@dataclass(frozen=True, slots=True)
class SyncRow:
    """A name that differs, or of which not everything is known. `held` is the sieve that holds it back, `twin` another
    name in its folder that is the same but for its spelling; `below` are its names from the top of the pair."""

    below: RelativePath
    here: Entry | None
    there: Entry | None
    standing: Standing
    baseline: Baseline | None = None
    held: str = ""
    twin: RelativePath | None = None

    @property
    def entry(self) -> Entry:
        """What a side has under this name, there first."""
        found = self.there or self.here
        if found is None:
            raise ValueError("a row without sides")
        return found

    @property
    def is_folder(self) -> bool:
        """True where what there is, on one side or both, is a folder."""
        return all(side is None or side.is_folder for side in (self.here, self.there))

    @property
    def reason(self) -> str:
        """Why the row stands as it does, for a person."""
        return self.standing.reason


@dataclass(frozen=True, slots=True)
class Comparison:
    """What comparing two trees found. `same` counts files; `level` are names that are the same and whose baseline does not
    say so yet; `gone` are names in the baseline that neither side has any more."""

    rows: list[SyncRow]
    same: int
    level: list[RelativePath]
    gone: list[RelativePath]


@dataclass(frozen=True, slots=True)
class Decisions:
    """What will be done, row by row. `why` adds to a row's own reason; `goes_with` names the row that a renaming is about,
    both ways."""

    each: list[Doing]
    why: list[str]
    goes_with: dict[int, int]

    @property
    def undecided(self) -> int:
        """How many rows wait for a person."""
        return sum(doing is Doing.DECIDE for doing in self.each)
