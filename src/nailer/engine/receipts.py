"""Receipts: every change is announced before it is made, confirmed after, and the baseline is written with it."""

from __future__ import annotations

from collections.abc import Coroutine, Sequence
from typing import Any

from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.plan import Action
from nailer.engine.context import JobContext
from nailer.engine.group_commit import Statement
from nailer.errors import (
    ConnectionDropped,
    TransferError,
)
from nailer.store.changes import Level, NewChange, What, change_row, pair_key
from nailer.store.database import utc_now
from nailer.store.jobs import Item
from nailer.unbroken import unbroken

_LEVELS = (Action.TRANSFER, Action.MAKE_FOLDER, Action.REMOVE, Action.REMOVE_FOLDER)


class Receipts:
    """Writes what happens to the items of one job into the database."""

    def __init__(self, context: JobContext) -> None:
        self.context = context

    async def learn_levels(self, items: Sequence[Item]) -> None:
        """Read the baseline of many items with one query, before they are carried."""
        owner = self.context.job.pair_site_id if self.context.job.kind is JobKind.SYNC else self.context.job.site_id
        if self.context.job.kind not in (JobKind.TRANSFER, JobKind.SYNC) or owner is None:
            return
        kinds = (Action.TRANSFER,) if self.context.job.kind is JobKind.TRANSFER else _LEVELS
        level = [item for item in items if item.action in kinds and item.source.name == item.target.name]
        pairs = [self._pair(item) for item in level]
        found = await self.context.changes.levels(owner, pairs, other_site_id=self.context.job.pair_other_id)
        self.context.levels |= {item.id: level for item, level in zip(level, found, strict=True)}

    def _pair(self, item: Item) -> tuple[SitePath, SitePath]:
        """An item's two ends: here, there."""
        ends = (item.source, item.target)
        return ends if self.context.job.changes_end is SideName.THERE else ends[::-1]

    def is_level(
        self, level: Level | None, changed: Entry, other: Entry, digest: bytes | None = None
    ) -> list[Statement]:
        """The statement that records both ends of an item as level, after one of them was changed."""
        if level is None:
            return []
        here, there = (other, changed) if self.context.job.changes_end is SideName.THERE else (changed, other)
        return [("baselines.write", level.written(here, there, digest))]

    def forgotten(self, item: Item) -> list[Statement]:
        """The statement that takes a removed name out of the baseline, as neither end has it any more."""
        level = self.context.levels.pop(item.id, None)
        return [("baselines.forget", level.key)] if level is not None else []

    def moved_along(self, item: Item) -> list[Statement]:
        """The row that renames an item in the baseline. One end had the new name already; now the other has it, too."""
        owner, near, far = self.context.job.pair_site_id, self.context.job.source_folder, self.context.job.target_folder
        old, new = item.source.below(far), item.target.below(far)
        if self.context.job.kind is not JobKind.SYNC or owner is None or old is None or new is None:
            return []
        tops = (near, far) if self.context.job.changes_end is SideName.THERE else (far, near)

        def _key(below: tuple[bytes, ...]) -> bytes:
            return pair_key(tops[0].join(below[:-1]), tops[1].join(below[:-1]), self.context.job.pair_other_id)

        values = {"old_key": _key(old), "old_name": old[-1], "new_key": _key(new), "new_name": new[-1]}
        return [("baselines.move", {"site_id": owner} | values)]

    async def withdraw_or_correct(self, item: Item, before: Entry, now: Entry | None) -> None:
        """The announced change did not happen. Where another one did, that one is recorded and can be taken back."""
        await self.withdraw(item)
        if now is not None and now.permissions != before.permissions:
            await self.announce(item, What.PERMISSIONS_SET, before=before, after=now)
            await self.context.group.submit(confirmed(item))

    async def change_at_once(
        self,
        item: Item,
        what: What,
        act: Coroutine[Any, Any, None],
        *,
        before: Entry | None = None,
        before_hash: bytes | None = None,
        path: SitePath | None = None,
        other: SitePath | None = None,
        after: Entry | None = None,
    ) -> None:
        """Announce a change and make it; withdraw the announcement where it cannot be made."""
        try:
            await self.announce(item, what, before=before, before_hash=before_hash, path=path, other=other, after=after)
        except BaseException:
            act.close()
            raise
        try:
            await unbroken(act)
        except ConnectionDropped:
            # Whether it was made nobody knows; the next try looks.
            self.context.announced[item.id] = (what, None)
            raise
        except TransferError:
            await self.withdraw(item)
            raise

    async def announce(
        self,
        item: Item,
        what: What,
        *,
        before: Entry | None = None,
        before_hash: bytes | None = None,
        after: Entry | None = None,
        after_hash: bytes | None = None,
        level_before: Level | None = None,
        path: SitePath | None = None,
        other: SitePath | None = None,
    ) -> None:
        """Write down a change before it is made, with what takes it back."""
        await self.context.hold()
        change = NewChange(
            site_id=self.context.job.site_id,
            side=self.context.job.to_side,
            path=path or item.target,
            other_path=other,
            what=what,
            account_id=self.context.job.account_id,
            before=before,
            before_hash=before_hash,
            after=after,
            after_hash=after_hash,
            job_id=self.context.job.id,
            item_id=item.id,
            level_before=level_before,
        )
        await self.context.group.submit(("changes.add", change_row(change)))

    async def taken_back(self, item: Item) -> tuple[Statement, ...]:
        """The statements that mark the undone change as taken back and restore the baseline that it had replaced."""
        if item.undoes is None:
            return ()
        marked: Statement = ("changes.taken_back", {"id": item.undoes, "now": utc_now()})
        level = (await self.context.changes.get(item.undoes)).level_before
        return (marked, level.to_put_back) if level is not None else (marked,)

    async def withdraw(self, item: Item) -> None:
        """Take an announcement back: the change was not made."""
        await self.context.group.submit(("changes.withdraw", {"item_id": item.id}))


def confirmed(item: Item) -> Statement:
    """The row that turns an item's announcement into a change that was made."""
    return ("changes.confirm", {"item_id": item.id})
