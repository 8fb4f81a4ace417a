"""Landing: new content takes its place whole, or the old one stays."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import replace

from nailer.core.compare.joint import seen, still_as
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.plan import Action
from nailer.engine.context import JobContext, both
from nailer.engine.in_place import InPlace
from nailer.engine.keeper import Keeper
from nailer.engine.kept import KeptContent
from nailer.engine.receipts import Receipts, confirmed
from nailer.engine.sender import Sender
from nailer.engine.sending import Permissions, Sending
from nailer.engine.swap import Swap, swap_in, tries_renaming
from nailer.errors import (
    AlreadyThere,
    Conflict,
    ConnectionDropped,
    LeaseLost,
    NailerError,
    NotSupported,
    NotVerified,
    PermissionRefused,
    ServerFailed,
)
from nailer.sides.side import CHUNK_BYTES
from nailer.store.changes import Level, What
from nailer.store.jobs import Item
from nailer.unbroken import unbroken


class Landing:
    """Lands the files of one job: beside the target, and then in."""

    def __init__(
        self, context: JobContext, receipts: Receipts, keeper: Keeper, sender: Sender, in_place: InPlace
    ) -> None:
        self.context = context
        self.receipts = receipts
        self.keeper = keeper
        self.sender = sender
        self.in_place = in_place

    async def land(
        self,
        item: Item,
        content: AsyncIterator[bytes],
        source: Entry,
        there: Entry | None,
        permissions: Permissions,
        level: Level | None = None,
    ) -> tuple[bytes | None, Entry]:
        """Steps 2 to 5 of a safe write. Returns the content's hash and the entry that now stands at the target."""
        if not await self._may_rename(item):
            return await self.in_place.overwrite(item, content, source, there, permissions, level)
        sending = self.sender.sending(content, item, source)
        if self._may_go_on(item):
            await self.sender.resume(sending, item, source)
        try:
            after = await self._beside_and_in(sending, item, source, there, permissions, level)
        except AlreadyThere as error:
            await asyncio.shield(self.context.clear_after_failure(item))
            raise Conflict(f"{item.target} appeared after the plan was made.") from error
        except LeaseLost:
            raise  # the half file is another run's now
        except (ConnectionDropped, asyncio.CancelledError):
            # What has gone of a large file is used when it is tried again, and cleared where it is not.
            if source.size <= CHUNK_BYTES:
                await asyncio.shield(self.context.clear_after_failure(item))
            raise
        except BaseException:
            await asyncio.shield(self.context.clear_after_failure(item))
            raise
        return sending.digest, after

    def _may_go_on(self, item: Item) -> bool:
        """Whether what an earlier try left of a file may be gone on from."""
        carries = self.context.job.kind in (JobKind.TRANSFER, JobKind.SYNC) and item.action is Action.TRANSFER
        return self.context.may_resume and carries

    async def _beside_and_in(
        self,
        sending: Sending,
        item: Item,
        source: Entry,
        there: Entry | None,
        permissions: Permissions,
        level: Level | None,
    ) -> Entry:
        """Send beside the target while the old content is kept, announce the change, rename. Returns what stands there."""
        if there is None:
            part, landed, kept = *await self._send_beside(sending, item, source, permissions, item.target), None
        else:
            landing = self._send_beside(sending, item, source, permissions, None)
            (part, landed), kept = await both(landing, self.keeper.keep(item, there, level))
        if landed.size != sending.size:
            words = f"{landed.size} bytes arrived, {sending.size} were sent"
            raise NotVerified(f"{item.target} arrived incomplete.", server_words=words)
        after = replace(landed, name=item.target.name)
        what = What.MADE if there is None else What.REPLACED
        await self.receipts.announce(
            item,
            what,
            before=there,
            before_hash=kept.hash if kept else None,
            after=after,
            after_hash=sending.digest,
            level_before=level,
        )
        try:
            await unbroken(self._rename_over(item, part, landed, there))
        except ConnectionDropped:
            # Whether it was renamed nobody knows; the next try looks.
            self.context.announced[item.id] = (what, seen(after))
            raise
        except NailerError:
            await self._withdraw_or_remember(item, there, kept)
            raise
        return after

    async def _send_beside(
        self, sending: Sending, item: Item, source: Entry, permissions: Permissions, free: SitePath | None
    ) -> tuple[SitePath, Entry]:
        """Write under a temporary name beside the target; return that and what stands there then."""
        hidden = self.context.hidden_parts  # as it is now: another item may find out meanwhile
        try:
            if (copied := await self.sender.copied_there(item, source, permissions, sending)) is not None:
                return self.context.part(item), copied
            return self.context.part(item), await self.sender.send(
                self.context.part(item), sending, item, source, permissions, free
            )
        except (NotSupported, PermissionRefused, ServerFailed):
            if not hidden or sending.begun:
                raise
            # Some hosts refuse every name that begins with a dot.
            self.context.hidden_parts = False
            try:
                return self.context.part(item), await self.sender.send(
                    self.context.part(item), sending, item, source, permissions, free
                )
            except BaseException:
                self.context.hidden_parts = True
                raise

    async def _rename_over(self, item: Item, part: SitePath, landed: Entry, there: Entry | None) -> None:
        if there is None:
            try:
                await self.context.target.rename(part, item.target, looked=True, landed=landed)
            except AlreadyThere as error:
                raise Conflict(f"{item.target} appeared after the plan was made.") from error
            self.context.uncleared.discard((item.id, part.name))
            return
        await self.context.hold()
        now = await self.context.look(self.context.target, item.target)
        if now is None or not still_as(now, there):
            raise Conflict(f"Someone changed {item.target} during the transfer.")
        swap = Swap(part, item.target, self.context.aside(item), landed, now)
        away = await swap_in(self.context.target, swap)
        self.context.uncleared.discard((item.id, part.name))
        if not away:
            self.context.uncleared.add((item.id, self.context.aside(item).name))

    async def _may_rename(self, item: Item) -> bool:
        """False where files are to be overwritten in place: the site allows it, and its server renames nothing."""
        if (
            self.context.renames
            and self.context.job.in_place
            and not self.context.tried
            and self.context.job.to_side is SideName.THERE
        ):
            self.context.tried = True
            self.context.renames = await tries_renaming(self.context.target, item.target.parent) is not False
        return self.context.renames

    async def _withdraw_or_remember(self, item: Item, there: Entry | None, kept: KeptContent | None) -> None:
        """Nothing came of an announced change, unless the old file lost its name on the way: that can be taken back then."""
        await self.receipts.withdraw(item)
        if there is None or kept is None or await self.context.look(self.context.target, item.target) is not None:
            return
        await self.receipts.announce(item, What.REMOVED, before=there, before_hash=kept.hash)
        await self.context.group.submit(confirmed(item))
