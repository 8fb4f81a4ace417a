"""Where links of the files view lead: both sides together, or each by itself."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.core.compare.ledger import LedgerRow
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, pair_root, shown_name
from nailer.services.sites import Site
from nailer.web.shell import urls


@dataclass(frozen=True, slots=True)
class Crumb:
    """One name of a path bar, and the address that goes up to it."""

    name: str
    href: str
    is_last: bool


@dataclass(frozen=True, slots=True)
class Moves:
    """The folder pair a person is in, for templates, which name sides by their words.

    `apart`: each side moves by itself. `keep` stays in every address. `is_part`: the start folders are all that the person
    has of the site, so nothing above them is offered. `is_limited`: nothing above the start folder here is theirs.
    `is_broken`: the two folders do not belong together.
    """

    site: Site
    here: SitePath
    there: SitePath
    apart: bool
    keep: dict[str, str]
    is_part: bool = False
    is_limited: bool = False
    is_broken: bool = False

    @property
    def root(self) -> tuple[SitePath, SitePath]:
        """The two folders that the tree begins with."""
        inside = self.there.below(self.site.start_there) is not None
        if self.is_part or (self.is_limited and inside):
            return self.site.start_here, self.site.start_there
        if self.is_broken:
            return pair_root(self.site.start_here, self.site.start_there)
        return pair_root(self.here, self.there)

    def opened(self, row: LedgerRow) -> str:
        """The address of a row's folder. Together, both sides go; apart, only a side that has it."""
        here, there = self.here.child(row.name), self.there.child(row.name)
        if self.apart:
            here = here if row.here is not None and row.here.opens_as_folder else self.here
            there = there if row.there is not None and row.there.opens_as_folder else self.there
        return self._to(here, there)

    def crumbs(self, side: SideName) -> list[Crumb]:
        """A side's names from the top; the root itself is `top`."""
        path = self.here if side == SideName.HERE else self.there
        start = self.site.start_here if side == SideName.HERE else self.site.start_there
        steps = [step for step in path.ancestors()[1:] if not self.is_part or step.below(start) is not None]
        return [Crumb(shown_name(step.name), self.up(side, step), step == path) for step in steps]

    def top(self, side: SideName) -> str:
        """The address of a side's root; empty where it is there already."""
        path = self.here if side == SideName.HERE else self.there
        return "" if path.is_root or self.is_part or side == SideName.HERE else self.up(side, SitePath())

    def up(self, side: SideName, step: SitePath) -> str:
        """The address where `side` stands at `step`, a folder above. Together, the other side goes up as far as both
        paths are still the same place."""
        own, other = (self.here, self.there) if side == SideName.HERE else (self.there, self.here)
        if not self.apart:
            levels = len(own.names) - len(step.names)
            top = pair_root(self.here, self.there)[0 if side == SideName.THERE else 1]
            kept = max(len(top.names), len(other.names) - levels)
            other = SitePath(other.names[:kept])
        return self._to(step, other) if side == SideName.HERE else self._to(other, step)

    def parent(self) -> str:
        """One folder up on both sides; apart, on the side there."""
        side = SideName.HERE if self.there.is_root else SideName.THERE
        path = self.here if side == SideName.HERE else self.there
        at_top = not path.names or (self.is_part and path in (self.site.start_here, self.site.start_there))
        return "" if at_top else self.up(side, path.parent)

    def toggled(self) -> str:
        """This view with the two sides apart where they were together, or the reverse."""
        keep = {key: value for key, value in self.keep.items() if key != "apart"}
        return urls.files(self.site, self.here, self.there, **keep, apart="" if self.apart else "1")

    def on_folder(self, side: SideName, path: SitePath) -> str:
        """The address of a folder of one side with what belongs to it."""
        return urls.folder(self.site.id, side, path)

    def _to(self, here: SitePath, there: SitePath) -> str:
        return urls.files(self.site, here, there, **self.keep, apart="1" if self.apart else "")
