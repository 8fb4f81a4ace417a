"""A side whose names are kept in another character set than UTF-8: translated on the way in and out."""

from __future__ import annotations

from collections.abc import AsyncGenerator, AsyncIterator
from dataclasses import replace

from nailer.core.files.charset import CHARSETS, UTF8, from_wire, to_wire
from nailer.core.files.entry import Entry, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.files.whole import Listing
from nailer.core.plans.room import Room
from nailer.errors import NotSupported
from nailer.sides.side import Digest, Side


def recoded(side: Side, charset: str) -> Side:
    """The side itself where names are UTF-8, else one that translates."""
    return side if charset == UTF8 else RecodedSide(side, charset)


class RecodedSide:
    """Passes everything on to another side, with paths and names translated."""

    def __init__(self, side: Side, charset: str) -> None:
        self._side = side
        self._charset = charset

    async def list(self, folder: SitePath, *, careful: bool = False) -> Listing:
        listing = await self._side.list(self._out(folder), careful=careful)
        return replace(listing, entries=[self._read(entry) for entry in listing.entries])

    async def stat(self, path: SitePath) -> Entry:
        return self._read(await self._side.stat(self._out(path)))

    async def resolve(self, path: SitePath) -> SitePath:
        return self._in(await self._side.resolve(self._out(path)))

    @property
    def is_open(self) -> bool:
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
        return self._side.holes_bytes

    def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        return self._side.read(self._out(path), start=start, ahead=ahead)

    async def whole(self, path: SitePath) -> tuple[Entry, bytes]:
        entry, content = await self._side.whole(self._out(path))
        return self._read(entry), content

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        return await self._side.write(self._out(path), chunks, start=start)

    async def land(
        self,
        path: SitePath,
        chunks: AsyncIterator[bytes],
        *,
        start: int = 0,
        access: int | None = None,
        at_most: int | None = None,
        stamp: Stamp | None = None,
        free: SitePath | None = None,
    ) -> Entry:
        wanted = self._out(free) if free is not None else None
        landed = await self._side.land(
            self._out(path), chunks, start=start, access=access, at_most=at_most, stamp=stamp, free=wanted
        )
        return self._read(landed)

    async def make_folder(self, path: SitePath) -> None:
        await self._side.make_folder(self._out(path))

    async def remove_file(self, path: SitePath) -> None:
        await self._side.remove_file(self._out(path))

    async def remove_folder(self, path: SitePath) -> None:
        await self._side.remove_folder(self._out(path))

    async def rename(self, old: SitePath, new: SitePath, *, replace: bool = False, looked: bool = False) -> None:
        await self._side.rename(self._out(old), self._out(new), replace=replace, looked=looked)

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        return await self._side.copy(self._out(source), self._out(target))

    async def make_link(self, path: SitePath, target: bytes) -> None:
        await self._side.make_link(self._out(path), self._word(target))

    async def set_attributes(self, path: SitePath, *, access: int | None = None, stamp: Stamp | None = None) -> None:
        await self._side.set_attributes(self._out(path), access=access, stamp=stamp)

    async def home(self) -> SitePath:
        return self._in(await self._side.home())

    async def room(self, folder: SitePath) -> Room | None:
        return await self._side.room(self._out(folder))

    async def own_hash(self, path: SitePath) -> Digest | None:
        return await self._side.own_hash(self._out(path))

    def _out(self, path: SitePath) -> SitePath:
        return SitePath(tuple(self._word(name) for name in path.names))

    def _in(self, path: SitePath) -> SitePath:
        return SitePath(tuple(from_wire(name, self._charset) for name in path.names))

    def _word(self, name: bytes) -> bytes:
        try:
            return to_wire(name, self._charset)
        except UnicodeEncodeError as error:
            letter = error.object[error.start : error.start + 1]
            title = CHARSETS.get(self._charset, self._charset)
            sentence = f"This server keeps names in {title}, which has no letter “{letter}”."
            raise NotSupported(
                sentence, advice=("Rename it, or choose another character set in the site's settings.",)
            ) from error

    def _read(self, entry: Entry) -> Entry:
        target = from_wire(entry.target, self._charset) if entry.target is not None else None
        return replace(entry, name=from_wire(entry.name, self._charset), target=target)
