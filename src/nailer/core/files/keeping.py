"""Keep marks: what nothing may remove, until when and because of what."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import date

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath

# Why a path of a side stays; '' where nothing keeps it.
KeptBecause = Callable[[SideName, SitePath], str]


def nothing_kept(_side: SideName, _path: SitePath) -> str:
    """Nothing has a mark."""
    return ""


@dataclass(frozen=True, slots=True)
class KeepMark:
    """One mark: a file, or a folder with all in it. It holds through the day `until`; None: until it is taken off."""

    side: SideName
    path: SitePath
    until: date | None
    why: str

    @property
    def text(self) -> str:
        """The mark as it is read: `kept until 3 January 2027: the client still checks it`."""
        until = f" until {self.until.day} {self.until:%B %Y}" if self.until is not None else ""
        return f"kept{until}" + (f": {self.why}" if self.why else "")


class Keeps:
    """The marks of a site that hold today."""

    def __init__(self, marks: Iterable[KeepMark]) -> None:
        self._marks = {(mark.side, mark.path): mark for mark in marks}

    def __bool__(self) -> bool:
        return bool(self._marks)

    def own(self, side: SideName, path: SitePath) -> KeepMark | None:
        """The mark that a path carries itself."""
        return self._marks.get((side, path))

    def over(self, side: SideName, path: SitePath) -> KeepMark | None:
        """The mark that keeps a path: its own, or that of a folder it lies in."""
        return next((mark for one in path.ancestors() if (mark := self.own(side, one)) is not None), None)

    def because(self, side: SideName, path: SitePath) -> str:
        """Why a path may not be removed; '' where it may. A folder stays where anything in it is kept."""
        if not self._marks:
            return ""
        if (mark := self.over(side, path)) is not None:
            return mark.text
        inside = next((one for (of, place), one in self._marks.items() if of is side and place.below(path)), None)
        return f"holds {inside.path.shown}, {inside.text}" if inside is not None else ""
