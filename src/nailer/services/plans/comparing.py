"""What a plan that carries knows of both sides beside their listings: the baseline, and contents where they are cheap."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nailer.core.compare.joint import Baseline, Joint, joint_of, same_content, seen
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.core.plans.plan import FoundFile, KnownOfBoth
from nailer.errors import TransferError
from nailer.services.files import Browse, ComparedEnd, ContentComparer
from nailer.sides.side import Side
from nailer.store.changes import ChangeStore, pair_key
from nailer.store.sites import Site

_MOST_COMPARED = 5000


@dataclass(frozen=True, slots=True)
class TransferEnds:
    """The two ends of a plan that carries: from `source` of one side to `target` of the other."""

    site: Site
    to_side: SideName
    source_side: Side
    source: SitePath
    target_side: Side
    target: SitePath

    @property
    def folders(self) -> tuple[SitePath, SitePath]:
        """The folder here and the folder there."""
        return (self.source, self.target) if self.to_side is SideName.THERE else (self.target, self.source)

    @property
    def near(self) -> ComparedEnd:
        """The end here."""
        return ComparedEnd(self._of(SideName.HERE), self.folders[0], None)

    @property
    def far(self) -> ComparedEnd:
        """The end there."""
        return ComparedEnd(self._of(SideName.THERE), self.folders[1], self.site)

    def sorted(self, sent: Entry, met: Entry) -> tuple[Entry, Entry]:
        """What is sent and what it meets, as what is here and what is there."""
        return (sent, met) if self.to_side is SideName.THERE else (met, sent)

    def _of(self, side: SideName) -> Side:
        return self.target_side if side is self.to_side else self.source_side


class PlanComparing:
    def __init__(self, browse: Browse, comparer: ContentComparer, changes: ChangeStore) -> None:
        self._browse = browse
        self._comparer = comparer
        self._changes = changes

    async def known(
        self, ends: TransferEnds, found: Sequence[FoundFile], met: Mapping[RelativePath, Entry]
    ) -> KnownOfBoth:
        """How the files that are sent stand towards what they meet. Equal contents are level from now on: the baseline is
        written. Raises what reading raises where that may heal."""
        both = {
            one.below: ends.sorted(one.entry, other)
            for one in found
            if one.entry.is_file and (other := met.get(one.below)) is not None and other.is_file
        }
        equal = await self._equal(ends, both)
        await self._level(ends, {below: both[below] for below in equal})
        baselines = await self._baselines(ends, both)
        joints = {
            below: joint_of(here, there, baseline).joint
            for below, (here, there) in both.items()
            if below not in equal and (baseline := baselines.get(below)) is not None
        }
        return KnownOfBoth({below: one for below, one in joints.items() if one is Joint.BOTH_CHANGED}, equal)

    async def _equal(
        self, ends: TransferEnds, both: Mapping[RelativePath, tuple[Entry, Entry]]
    ) -> frozenset[RelativePath]:
        """The files of one size and different times whose contents are equal, as far as it costs little to know."""
        alike = [
            (below, here.size)
            for below, (here, there) in both.items()
            if here.size == there.size and not same_content(seen(here), seen(there))
        ]
        if not alike:
            return frozenset()
        try:
            found = await self._comparer.equal_if_cheap(ends.near, ends.far, alike[:_MOST_COMPARED])
        except TransferError as error:
            if error.retryable:
                raise
            return frozenset()  # what cannot be read is not known to be equal; carrying it says why
        return frozenset(below for below, is_equal in found.items() if is_equal)

    async def _level(self, ends: TransferEnds, equal: Mapping[RelativePath, tuple[Entry, Entry]]) -> None:
        here, there = ends.folders
        pairs = [(here.join(below), there.join(below)) for below in equal]
        levels = await self._changes.levels(ends.site.id, pairs)
        await self._changes.write_baselines(
            [level.written(*both, None) for level, both in zip(levels, equal.values(), strict=True)]
        )
        if equal:
            self._browse.redraw(ends.site.id)

    async def _baselines(
        self, ends: TransferEnds, names: Mapping[RelativePath, object]
    ) -> dict[RelativePath, Baseline]:
        """What is known of when each name was last level."""
        here, there = ends.folders
        folders = {below[:-1]: (here.join(below[:-1]), there.join(below[:-1])) for below in names}
        found = await self._changes.baselines(ends.site.id, folders.values())
        keys = {folder: pair_key(*pair) for folder, pair in folders.items()}
        return {
            below: baseline
            for below in names
            if (baseline := found[keys[below[:-1]]].get(below[-1])) is not None and not baseline.folder
        }
