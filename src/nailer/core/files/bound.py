"""Which folders of the two sides belong together: what a site's pairs map to each other, and what they do not."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, pair_root


@dataclass(frozen=True, slots=True)
class Bound:
    """A folder here and one there that somebody has said belong together; all below them belongs together, too."""

    here: SitePath
    there: SitePath

    def of(self, side: SideName) -> SitePath:
        """Its folder on a side."""
        return self.here if side is SideName.HERE else self.there

    @property
    def widest(self) -> Bound:
        """The highest folders that are still the same place: equal names at the end are taken off. All allowed roots
        together are no folder, so what would end there stays as it is."""
        here, there = pair_root(self.here, self.there)
        return self if here.is_root else Bound(here, there)


def counterpart(bounds: Iterable[Bound], side: SideName, path: SitePath) -> SitePath | None:
    """The path on the other side that `path` is bound to: by the innermost bound. None where no bound holds it.

    >>> bounds = [Bound(SitePath.parse(b"/studio/skerry/htdocs"), SitePath.parse(b"/htdocs"))]
    >>> str(counterpart(bounds, SideName.THERE, SitePath.parse(b"/htdocs/news")))
    '/studio/skerry/htdocs/news'
    >>> str(counterpart(bounds, SideName.THERE, SitePath.parse(b"/logs")))
    '/studio/skerry/logs'
    >>> counterpart(bounds, SideName.HERE, SitePath.parse(b"/studio/else"))
    """
    found: tuple[int, SitePath] | None = None
    for bound in (wide for one in bounds for wide in (one, one.widest)):
        below = path.below(bound.of(side))
        if below is not None and (found is None or len(bound.of(side).names) > found[0]):
            found = (len(bound.of(side).names), bound.of(side.other).join(below))
    return found[1] if found else None


def belong(bounds: Iterable[Bound], here: SitePath, there: SitePath) -> bool:
    """True where the two folders are bound to each other, seen from either side."""
    known = tuple(bounds)
    return counterpart(known, SideName.THERE, there) == here or counterpart(known, SideName.HERE, here) == there
