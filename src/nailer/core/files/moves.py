"""Names that were changed under way: where a path of then is now, and under which names a path of now was known."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from nailer.core.files.sitepath import SitePath


@dataclass(frozen=True, slots=True)
class Renaming:
    """At a moment one path became another, with all below it."""

    at: datetime
    old: SitePath
    new: SitePath


@dataclass(frozen=True, slots=True)
class KnownAs:
    """A name that a thing had, from a moment on (None: as long as anybody knows) and until another (None: to this day)."""

    path: SitePath
    begun: datetime | None = None
    ended: datetime | None = None


class Renamings:
    """The renamings of one side, in any order."""

    def __init__(self, moves: Sequence[Renaming]) -> None:
        self._moves = sorted(moves, key=lambda one: one.at)

    def now(self, path: SitePath, since: datetime) -> SitePath:
        """Where what a path named at a moment is now."""
        for one in self._moves:
            if one.at > since and (below := path.below(one.old)) is not None:
                path = one.new.join(below)
        return path

    def names(self, path: SitePath) -> list[KnownAs]:
        """The names under which what is at a path now was known, this one first."""
        found = [KnownAs(path)]
        for one in reversed(self._moves):
            if found[-1].path.below(one.old) is not None:
                # What had this name left it then: what has it now came later.
                found[-1] = replace(found[-1], begun=one.at)
                break
            if (below := found[-1].path.below(one.new)) is not None:
                found[-1] = replace(found[-1], begun=one.at)
                found.append(KnownAs(one.old.join(below), None, one.at))
        return found
