"""A side whose names are kept in another character set than UTF-8: translated on the way in and out."""

from __future__ import annotations

from collections.abc import AsyncGenerator, AsyncIterator
from dataclasses import replace

from nailer.core.files.charset import CHARSETS, UTF8, from_wire, to_wire
from nailer.core.files.completeness import Listing
from nailer.core.files.entry import Entry, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.plans.room import Room
from nailer.errors import NotSupported, TransferError
from nailer.sides.side import Digest, Names, Side


def recoded(side: Side, charset: str) -> Side:
    """The side itself where names are UTF-8, else one that translates."""
    return side if charset == UTF8 else RecodedSide(side, charset)


class RecodedSide:
    """Passes everything on to another side, with paths and names translated."""

    def __init__(self, side: Side, charset: str) -> None:
        self._side = side
        self._charset = charset

    async def list(self, folder: SitePath, *, careful: bool = False) -> Listing:
        """A folder's names, translated on the way in."""
        listing = await self._side.list(self._out(folder), careful=careful)
        return replace(listing, entries=[self._read(entry) for entry in listing.entries])

    async def stat(self, path: SitePath) -> Entry:
        """An entry, its name translated."""
        return self._read(await self._side.stat(self._out(path)))

    async def resolve(self, path: SitePath) -> SitePath:
        """A path, translated both ways."""
        return self._in(await self._side.resolve(self._out(path)))

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

    def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        """Bytes are never translated."""
        return self._side.read(self._out(path), start=start, ahead=ahead)

    async def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        """An entry with its name translated, and its bytes as they are."""
        entry, content = await self._side.read_all(self._out(path))
        return self._read(entry), content

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        """Bytes are never translated."""
        return await self._side.write(self._out(path), chunks, start=start)

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
        """As `write`; the entry's name is translated."""
        wanted = self._out(free) if free is not None else None
        landed = await self._side.land(
            self._out(path), chunks, start=start, permissions=permissions, at_most=at_most, stamp=stamp, free=wanted
        )
        return self._read(landed)

    async def make_folder(self, path: SitePath) -> None:
        """Make a folder under its translated name."""
        await self._side.make_folder(self._out(path))

    async def remove_file(self, path: SitePath) -> None:
        """Remove by the translated name."""
        await self._side.remove_file(self._out(path))

    async def remove_folder(self, path: SitePath) -> None:
        """Remove by the translated name."""
        await self._side.remove_folder(self._out(path))

    async def rename(
        self,
        old: SitePath,
        new: SitePath,
        *,
        replace: bool = False,
        looked: bool = False,
        landed: Entry | None = None,
    ) -> None:
        """Rename by translated names."""
        await self._side.rename(self._out(old), self._out(new), replace=replace, looked=looked, landed=landed)

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        """Rename by translated names."""
        one, other = ((self._out(old), self._out(new)) for old, new in (first, second))
        return await self._side.rename_both(one, other)

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        """Copy by translated names."""
        return await self._side.copy(self._out(source), self._out(target))

    async def make_link(self, path: SitePath, target: bytes) -> None:
        """Make a link; what it says is translated, too."""
        await self._side.make_link(self._out(path), self._word(target))

    async def set_attributes(
        self, path: SitePath, *, permissions: int | None = None, stamp: Stamp | None = None
    ) -> None:
        """Set attributes by the translated name."""
        await self._side.set_attributes(self._out(path), permissions=permissions, stamp=stamp)

    async def home(self) -> SitePath:
        """The home, translated."""
        return self._in(await self._side.home())

    async def room(self, folder: SitePath) -> Room | None:
        """The room of the translated folder."""
        return await self._side.room(self._out(folder))

    async def own_hash(self, path: SitePath) -> Digest | None:
        """The hash that the server says of the translated name."""
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
            sentence = f"File names on this server use {title}, which does not contain “{letter}”."
            raise NotSupported(
                sentence, advice=("Rename it, or choose another character set in the site's settings.",)
            ) from error

    def _read(self, entry: Entry) -> Entry:
        target = from_wire(entry.target, self._charset) if entry.target is not None else None
        return replace(entry, name=from_wire(entry.name, self._charset), target=target)
