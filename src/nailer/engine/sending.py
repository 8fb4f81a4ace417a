"""The bytes of one file while they are sent: limited in speed, counted and hashed. Continues where an earlier try was cut.

Going on needs proof that both halves are of one version. While a large file is carried the hash of what has gone is written
down now and then. A later try takes the last such point that still holds: the half on this machine has that hash again, the
other side has the same bytes at some places, and what comes from a server has the time it had, told to the second.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncGenerator, AsyncIterator, Iterable, Sequence
from dataclasses import dataclass

import structlog
from blake3 import blake3

from nailer.core.files.entry import NS, Entry
from nailer.core.files.sitepath import SitePath
from nailer.engine.limits import SpeedLimits, lines_of
from nailer.engine.live import LiveJob
from nailer.errors import ConnectionDropped, FileMissing, NailerError, TransferError
from nailer.sides.side import CHUNK_BYTES, Side, part_of
from nailer.store.jobs import Item, Job
from nailer.store.running.parts import PartStore, Proof

_log = structlog.get_logger()

_COMPARED_BYTES = 64 * 1024
_PLACES_COMPARED = 12
_PROVED_BYTES = 8 * 1024 * 1024  # how often, at most, a large file's hash is written down
_PROOFS = 16


@dataclass(frozen=True, slots=True)
class Permissions:
    """What a file's permissions become: `exact`, or for a new one `at_most` as far as its side makes new files so open."""

    exact: int | None = None
    at_most: int | None = None


@dataclass(frozen=True, slots=True)
class SendingTools:
    """What sending a file needs of its job."""

    job: Job
    live: LiveJob
    limits: SpeedLimits
    parts: PartStore


@dataclass(frozen=True, slots=True)
class Ends:
    """The two ends of a file that was cut: where it comes from, and its half. `from_here`: it comes from this machine."""

    source: Side
    path: SitePath
    target: Side
    part: SitePath
    from_here: bool


async def proved_point(ends: Ends, source: Entry, proofs: Sequence[Proof]) -> Proof | None:
    """Where the carry of a large file may go on, as far as the two sides can tell; None where it begins anew. `source` is
    what stands there now. The caller compares the hash of the half file on this machine, too."""
    if source.size <= CHUNK_BYTES:
        return None
    try:
        half = await ends.target.stat(ends.part)
    except FileMissing:
        return None
    if not half.is_file:
        return None
    known = min(half.size, source.size) - ends.target.holes_bytes
    fitting = [one for one in proofs if CHUNK_BYTES <= one.at <= known and (ends.from_here or one.holds_for(source))]
    proof = max(fitting, key=lambda one: one.at, default=None)
    if proof is None or not await _compares(ends, proof.at):
        return None
    return proof


async def _compares(ends: Ends, at: int) -> bool:
    """True where both ends have the same bytes before a point, the last of them first. Of a file from a server some more
    places are compared: its time can be set to what it was."""
    places = 1 if ends.from_here else _PLACES_COMPARED
    points = sorted({max(_COMPARED_BYTES, at * number // places) for number in range(1, places + 1)}, reverse=True)
    try:
        for point in points:
            if await span(ends.source, ends.path, point) != await span(ends.target, ends.part, point):
                return False
    except ConnectionDropped:
        raise
    except TransferError:
        return False  # a server that cannot read or write from the middle of a file gets all of it again
    return True


class Sending:
    """Chunks while they are sent: limited in speed, counted, hashed and shown as progress. `start` is where they
    begin in the file, behind what had come before."""

    def __init__(self, content: AsyncIterator[bytes], item: Item, source: Entry, tools: SendingTools) -> None:
        self._content = content
        self._source = source
        self._proofs: list[Proof] = []
        self._prove_at = _PROVED_BYTES
        self._proving: asyncio.Task[None] | None = None
        self._item = item
        self._tools = tools
        self._hash = blake3()
        self.start = 0
        self.size = 0
        self.begun = False
        self.unseen = False

    async def begin_at(self, proof: Proof, before: AsyncGenerator[bytes, None], rest: AsyncIterator[bytes]) -> None:
        """Take the bytes up to a proved point as sent, if they still are what was sent: they are read for the hash alone.
        `rest` are those behind them."""
        at = proof.at
        hashed, size = blake3(), 0
        async with contextlib.aclosing(before) as chunks:
            async for chunk in chunks:
                chunk = chunk[: at - size]
                hashed.update(chunk)
                size += len(chunk)
                self._tools.live.sent(self._item.id, 0)  # a sign of life: hashing what is there takes its time
                if size == at:
                    break
        if size == at and bytes(hashed.digest()) == proof.digest:
            await close_content(self._content)
            self._content, self._hash, self.start, self.size = rest, hashed, at, at
            self._tools.live.resumed(self._item.id, at)

    def taken_as_sent(self, size: int) -> None:
        """The side copied so many bytes by itself; their hash is not known."""
        self.size, self.unseen = size, True
        self._tools.live.resumed(self._item.id, size)

    async def chunks(self) -> AsyncGenerator[bytes, None]:
        """The bytes in pieces, as fast as the limits allow."""
        self.begun = True
        job, live, limits = self._tools.job, self._tools.live, self._tools.limits
        lines = lines_of(job)
        try:
            async for chunk in self._content:
                for piece in _slices(chunk, limits.slice_bytes(*lines)):
                    await limits.pay(job.id, len(piece), *lines)
                    self._hash.update(piece)
                    self.size += len(piece)
                    if self.size >= self._prove_at:
                        self._prove()
                    yield piece
                    live.sent(self._item.id, len(piece))
        finally:
            await close_content(self._content)
            if self._proving is not None:
                await asyncio.gather(self._proving, return_exceptions=True)

    def _prove(self) -> None:
        """Write down what was carried so far, beside the carrying: a later try may go on from there."""
        step = max(_PROVED_BYTES, self._item.entry.size // 64)
        self._prove_at = self.size + step
        stamp = self._source.stamp
        point = Proof(
            self.size, bytes(self._hash.digest()), stamp.at_ns if stamp and stamp.precision_ns < 60 * NS else None
        )
        self._proofs = [*self._proofs[1 - _PROOFS :], point]
        if self._proving is None or self._proving.done():
            self._proving = asyncio.create_task(self._write_down(self._proofs))

    async def _write_down(self, proofs: Sequence[Proof]) -> None:
        try:
            await self._tools.parts.prove(self._item.id, proofs)
        except NailerError as error:
            # The file is carried all the same. A later try begins further back.
            _log.warning("how far a file came could not be written down", item=self._item.id, why=error.what)

    @property
    def digest(self) -> bytes | None:
        """BLAKE3 of the whole content; None where it never came by."""
        return None if self.unseen else bytes(self._hash.digest())


def _slices(chunk: bytes, most: int | None) -> Iterable[bytes]:
    if most is None or len(chunk) <= most:
        return (chunk,)
    return (chunk[at : at + most] for at in range(0, len(chunk), most))


async def close_content(content: AsyncIterator[bytes]) -> None:
    """Close a stream of bytes that nobody reads to its end."""
    close = getattr(content, "aclose", None)
    if close is not None:
        await close()


async def span(side: Side, path: SitePath, end: int) -> bytes:
    """The last bytes of a file before `end`, enough to tell two files apart."""
    start = max(0, end - _COMPARED_BYTES)
    return await part_of(side, path, start, end - start)
