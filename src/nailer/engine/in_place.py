"""Overwriting under a file's own name, where nothing can be renamed: kept before, put back where it does not come whole."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import replace

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry
from nailer.engine.context import JobContext
from nailer.engine.keeper import Keeper
from nailer.engine.receipts import Receipts, confirmed
from nailer.engine.sender import Sender
from nailer.engine.sending import Permissions
from nailer.errors import (
    Conflict,
    ConnectionDropped,
    NailerError,
    NotVerified,
    RenameRefused,
)
from nailer.store.changes import Level, What
from nailer.store.jobs import Item


class InPlace:
    """Overwrites files of one job in place, by choice of their site."""

    def __init__(self, context: JobContext, receipts: Receipts, keeper: Keeper, sender: Sender) -> None:
        self.context = context
        self.receipts = receipts
        self.keeper = keeper
        self.sender = sender

    async def overwrite(
        self,
        item: Item,
        content: AsyncIterator[bytes],
        source: Entry,
        there: Entry | None,
        permissions: Permissions,
        level: Level | None,
    ) -> tuple[bytes | None, Entry]:
        """Write a file under its own name, where nothing can be renamed: its old content is kept first, and put back where
        the new one does not come whole. Announced without what it will be: until it is confirmed it may be a half."""
        kept = await self.keeper.keep(item, there, level)
        if there is not None and there.is_file and kept is None:
            sentence = f"{item.target} is too large to be kept, so it is not overwritten in place."
            raise RenameRefused(sentence, server_words=None)
        if there is None and await self.context.look(self.context.target, item.target) is not None:
            raise Conflict(f"{item.target} appeared after the plan was made.")
        before_hash = kept.hash if kept else None
        what = What.MADE if there is None else What.REPLACED
        await self.receipts.announce(item, what, before=there, before_hash=before_hash, level_before=level)
        sending = self.sender.sending(content, item, source)
        try:
            landed = await self.sender.send(item.target, sending, item, source, permissions, None)
            if landed.size != sending.size:
                words = f"{landed.size} bytes arrived, {sending.size} were sent"
                raise NotVerified(f"{item.target} arrived incomplete.", server_words=words)
        except (ConnectionDropped, asyncio.CancelledError):
            self.context.announced[item.id] = (what, None)
            raise
        except NailerError:
            await self.put_content_back(
                item, await self.context.look(self.context.target, item.target), before_hash, there
            )
            raise
        self.context.uncleared.discard((item.id, item.target.name))
        after = replace(landed, name=item.target.name)
        await self.receipts.withdraw(item)
        await self.receipts.announce(
            item,
            what,
            before=there,
            before_hash=before_hash,
            after=after,
            after_hash=sending.digest,
            level_before=level,
        )
        return sending.digest, after

    async def put_content_back(
        self, item: Item, now: Entry | None, before_hash: bytes | None = None, before: Entry | None = None
    ) -> None:
        """Undo a writing in place that did not end: the old content comes back, and what was new goes. What stands there is
        kept all the same: it may be somebody else's by now."""
        before = before or item.seen
        if before_hash is None and before is not None:
            before_hash = await self.context.changes.before_of_item(item.id)
        untouched = now is not None and before is not None and still_as(now, before)
        if untouched or (before is not None and before_hash is None) or (before is None and now is None):
            await self.receipts.withdraw(item)
            return
        half = await self.keeper.keep(item, now)
        if before is not None and before_hash is not None:
            old = self.context.kept.read(before_hash)
            landed = await self.context.target.land(
                item.target, old, permissions=before.permissions, stamp=before.stamp
            )
            if landed.size != before.size:
                raise NotVerified(f"The old content of {item.target} could not be restored completely.")
            what, after = (What.MADE if now is None else What.REPLACED), landed
        elif now is not None and now.is_file and half is not None:
            await self.context.target.remove_file(item.target)
            what, after = What.REMOVED, None
        else:
            return
        await self.receipts.withdraw(item)
        await self.receipts.announce(item, what, before=now, before_hash=half.hash if half else None, after=after)
        await self.context.group.submit(confirmed(item))
