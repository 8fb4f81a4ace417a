"""The interface every side fulfils, and the walk that works over any of them.

A side speaks in `SitePath`, `Entry` and the errors of `nailer.errors`; whatever lies below (a file system, a protocol)
never shows. The contract in `tests/contracts` runs over every implementation.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable
from contextlib import aclosing
from dataclasses import dataclass
from typing import Protocol

from nailer.core.files.completeness import Incomplete, Listing
from nailer.core.files.entry import Entry, Stamp
from nailer.core.files.permissions import within
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.plans.room import Room
from nailer.errors import Conflict, FileMissing, NotSupported, PermissionRefused, ServerFailed, TransferError, WrongKind

CHUNK_BYTES = 256 * 1024
Names = tuple[SitePath, SitePath]
"""A name and what it becomes."""


class Side(Protocol):
    """Either end of a pair. All paths are absolute within the side; a link as the last name is never followed, unless
    said so. Every method raises `TransferError`s only, and `asyncio.CancelledError` passes through."""

    async def list(self, folder: SitePath, *, careful: bool = False) -> Listing:
        """What is in a folder, in no order, links with their target and the kind they lead to, and whether that is known to
        be all. `careful`: also where the server hides links in its usual listing, whatever it costs; for what removes or
        changes whole trees. Raises FileMissing only where the folder is known not to be there."""

    async def stat(self, path: SitePath) -> Entry:
        """One name. Raises FileMissing where there is known to be none, NotKnown where nobody can tell."""

    async def resolve(self, path: SitePath) -> SitePath:
        """The same place with every link followed. Raises FileMissing, OutsideRoot."""

    def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        """The bytes of a file from `start`, in chunks. Follows a link to a file. Close it (aclosing) when done early.
        With `ahead` no more than about so many bytes are asked for before they are taken."""

    renames: bool | None
    """Whether anything can be renamed here; None where that was not tried yet. Whoever tries writes it down."""

    @property
    def holes_bytes(self) -> int:
        """How much at the end of a file whose writing was cut may have holes: what was under way out of order."""

    async def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        """A small file in one go: what it is, and all its bytes, read between two looks that agree. Raises Conflict
        where it changed meanwhile. Follows a link to a file."""

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        """Make or empty the file and write all chunks; return the number of bytes. Not safe by itself: the engine
        writes under a temporary name. A link in that place is refused where the server can tell. With `start` the
        first so many bytes stay, and writing goes on behind them."""

    async def land(
        self,
        path: SitePath,
        chunks: AsyncIterator[bytes],
        *,
        start: int = 0,
        permissions: int | None = None,
        at_most: int | None = None,
        stamp: Stamp | None = None,
        free: SitePath | None = None,
    ) -> Entry:
        """As `write`, then set permissions and time as far as the server lets, and return the entry as it stands after that,
        in as few round trips as can be. `permissions` is set whatever it was; with `at_most` instead, a new file gets those
        bits as far as the side gives them to new files by itself (its umask). With `free` raises AlreadyThere where that
        name is taken by then, on sides whose `rename` could not tell by itself."""

    async def make_folder(self, path: SitePath) -> None:
        """Make one folder. Raises AlreadyThere."""

    async def remove_file(self, path: SitePath) -> None:
        """Remove a file or a link, and see that it is gone. Raises NotDone where a server only said so."""

    async def remove_folder(self, path: SitePath) -> None:
        """Remove an empty folder, and see that it is gone. Raises FolderNotEmpty, NotDone."""

    async def rename(
        self,
        old: SitePath,
        new: SitePath,
        *,
        replace: bool = False,
        looked: bool = False,
        landed: Entry | None = None,
    ) -> None:
        """Rename or move within the side, and see that it is so. Raises AlreadyThere, unless `replace`: then the taken name
        is replaced in one step, or nothing is changed and CannotReplace raised. Raises RenameRefused where the server
        renames nothing here, also where it only says that it does.
        `looked`: the caller has just seen that the new name is free, and a side need not look once more. `landed`: what the
        caller has just seen under the old one."""

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        """Two renames to names that were seen free, or become free by the first: one after the other, with as little time
        between them as can be. Returns why each was refused. The second is tried whatever becomes of the first."""

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        """Copy a file's bytes within the side without carrying them, the target made or emptied. False where the side
        cannot; then nothing was done."""

    async def make_link(self, path: SitePath, target: bytes) -> None:
        """Make a symbolic link that says `target`. Raises AlreadyThere."""

    async def set_attributes(
        self, path: SitePath, *, permissions: int | None = None, stamp: Stamp | None = None
    ) -> None:
        """Set the twelve permission bits and the modification time, whichever is given, of a file or folder."""

    async def home(self) -> SitePath:
        """The folder that the account starts in; the root where the side has no other."""

    async def room(self, folder: SitePath) -> Room | None:
        """Space there, or None where the side does not say."""

    async def own_hash(self, path: SitePath) -> Digest | None:
        """What the server itself says of a file's content, without sending it; None where it says nothing."""


@dataclass(frozen=True, slots=True)
class Digest:
    """A hash of a content. `algorithm` is its name as Python's hashlib has it."""

    algorithm: str
    value: bytes


async def land_by_steps(
    side: Side,
    path: SitePath,
    chunks: AsyncIterator[bytes],
    *,
    start: int,
    permissions: int | None,
    at_most: int | None,
    stamp: Stamp | None,
) -> Entry:
    """`Side.land` for a side that does one thing after another, and whose `rename` refuses by itself."""
    await side.write(path, chunks, start=start)
    if permissions is None and at_most is not None:
        given = (await side.stat(path)).permissions
        permissions = within(at_most, given) if given is not None else None
    await tolerated(side.set_attributes(path, permissions=permissions, stamp=stamp))
    return await side.stat(path)


async def refused(renaming: Awaitable[None]) -> TransferError | None:
    """Why a renaming is refused; None where it is not. Raises what heals: nobody knows then what has happened."""
    try:
        await renaming
    except TransferError as error:
        if error.retryable:
            raise
        return error
    return None


async def read_all_by_steps(side: Side, path: SitePath) -> tuple[Entry, bytes]:
    """`Side.read_all` for a side that can only do one thing after another."""
    before = await side.stat(path)
    async with aclosing(side.read(path)) as chunks:
        content = b"".join([chunk async for chunk in chunks])
    return agreed(before, await side.stat(path), content)


def agreed(before: Entry, after: Entry, content: bytes) -> tuple[Entry, bytes]:
    """What was read, where nothing changed while it was. Raises Conflict."""
    if (before.size, before.stamp) != (after.size, after.stamp) or len(content) != after.size:
        raise Conflict(f"{shown_name(before.name)} changed while Nailer was reading it.")
    return after, content


async def part_of(side: Side, path: SitePath, start: int, length: int) -> bytes:
    """So many bytes of a file from `start` on, fewer at its end. Raises what reading raises."""
    got = b""
    async with aclosing(side.read(path, start=start, ahead=length)) as chunks:
        async for chunk in chunks:
            got += chunk
            if len(got) >= length:
                break
    return got[:length]


async def look(side: Side, path: SitePath) -> Entry | None:
    """What is under a name; None where there is known to be nothing. Raises what looking raises, NotKnown among it."""
    try:
        return await side.stat(path)
    except FileMissing:
        return None


async def is_there(side: Side, path: SitePath) -> bool:
    """True where there is something under a name. Raises what looking raises, NotKnown among it."""
    return await look(side, path) is not None


async def tolerated(request: Awaitable[object]) -> bool:
    """Setting permissions and time is good manners: a server that refuses still gets the file. True where it was done."""
    try:
        await request
    except (PermissionRefused, NotSupported, ServerFailed, WrongKind):
        return False
    return True


@dataclass(frozen=True, slots=True)
class Reading:
    """One folder of a walk: the names from the walk's start down to it, and what is in it or why it cannot be read. `lack`
    says why `entries` may not be all; `parts` are temporary files of Nailer's own."""

    below: tuple[bytes, ...]
    entries: list[Entry]
    problem: TransferError | None = None
    lack: Incomplete | None = None
    parts: tuple[Entry, ...] = ()

    @property
    def doubt(self) -> str:
        """Why not everything in this folder is known; '' where it is."""
        if self.problem is not None:
            return self.problem.what
        return self.lack.sentence if self.lack is not None else ""


def _always(_: tuple[bytes, ...], __: Entry) -> bool:
    return True


async def walk(
    side: Side,
    start: SitePath,
    *,
    at_once: int = 128,
    careful: bool = False,
    enter: Callable[[tuple[bytes, ...], Entry], bool] = _always,
) -> AsyncGenerator[Reading, None]:
    """Every folder under `start`, itself first, as they are read; `at_once` of them at a time; `careful` as for `list`.
    `enter` says whether a folder is read, by its names below `start`.

    Links are never entered, so that a loop of links ends and nothing outside the tree is counted. A folder that cannot
    be read arrives with its problem, and the walk goes on.
    """

    async def _read_one(below: tuple[bytes, ...]) -> Reading:
        try:
            listing = await side.list(start.join(below), careful=careful)
            return Reading(below, listing.entries, None, listing.lack, listing.parts)
        except TransferError as problem:
            return Reading(below, [], problem)

    waiting: list[tuple[bytes, ...]] = [()]
    running: set[asyncio.Task[Reading]] = set()
    try:
        while waiting or running:
            while waiting and len(running) < at_once:
                running.add(asyncio.create_task(_read_one(waiting.pop())))
            finished, running = await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
            for task in finished:
                reading = task.result()
                inside = (((*reading.below, one.name), one) for one in reading.entries if one.is_folder)
                waiting.extend(below for below, entry in inside if enter(below, entry))
                yield reading
    finally:
        for task in running:
            task.cancel()
        await asyncio.gather(*running, return_exceptions=True)


async def once(content: bytes) -> AsyncGenerator[bytes, None]:
    """A content as the single chunk of a stream."""
    yield content
