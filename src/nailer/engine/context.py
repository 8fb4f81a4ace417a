"""What carries the items of one job: the job, its two sides, the stores, and what was learned on the way."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Coroutine, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

from nailer.core.compare.joint import Seen
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.keeping import Keeps
from nailer.core.files.names import aside_name, part_name
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.plan import Action
from nailer.engine.group_commit import GroupCommit, Statement
from nailer.engine.kept import KeptStore
from nailer.engine.limits import SpeedLimits, lines_of
from nailer.engine.live import LiveJob
from nailer.engine.parts import cleared
from nailer.errors import (
    LeaseLost,
    StoreUnavailable,
    TransferError,
)
from nailer.sides.side import CHUNK_BYTES, Side, look
from nailer.store.changes import ChangeStore, Level, What
from nailer.store.jobs import Item, Job
from nailer.store.running.parts import PartStore, begin_row


@dataclass
class JobContext:
    """One job with what carrying its items needs.

    `announced` is what a dead runner had announced, `levels` what the baseline says, both by item; `uncleared` are the
    temporary names that may still be there, with their items. `renames` turns False where the server renames nothing, once
    that was `tried`; `hidden_parts` where it takes no name that begins with a dot. `hold` is asked before a change is
    made, and raises LeaseLost where the job is another run's by now.
    """

    job: Job
    sides: dict[SideName, Side]
    changes: ChangeStore
    kept: KeptStore
    parts: PartStore
    group: GroupCommit
    live: LiveJob
    keep_largest_bytes: int
    limits: SpeedLimits
    hold: Callable[[], Awaitable[None]]
    may_resume: bool = False
    source_site: Side | None = None
    announced: dict[int, tuple[What, Seen | None]] = field(default_factory=dict)
    hidden_parts: bool = True
    levels: dict[int, Level] = field(default_factory=dict)
    renames: bool = True
    tried: bool = False
    uncleared: set[tuple[int, bytes]] = field(default_factory=set)
    keeps: Keeps = field(default_factory=lambda: Keeps(()))

    @property
    def ahead(self) -> int | None:
        """How much to ask for ahead: a slice where the speed is limited."""
        return self.limits.slice_bytes(*lines_of(self.job))

    @property
    def target(self) -> Side:
        """The side that the job changes."""
        return self.sides[self.job.to_side]

    @property
    def source(self) -> Side:
        """The side that the job reads from."""
        if self.source_site is not None:
            return self.source_site
        return self.sides[self.job.to_side if self.job.kind in (JobKind.COPY, JobKind.MOVE) else self.job.to_side.other]

    async def begin_parts(self, items: Sequence[Item]) -> None:
        """Write down the temporary files of items that are about to be carried: whatever happens, they have an owner."""
        await self.parts.begin([self.part_row(one) for one in items if one.action in (Action.TRANSFER, Action.RESTORE)])

    def part_row(self, item: Item) -> Mapping[str, Any]:
        """The row that says whose the item's temporary file is."""
        return begin_row(item.id, item.job_id, self.job.site_id, self.job.to_side, self.part(item))

    async def clear_part(self, item: Item) -> None:
        """Remove the file under a temporary name that a cut carry may have left. Only what is known to be gone loses its
        owner."""
        if await cleared(self.target, item.target.parent, item.job_id, item.id):
            self.uncleared = {one for one in self.uncleared if one[0] != item.id}
            await self.group.submit(("parts.gone", {"item_id": item.id}))

    def usual(self, permissions: int | None) -> int | None:
        """The permissions that the site sets for new names there. Names here do not follow it."""
        return permissions if self.job.to_side is SideName.THERE else None

    def part_ended(self, item: Item) -> tuple[Statement, ...]:
        """The row that says that an item's temporary file is gone; none where it may still be there."""
        left = any(item_id == item.id for item_id, _ in self.uncleared)
        made = item.action in (Action.TRANSFER, Action.RESTORE) and not left
        return (("parts.gone", {"item_id": item.id}),) if made else ()

    async def clear_after_failure(self, item: Item) -> None:
        """Try for ten seconds to clear an item's temporary file; what stays has an owner and is cleared later."""
        with contextlib.suppress(TransferError, TimeoutError, LeaseLost, StoreUnavailable):
            async with asyncio.timeout(10):
                await self.hold()  # what lies there may be another run's by now
                await self.clear_part(item)

    async def look_first(self, item: Item) -> Entry | None:
        """What is at the target. Nobody looks first where a small new file is sent: landing tells whether the name is
        free, and the look would cost as much as the file."""
        return await self.look(self.target, item.target) if self.looks_first(item) else None

    def looks_first(self, item: Item) -> bool:
        """False for a small new file: landing tells whether its name is free."""
        return item.seen is not None or item.entry.size > CHUNK_BYTES

    async def look(self, side: Side, path: SitePath) -> Entry | None:
        """The entry of a name; None where there is none. Raises the errors of reading, and NotKnown."""
        return await look(side, path)

    def aside(self, item: Item) -> SitePath:
        """Where the old file lies while the new one takes its name."""
        return item.target.parent.child(aside_name(item.job_id, item.id, hidden=self.hidden_parts))

    def part(self, item: Item) -> SitePath:
        """Where the new file lies until it is whole."""
        return item.target.parent.child(part_name(item.job_id, item.id, hidden=self.hidden_parts))


_A = TypeVar("_A")
_B = TypeVar("_B")


async def both(one: Coroutine[Any, Any, _A], other: Coroutine[Any, Any, _B]) -> tuple[_A, _B]:
    """Two requests at the same time; where one fails the other is cancelled, and the first error is raised."""
    first, second = asyncio.create_task(one), asyncio.create_task(other)
    try:
        done, _ = await asyncio.wait({first, second}, return_when=asyncio.FIRST_EXCEPTION)
        for task in done:
            task.result()
        return await first, await second
    finally:
        first.cancel()
        second.cancel()
        await asyncio.gather(first, second, return_exceptions=True)
