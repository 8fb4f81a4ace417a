"""One row of a plan: what both its ends hold, and a text merged for it."""

from __future__ import annotations

import asyncio
from dataclasses import replace

from nailer.bounded import bounded
from nailer.core.compare.merge import Merged, merged, side_by_side
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import names_text
from nailer.core.files.text import decoded, encoded
from nailer.core.jobs.states import ENDED, JobState
from nailer.core.pairs.rows import SyncRow
from nailer.core.pairs.wishes import Doing
from nailer.engine.kept import KeptStore
from nailer.engine.live import LiveJobs
from nailer.errors import (
    Conflict,
    InvalidInput,
    NotFound,
)
from nailer.services.files import (
    PairEnds,
    side_of,
    top_of,
)
from nailer.services.pairs.decisions import Deciding
from nailer.services.pairs.plan import SyncPlan
from nailer.services.plans import PreparedFiles, Write
from nailer.store.changes import ChangeStore
from nailer.store.jobs import JobStore

_LOOK_EVERY_S = 0.1
_SHOWN_BYTES = 1_000_000


class Rows:
    """Shows and merges the contents of single rows."""

    def __init__(
        self,
        ends: PairEnds,
        changes: ChangeStore,
        kept: KeptStore,
        jobs: JobStore,
        live: LiveJobs,
        writing: PreparedFiles,
        decisions: Deciding,
    ) -> None:
        self._ends = ends
        self._changes = changes
        self._kept = kept
        self._jobs = jobs
        self._live = live
        self._writing = writing
        self._decisions = decisions

    async def contents(self, plan: SyncPlan, number: int) -> tuple[bytes, bytes]:
        """What both ends of a row hold, there last; nothing where an end has no file. Raises InvalidInput where one is too
        large to be shown."""
        row = self._row(plan, number)
        return await self._content(plan, SideName.HERE, row.here, row), await self._content(
            plan, SideName.THERE, row.there, row
        )

    def _row(self, plan: SyncPlan, number: int) -> SyncRow:
        if not 0 <= number < len(plan.rows) or not plan.rows[number].below:
            raise NotFound("This row is not in the plan.")
        return plan.rows[number]

    async def _content(self, plan: SyncPlan, end: SideName, entry: Entry | None, row: SyncRow) -> bytes:
        if entry is None or not entry.is_file:
            return b""
        if entry.size > _SHOWN_BYTES:
            raise InvalidInput("It is too large to be compared here.")
        async with self._ends.side(plan.pair, end) as side:
            return (await side.read_all(top_of(plan.pair, end).join(row.below)))[1]

    async def merging(self, plan: SyncPlan, number: int) -> tuple[Merged, str]:
        """Merge both texts of a row; return the merged text and the one there.
        Raises InvalidInput where one of them is no text."""
        row = self._row(plan, number)
        ours, theirs = await self.contents(plan, number)
        mine_text, their_text = decoded(ours), decoded(theirs)
        if row.here is None or row.there is None or mine_text is None or their_text is None:
            raise InvalidInput("Only two texts can be merged.")
        known = row.baseline.content_hash if row.baseline else None
        if known is not None and await self._changes.is_kept(known):
            base = decoded(b"".join([chunk async for chunk in self._kept.read(known)]))
            if base is not None:
                return await bounded(merged, base[0], mine_text[0], their_text[0]), their_text[0]
        return await bounded(side_by_side, mine_text[0], their_text[0]), their_text[0]

    async def merge(self, plan: SyncPlan, number: int, text: str) -> None:
        """Both ends of a row are to get this text. It is written when the plan is carried out, and not before."""
        ours, _ = await self.contents(plan, number)
        found = decoded(ours)
        if found is None:
            raise InvalidInput("The version here is not a text file.")
        await self._decisions.take_merged(plan, number, encoded(text, found[1]))

    async def write_merged(self, plan: SyncPlan) -> None:
        """Put merged texts in their place at the first end, from where they go up like anything newer there. Nothing else is
        decided meanwhile: the plan is being carried out."""
        wanted = {number: text for number, text in plan.merged.items() if plan.doings.each[number] is Doing.UPLOAD}
        if not wanted:
            return
        pair = plan.pair
        site = await self._ends.site(pair, SideName.HERE)
        writes = [
            Write(pair.here.join(plan.rows[number].below), text, plan.rows[number].here, "merged")
            for number, text in wanted.items()
        ]
        title = f"Merging {names_text([plan.rows[number].below[-1] for number in wanted])}"
        job_id = await self._writing.add(
            plan.account_id, site, side_of(pair, SideName.HERE), title, writes, at_once=True
        )
        async for _ in self._live.changes(at_most_every_s=_LOOK_EVERY_S, heartbeat_s=1.0):
            job = await self._jobs.get(job_id)
            if job.state in ENDED:
                break
        if job.state is not JobState.DONE:
            raise Conflict(
                f"The merged files could not be saved here. See job {job_id} for the reason. Nothing else was changed."
            )
        async with self._ends.side(pair, SideName.HERE) as side:
            now = {number: await side.stat(pair.here.join(plan.rows[number].below)) for number in wanted}
        rows = [replace(row, here=now[number]) if number in now else row for number, row in enumerate(plan.rows)]
        plan.found = replace(plan.found, rows=rows)
        plan.decided = await asyncio.to_thread(plan.worked_out, replace(plan.decided.wanted, merged={}))
