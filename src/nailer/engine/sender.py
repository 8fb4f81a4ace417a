"""Sending bytes to a name of the target: counted, hashed, gone on with where an earlier try was cut."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator

from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.engine.context import JobContext
from nailer.engine.sending import Ends, Permissions, Sending, SendingTools, proved_point
from nailer.engine.source_reader import SourceReader
from nailer.errors import (
    Conflict,
)
from nailer.sides.side import tolerated
from nailer.store.jobs import Item


class Sender:
    """Sends the contents of one job's items."""

    def __init__(self, context: JobContext, reader: SourceReader) -> None:
        self.context = context
        self.reader = reader

    async def copied_there(self, item: Item, source: Entry, permissions: Permissions, sending: Sending) -> Entry | None:
        """A copy that the side makes by itself, under the temporary name; None where it cannot. What is built may have a
        file beside it that holds the same: that need not go over the wire."""
        job = self.context.job
        copies = job.kind is JobKind.COPY and self.context.source is self.context.target and self.context.ahead is None
        builds = job.kind is JobKind.BUILD and item.source != item.target
        if not (copies or builds) or not await self.context.target.copy(item.source, self.context.part(item)):
            return None
        sending.taken_as_sent(source.size)
        bits = permissions.exact if permissions.exact is not None else permissions.at_most
        await tolerated(
            self.context.target.set_attributes(self.context.part(item), permissions=bits, stamp=source.stamp)
        )
        return await self.context.target.stat(self.context.part(item))

    async def resume(self, sending: Sending, item: Item, source: Entry) -> None:
        """Let the carry of a large file go on where an earlier try was cut. Nothing is done where neither side is this
        machine."""
        near = next((side for name, side in self.context.sides.items() if name is SideName.HERE), None)
        if near is None or self.context.source is self.context.target:
            return
        ends = Ends(
            self.context.source,
            item.source,
            self.context.target,
            self.context.part(item),
            from_here=self.context.source is near,
        )
        if (proof := await proved_point(ends, source, await self.context.parts.proofs_of(item.id))) is None:
            return
        reading = self.context.source.read(item.source) if ends.from_here else self.context.target.read(ends.part)
        await sending.begin_at(proof, reading, self.reader.read_still(item, proof.at))

    async def send(
        self,
        part: SitePath,
        sending: Sending,
        item: Item,
        source: Entry,
        permissions: Permissions,
        free: SitePath | None,
    ) -> Entry:
        """Write the bytes under a name of the target and return what stands there then. Raises Conflict where other
        bytes came than the plan had seen."""
        async with contextlib.aclosing(sending.chunks()) as chunks:
            self.context.uncleared.add((item.id, part.name))
            landed = await self.context.target.land(
                part,
                chunks,
                start=sending.start,
                permissions=permissions.exact,
                at_most=permissions.at_most,
                stamp=source.stamp,
                free=free,
            )
        if sending.size != source.size:
            words = f"received {sending.size} of {source.size} bytes"
            raise Conflict(f"{item.source} changed while it was read: {words}.")
        return landed

    def sending(self, content: AsyncIterator[bytes], item: Item, source: Entry) -> Sending:
        """The bytes of an item on their way, counted and hashed."""
        return Sending(
            content,
            item,
            source,
            SendingTools(self.context.job, self.context.live, self.context.limits, self.context.parts),
        )
