"""A side as somebody sees it who has one folder of it: nothing outside is read, changed or told of, whatever leads there.

A path is held against the folder twice: as it is written, and as the server resolves it. The second look costs a round
trip for each folder, and is remembered for a few seconds.
"""

from __future__ import annotations

import time
from collections.abc import AsyncGenerator, AsyncIterator
from contextlib import aclosing

from nailer.core.files.completeness import Listing
from nailer.core.files.entry import Entry, Kind, SideName, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant
from nailer.core.plans.room import Room
from nailer.errors import FileMissing, NotSupported, OutsideRoot, TransferError
from nailer.sides.here import HereSide
from nailer.sides.side import Digest, Names, Side

_TRUSTED_S = 5.0
_MOST_KNOWN = 5000


def confined(side: Side, name: SideName, grant: Grant | None) -> Side:
    """The side itself where nothing limits it, else one that ends at the folder of the grant."""
    return side if grant is None or not grant.limits(name) else below(side, grant.top(name))


def below(side: Side, top: SitePath | None) -> Side:
    """A side that ends at a folder. Here the disk itself holds it, in the walk that opens a file: between looking and
    reading a folder may be exchanged for a link. A server is asked twice; nothing else can be asked of it."""
    return ConfinedSide(side.below(top) if isinstance(side, HereSide) and top is not None else side, top)


def behind(side: Side | None) -> Side | None:
    """The side that a confined one passes on to; any other itself."""
    return side._side if isinstance(side, ConfinedSide) else side


class ConfinedSide:
    """Passes on what stays in one folder. With `top` None nothing does."""

    def __init__(self, side: Side, top: SitePath | None) -> None:
        self._side = side
        self._top = top
        self._real_top: SitePath | None = None
        self._known: dict[SitePath, float] = {}

    async def list(self, folder: SitePath, *, careful: bool = False) -> Listing:
        """A folder inside."""
        await self._check_place(folder)
        return await self._side.list(folder, careful=careful)

    async def stat(self, path: SitePath) -> Entry:
        """A name inside; a link is not followed."""
        await self._check_name(path)
        return await self._side.stat(path)

    async def resolve(self, path: SitePath) -> SitePath:
        """A place inside, which is inside once every link is followed."""
        self._check_written(path)
        try:
            real = await self._side.resolve(path)
        except FileMissing:
            await self._check_name(path)  # of what lies outside nobody learns whether it is there
            raise
        await self._check_real(real, path)
        return real

    @property
    def is_open(self) -> bool:
        """As the side behind it."""
        open_still: bool = getattr(self._side, "is_open", True)
        return open_still

    @property
    def renames(self) -> bool | None:
        return self._side.renames

    @renames.setter
    def renames(self, works: bool | None) -> None:
        self._side.renames = works

    @property
    def holes_bytes(self) -> int:
        """As the side behind it."""
        return self._side.holes_bytes

    async def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        """A file inside, also through a link."""
        await self._check_place(path)
        async with aclosing(self._side.read(path, start=start, ahead=ahead)) as chunks:
            async for chunk in chunks:
                yield chunk

    async def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        """A file inside, also through a link."""
        await self._check_place(path)
        return await self._side.read_all(path)

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        """A file inside, also where a link has its name."""
        await self._check_place(path)
        return await self._side.write(path, chunks, start=start)

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
        """A file inside, also where a link has its name."""
        await self._check_place(path)
        if free is not None:
            await self._check_name(free)
        return await self._side.land(
            path, chunks, start=start, permissions=permissions, at_most=at_most, stamp=stamp, free=free
        )

    async def make_folder(self, path: SitePath) -> None:
        """A folder inside."""
        await self._check_name(path)
        await self._side.make_folder(path)

    async def remove_file(self, path: SitePath) -> None:
        """A name inside; of a link the link itself."""
        await self._check_changed_name(path)
        await self._side.remove_file(path)

    async def remove_folder(self, path: SitePath) -> None:
        """A folder inside, but not the one that is the top."""
        await self._check_changed_name(path)
        await self._side.remove_folder(path)

    async def rename(
        self,
        old: SitePath,
        new: SitePath,
        *,
        replace: bool = False,
        looked: bool = False,
        landed: Entry | None = None,
    ) -> None:
        """From one name inside to another."""
        await self._check_changed_name(old)
        await self._check_changed_name(new)
        entry = await self._side.stat(old)
        if entry.kind is Kind.LINK and old.parent != new.parent:
            await self._check_link(new, entry.target)  # a relative one leads elsewhere from there
        await self._side.rename(old, new, replace=replace, looked=looked, landed=landed)

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        """Each from one name inside to another; links go by themselves only."""
        for path in (*first, *second):
            await self._check_changed_name(path)
        for old, _ in (first, second):
            if (await self._side.stat(old)).kind is Kind.LINK:
                raise NotSupported("{path} is a link: rename it on its own.", path=old)
        return await self._side.rename_both(first, second)

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        """From one place inside to another."""
        await self._check_place(source)
        await self._check_place(target)
        return await self._side.copy(source, target)

    async def make_link(self, path: SitePath, target: bytes) -> None:
        """A link inside that leads nowhere else."""
        await self._check_changed_name(path)
        await self._check_link(path, target)
        await self._side.make_link(path, target)

    async def set_attributes(
        self, path: SitePath, *, permissions: int | None = None, stamp: Stamp | None = None
    ) -> None:
        """Of a place inside, also through a link."""
        await self._check_place(path)
        await self._side.set_attributes(path, permissions=permissions, stamp=stamp)

    async def home(self) -> SitePath:
        """The top: there is nothing above it."""
        return self._top or SitePath()

    async def room(self, folder: SitePath) -> Room | None:
        """The room of a folder inside."""
        self._check_written(folder)
        return await self._side.room(folder)

    async def own_hash(self, path: SitePath) -> Digest | None:
        """Of a file inside, also through a link."""
        await self._check_place(path)
        return await self._side.own_hash(path)

    def _check_written(self, path: SitePath) -> None:
        if self._top is None or path.below(self._top) is None:
            raise OutsideRoot("{path} is outside the folder you have access to.", path=path)

    async def _check_place(self, path: SitePath) -> None:
        """Where a path leads once links are followed; for what is not there yet, where it would be made."""
        self._check_written(path)
        if self._known.get(path, 0.0) > time.monotonic():
            return
        try:
            real = await self._side.resolve(path)
        except FileMissing:
            await self._check_name(path)
            return
        await self._check_real(real, path)
        if len(self._known) > _MOST_KNOWN:
            self._known.clear()
        self._known[path] = time.monotonic() + _TRUSTED_S

    async def _check_name(self, path: SitePath) -> None:
        """Where a name stands: the folder it lies in. What lies in a folder that is not there cannot be anywhere."""
        self._check_written(path)
        if path != self._top:
            await self._check_place(path.parent)

    async def _check_changed_name(self, path: SitePath) -> None:
        """As `_check_name`; the top itself is not theirs to remove or rename."""
        await self._check_name(path)
        if path == self._top:
            raise OutsideRoot("{path} is the folder you have access to. You cannot rename or move it.", path=path)

    async def _check_link(self, path: SitePath, target: bytes | None) -> None:
        if target is None:
            raise OutsideRoot("{path} is a link, and the server does not report its target.", path=path)
        led = _led_to(await self._side.resolve(path.parent), target)
        if led is None:
            raise OutsideRoot("{path} contains “..” after a folder name. Type the target without it.", path=path)
        await self._check_real(led, path)

    async def _check_real(self, real: SitePath, path: SitePath) -> None:
        if self._top is None:
            raise OutsideRoot("{path} is outside the folder you have access to.", path=path)
        if self._real_top is None:
            self._real_top = await self._side.resolve(self._top)
        if real.below(self._real_top) is None:
            raise OutsideRoot("{path} leads out of the folder that is yours.", path=path)


def _led_to(folder: SitePath, target: bytes) -> SitePath | None:
    """Where a link in a resolved folder would lead, as it is written. None where `..` stands behind a name: that may be
    a link itself, and then the server goes up from another place than the one that is written."""
    names: list[bytes] = [] if target.startswith(b"/") else list(folder.names)
    named = False
    for name in target.split(b"/"):
        named = named or name not in (b"", b".", b"..")
        if name == b"..":
            if named:
                return None
            del names[-1:]
        elif name not in (b"", b"."):
            names.append(name)
    return SitePath(tuple(names))
