"""Plans for what archives hold: unpacked here and carried, or unpacked on the server and moved into place."""

from __future__ import annotations

import asyncio

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.destination import better_places, overlap
from nailer.core.plans.plan import (
    transfer_plan,
)
from nailer.engine.swap import tries_renaming
from nailer.services.files import Browse
from nailer.services.plans.found import all_in, around, find, listed, met_of, sent_of
from nailer.services.plans.make import PlanMaker
from nailer.services.plans.target import missing_folders, room_at
from nailer.services.plans.unpacking.archives import Archives, Unpacked
from nailer.sides.side import Side
from nailer.store.jobs import NewJob
from nailer.store.sites import Site


class ArchivePlans:
    """Makes plans of archives that were unpacked."""

    def __init__(self, maker: PlanMaker, browse: Browse, unpack: Archives, spool: Side) -> None:
        self._maker = maker
        self._browse = browse
        self._unpack = unpack
        self._spool = spool

    async def unpack(
        self,
        account_id: int,
        site: Site,
        to_side: SideName,
        target: SitePath,
        unpacked: Unpacked,
        name: str,
        *,
        without_top: bool | None = None,
    ) -> int:
        """Plan carrying what an archive holds. Where one folder holds everything, `without_top` says whether only what
        is in it goes; None: whichever lines up with what is there."""
        place = self._unpack.place(unpacked.token)
        async with self._browse.side(site, to_side) as target_side:
            names, top = unpacked.names, place
            if unpacked.only_folder is not None:
                inside = [one.name for one in (await self._spool.list(place.child(unpacked.only_folder))).entries]
                if without_top is None:
                    there = (await listed(target_side, target)).names
                    without_top = bool(inside) and overlap(inside, there) > overlap(list(names), there)
                if without_top:
                    names, top = tuple(inside), place.child(unpacked.only_folder)
            found, there_now, missing, room, near = await asyncio.gather(
                find(self._spool, top, names),
                find(target_side, target, names, tolerant=True),
                missing_folders(target_side, target),
                room_at(target_side, target),
                around(target_side, site, to_side, SitePath(), target),
            )
            await tries_renaming(target_side, target)
            met = await met_of(target_side, target, there_now, found)
        job = NewJob(account_id, site.id, JobKind.UNPACK, f"Unpacking {name}", to_side, top, target)
        items = await self._maker.worked_out(lambda: transfer_plan(found, met, resend_same=True), top, target, missing)
        return await self._maker.add(job, items, room, better_places(sent_of(found), target, near))

    async def unpacked_there(
        self,
        account_id: int,
        site: Site,
        staged: SitePath,
        target: SitePath,
        name: str,
        without_top: bool | None = None,
    ) -> int:
        """Plan moving what was unpacked on the server to its place; where names are taken it is copied, so that what is
        replaced is kept."""
        async with self._browse.side(site, SideName.THERE) as side:
            entries, there = await asyncio.gather(all_in(side, staged), listed(side, target))
            top = staged
            if len(entries) == 1 and entries[0].is_folder:
                inside = await all_in(side, staged.child(entries[0].name))
                ours, whole = [one.name for one in inside], [entries[0].name]
                if without_top is None:
                    without_top = bool(ours) and overlap(ours, there.names) > overlap(whole, there.names)
                if without_top:
                    top, entries = staged.child(entries[0].name), inside
        names = [one.name for one in entries]
        plan = self._maker.copy if there.names & set(names) else self._maker.move
        return await plan(account_id, site, SideName.THERE, top, names, target, title=f"Unpacking of {name}")
