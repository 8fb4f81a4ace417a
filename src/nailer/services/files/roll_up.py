"""What lies below folders, as far as it was read: how many names of each joint."""

from __future__ import annotations

import asyncio
from typing import TYPE_CHECKING

from nailer.core.compare.joint import Standing, joint_of, rolled_up
from nailer.core.compare.ledger import Inside, build_rows
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.plans.sieve import Sieves
from nailer.services.files.folder_pair import FolderPair, place_in_pair
from nailer.store.changes import pair_key
from nailer.store.sites import Site

if TYPE_CHECKING:
    from nailer.services.files.browse import Browse

RolledSoFar = dict[bytes, tuple[Standing, Inside | None, Inside | None]]


_ROLL_UP_FOLDERS = 400
_FOLDERS_AT_ONCE = 16


class RollUp:
    """Counts what lies below the folders of a ledger."""

    def __init__(self, browse: Browse) -> None:
        self._browse = browse

    async def roll_up(self, site: Site, here: SitePath, there: SitePath) -> bool:
        """Compare what lies inside the folders of a pair, within bounds; True where something new is known."""
        ours, theirs = await asyncio.gather(
            self._browse.listing(site, SideName.HERE, here), self._browse.listing(site, SideName.THERE, there)
        )
        one = {entry.name: entry for entry in ours.entries if entry.is_folder}
        other = {entry.name: entry for entry in theirs.entries if entry.is_folder}
        budget = Budget(_ROLL_UP_FOLDERS)
        sieves = await self._browse.sieves_of((await self._browse.pair_of(site, here, there))[0])
        rolled: RolledSoFar = {}
        for name in sorted(one.keys() | other.keys()):
            pair = (here.child(name), there.child(name))
            inside_here = inside_there = None
            if name in one and name in other:
                standing, complete = await self._inside(site, pair, budget, sieves)
                rolled_standing = rolled_up(standing, complete=complete)
                inside_here, inside_there = await self._counted(site, pair, sieves)
                rolled[name] = (rolled_standing, inside_here, inside_there)
            elif budget.take():
                side, path = (SideName.HERE, pair[0]) if name in one else (SideName.THERE, pair[1])
                inside = (await self._browse.listing(site, side, path)).inside
                unsure = (theirs if name in one else ours).may_hide(name)
                standing_alone = joint_of(one.get(name), other.get(name), unsure=unsure)
                rolled[name] = (standing_alone, inside, None) if name in one else (standing_alone, None, inside)
        memory = self._browse.memory(site.id)
        changed = memory.rolled.get((here, there)) != rolled
        if changed:
            memory.rolled[(here, there)] = rolled
        return changed

    async def _counted(self, site: Site, pair: FolderPair, sieves: Sieves) -> tuple[Inside | None, Inside | None]:
        """How many names either folder of a pair holds, those that stay behind by sieves counted apart: what is compared
        is the rest."""
        reads = [
            await self._browse.listing(site, side, path, max_age_s=600)
            for side, path in zip((SideName.HERE, SideName.THERE), pair, strict=True)
        ]
        place = place_in_pair(site, *pair)
        known = [{entry.name: entry for entry in read.entries} for read in reads]
        held = {
            name
            for name in known[0].keys() | known[1].keys()
            if sieves.held((*place, name), known[0].get(name), known[1].get(name), nearly=True)
        }
        one, other = (
            read.counted(held & names.keys()) if read.problem is None else None
            for read, names in zip(reads, known, strict=True)
        )
        return one, other

    async def _inside(self, site: Site, top: FolderPair, budget: Budget, sieves: Sieves) -> tuple[list[Standing], bool]:
        """The standings of everything below a folder pair that no sieve holds back, and whether all of it was read."""
        standings: list[Standing] = []
        complete = True
        level = [top]
        while level:
            now = [pair for pair in level if budget.take()]
            complete = complete and len(now) == len(level)
            level = []
            for start in range(0, len(now), _FOLDERS_AT_ONCE):
                group = now[start : start + _FOLDERS_AT_ONCE]
                for rows, below, whole in await self._compare(site, group, sieves):
                    standings += rows
                    level += below
                    complete = complete and whole
        return standings, complete

    async def _compare(
        self, site: Site, pairs: list[FolderPair], sieves: Sieves
    ) -> list[tuple[list[Standing], list[FolderPair], bool]]:
        listings = await asyncio.gather(
            *(
                self._browse.listing(site, name, path, max_age_s=600)
                for here, there in pairs
                for name, path in ((SideName.HERE, here), (SideName.THERE, there))
            )
        )
        baselines = await self._browse.changes.baselines(site.id, pairs)
        found = []
        for number, (here, there) in enumerate(pairs):
            ours, theirs = listings[2 * number], listings[2 * number + 1]
            hides = (ours.may_hide, theirs.may_hide)
            rows = build_rows(ours.entries, theirs.entries, baselines[pair_key(here, there)], {}, hides)
            place = place_in_pair(site, here, there)
            rows = [row for row in rows if not sieves.held((*place, row.name), row.here, row.there, nearly=True)]
            both = [row.name for row in rows if row.here and row.there and row.here.is_folder and row.there.is_folder]
            standings = [row.standing for row in rows if row.name not in set(both)]
            below = [(here.child(name), there.child(name)) for name in both]
            found.append((standings, below, ours.is_whole and theirs.is_whole))
        return found


class Budget:
    """How many folders a roll-up may still read."""

    def __init__(self, folders: int) -> None:
        self._left = folders

    def take(self) -> bool:
        """Use one look up; False where none is left."""
        self._left -= 1
        return self._left >= 0
