"""Files on their way to the person's own computer: one as it is, several as a zip or a tar made while it is
sent."""

from __future__ import annotations

import tarfile
import time
import zipfile
import zlib
from collections.abc import AsyncGenerator, AsyncIterator, Sequence
from contextlib import aclosing

from nailer.core.files.entry import NS, Entry, Kind
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.words import moment
from nailer.errors import InvalidInput, TransferError
from nailer.sides.side import Side, walk
from nailer.unbroken import in_thread

# Deflating these again costs time and gains nothing.
_PACKED = (b".zip", b".gz", b".xz", b".zst", b".jpg", b".jpeg", b".png", b".webp", b".woff2", b".mp4", b".mp3", b".pdf")
_TAR_BLOCK = 512
_EARLIEST_ZIP_YEAR, _LATEST_ZIP_YEAR = 1980, 2107


class Drain:
    """A file object that a zip is written to. It holds the bytes until they are taken.
    It cannot seek, so the zip is a stream."""

    def __init__(self) -> None:
        self._parts: list[bytes] = []
        self._at = 0

    def write(self, data: bytes) -> int:
        """Take bytes that a writer of archives gives."""
        self._parts.append(bytes(data))
        self._at += len(data)
        return len(data)

    def tell(self) -> int:
        """How many bytes were given so far."""
        return self._at

    def flush(self) -> None:
        """Do nothing: every byte is ready to be taken already."""

    def take(self) -> bytes:
        """The bytes since they were taken last."""
        taken, self._parts = b"".join(self._parts), []
        return taken


async def file_to_fetch(side: Side, path: SitePath) -> Entry:
    """The file behind a path, links followed, once its first byte could be read: what is announced must come. Raises
    InvalidInput where it is none, and why it cannot be read."""
    entry = await side.stat(await side.resolve(path))
    if not entry.is_file:
        raise InvalidInput(f"{path} is not a file.")
    async with aclosing(side.read(path, ahead=1)) as chunks:
        await anext(chunks, b"")
    return entry


async def zipped(side: Side, folder: SitePath, names: Sequence[bytes]) -> AsyncGenerator[bytes, None]:
    """Picked names of a folder, with all in them, as the bytes of a zip. Memory stays flat.

    Links are left out. A file that cannot be read is left out too, and named in `NOT-INCLUDED.txt` at the end.
    """
    drain = Drain()
    problems: list[str] = []
    archive = zipfile.ZipFile(drain, "w", zipfile.ZIP_DEFLATED, allowZip64=True)  # type: ignore[call-overload]
    async with aclosing(_files(side, folder, names, problems)) as files:
        async for path, entry in files:
            async for part in _one(archive, drain, side, folder, path, entry, problems):
                yield part
    if problems:
        archive.writestr("NOT-INCLUDED.txt", "\n".join(problems) + "\n")
    await in_thread(archive.close)
    yield drain.take()


async def tarred(side: Side, folder: SitePath, names: Sequence[bytes]) -> AsyncGenerator[bytes, None]:
    """As `zipped`, as a tar (POSIX pax) in gzip: permissions, times and any byte of a name are kept."""
    squeeze = zlib.compressobj(6, zlib.DEFLATED, 16 + zlib.MAX_WBITS)
    problems: list[str] = []
    async with aclosing(_files(side, folder, names, problems)) as files:
        async for path, entry in files:
            below = path.below(folder) or (path.name,)
            if entry.is_folder:
                yield await in_thread(squeeze.compress, tar_head(below, entry))
                continue
            left = entry.size
            async with aclosing(side.read(path)) as chunks:
                try:
                    first = await anext(chunks, b"")
                except TransferError as error:
                    problems.append(f"{path}: {error.what}")
                    continue
                yield await in_thread(squeeze.compress, tar_head(below, entry) + first[:left])
                left -= len(first[:left])
                try:
                    async for chunk in chunks:
                        chunk = chunk[:left]
                        left -= len(chunk)
                        yield await in_thread(squeeze.compress, chunk)
                except TransferError as error:
                    problems.append(f"{path}: {error.what}")
            if left:
                # The head said how much would come: what is missing is zeros, and said.
                problems.append(f"{path}: {left} bytes are missing.")
            yield await in_thread(squeeze.compress, bytes(left + -entry.size % _TAR_BLOCK))
    if problems:
        text = ("\n".join(problems) + "\n").encode()
        head = tar_head((b"NOT-INCLUDED.txt",), Entry(b"NOT-INCLUDED.txt", Kind.FILE, len(text)))
        yield squeeze.compress(head + text + bytes(-len(text) % _TAR_BLOCK))
    yield squeeze.compress(bytes(2 * _TAR_BLOCK)) + squeeze.flush()


def tar_head(below: tuple[bytes, ...], entry: Entry) -> bytes:
    """What stands before a name's content in a tar (POSIX pax)."""
    info = tarfile.TarInfo(b"/".join(below).decode("utf-8", "surrogateescape"))
    info.type = {Kind.FOLDER: tarfile.DIRTYPE, Kind.LINK: tarfile.SYMTYPE}.get(entry.kind, tarfile.REGTYPE)
    info.size = entry.size if entry.is_file else 0
    info.linkname = (entry.target or b"").decode("utf-8", "surrogateescape")
    info.mode = entry.permissions if entry.permissions is not None else (0o755 if entry.is_folder else 0o644)
    info.mtime = entry.stamp.at_ns / NS if entry.stamp else 0
    return info.tobuf(tarfile.PAX_FORMAT, "utf-8", "surrogateescape")


async def _one(
    archive: zipfile.ZipFile,
    drain: Drain,
    side: Side,
    folder: SitePath,
    path: SitePath,
    entry: Entry,
    problems: list[str],
) -> AsyncIterator[bytes]:
    info = zip_info(path.below(folder) or (path.name,), entry)
    if entry.is_folder:
        archive.writestr(info, b"")
        yield drain.take()
        return
    async with aclosing(side.read(path)) as chunks:
        # A file that cannot be read is left out: a member without content would be a false statement about it.
        try:
            first = await anext(chunks, b"")
        except TransferError as error:
            problems.append(f"{path}: {error.what}")
            return
        with archive.open(info, "w", force_zip64=True) as member:
            try:
                await in_thread(member.write, first)
                async for chunk in chunks:
                    await in_thread(member.write, chunk)
                    if ready := drain.take():
                        yield ready
            except TransferError as error:
                problems.append(f"{path} is incomplete in this archive. {error.what}")
    yield drain.take()


async def _files(
    side: Side, folder: SitePath, names: Sequence[bytes], problems: list[str]
) -> AsyncGenerator[tuple[SitePath, Entry], None]:
    for name in names:
        path = folder.child(name)
        entry = await side.stat(path)
        if entry.is_file or entry.is_folder:
            yield path, entry
        else:
            problems.append(f"{path}: links and special files were left out.")
        if not entry.is_folder:
            continue
        async with aclosing(walk(side, path, careful=True)) as readings:
            async for reading in readings:
                if reading.doubt:
                    problems.append(f"{path.join(reading.below)}: {reading.doubt}")
                for one in reading.entries:
                    if one.is_file or one.is_folder:
                        yield path.join((*reading.below, one.name)), one
                    else:
                        problems.append(f"{path.join((*reading.below, one.name))}: links are not packed.")


def zip_info(below: tuple[bytes, ...], entry: Entry) -> zipfile.ZipInfo:
    """What stands before a name's content in a zip (APPNOTE 4.3)."""
    # A backslash in a name would be read as a folder by some unpackers, and lead anywhere.
    name = "/".join(shown_name(part).replace("\\", "‹5C›") for part in below)
    info = zipfile.ZipInfo(name + ("/" if entry.is_folder else ""), _zip_time(entry))
    packed = entry.is_folder or below[-1].lower().endswith(_PACKED)
    info.compress_type = zipfile.ZIP_STORED if packed else zipfile.ZIP_DEFLATED
    info.external_attr = (entry.permissions or (0o755 if entry.is_folder else 0o644)) << 16
    return info


def _zip_time(entry: Entry) -> tuple[int, int, int, int, int, int]:
    at = moment(entry.stamp).timetuple() if entry.stamp else time.gmtime()
    year = min(max(at.tm_year, _EARLIEST_ZIP_YEAR), _LATEST_ZIP_YEAR)
    return year, at.tm_mon, at.tm_mday, at.tm_hour, at.tm_min, at.tm_sec
