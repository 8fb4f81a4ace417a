"""Looking at a file without carrying it whole: its beginning as text, what an archive holds by its own directory."""

from __future__ import annotations

import io
import re
import tarfile
import zipfile
import zlib
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath
from nailer.core.words import size_text
from nailer.services.files.download import file_to_fetch
from nailer.sides.side import Side, part_of
from nailer.unbroken import in_thread

_TEXT_BYTES = 96 * 1024
_TAIL_BYTES = 256 * 1024
_MOST_DIRECTORY_BYTES = 16 * 1024 * 1024
_TAR_BYTES = 1024 * 1024
_MOST_NAMES = 400


class ShownAs(StrEnum):
    """How a file is shown."""

    PICTURE = "picture"
    SOUND = "sound"
    FILM = "film"
    PDF = "pdf"
    TEXT = "text"
    ARCHIVE = "archive"
    OTHER = "other"


# Only what a browser can be trusted with; everything else is text or nothing.
TYPES = {
    b".png": ("image/png", ShownAs.PICTURE),
    b".jpg": ("image/jpeg", ShownAs.PICTURE),
    b".jpeg": ("image/jpeg", ShownAs.PICTURE),
    b".gif": ("image/gif", ShownAs.PICTURE),
    b".webp": ("image/webp", ShownAs.PICTURE),
    b".avif": ("image/avif", ShownAs.PICTURE),
    b".ico": ("image/x-icon", ShownAs.PICTURE),
    b".svg": ("image/svg+xml", ShownAs.PICTURE),
    b".mp3": ("audio/mpeg", ShownAs.SOUND),
    b".ogg": ("audio/ogg", ShownAs.SOUND),
    b".wav": ("audio/wav", ShownAs.SOUND),
    b".m4a": ("audio/mp4", ShownAs.SOUND),
    b".mp4": ("video/mp4", ShownAs.FILM),
    b".webm": ("video/webm", ShownAs.FILM),
    b".pdf": ("application/pdf", ShownAs.PDF),
}
_ARCHIVES = re.compile(rb"\.(zip|tar|tgz|txz|tar\.(gz|xz|bz2))$", re.I)


@dataclass(frozen=True, slots=True)
class Preview:
    """What is shown of a file: its beginning as text (`complete`: all of it), or the names in an archive with their
    sizes."""

    look: ShownAs
    entry: Entry
    text: str = ""
    complete: bool = True
    names: tuple[tuple[str, str], ...] = ()
    problem: str = ""


def kind_of(name: bytes) -> tuple[str, ShownAs] | None:
    """The content type and look by a name's ending; None where the bytes must tell."""
    return TYPES.get(b"." + name.lower().rpartition(b".")[2])


async def preview(side: Side, path: SitePath) -> Preview:
    """What can be seen of a file with little of it read. Raises InvalidInput where it is no file."""
    entry = await file_to_fetch(side, path)
    known = kind_of(path.name)
    if known is not None:
        return Preview(known[1], entry)
    if _ARCHIVES.search(path.name):
        return await _archive(side, path, entry)
    data = await part_of(side, path, 0, _TEXT_BYTES)
    if b"\0" in data:
        return Preview(ShownAs.OTHER, entry)
    return Preview(ShownAs.TEXT, entry, data.decode("utf-8", "replace"), len(data) >= entry.size)


async def _archive(side: Side, path: SitePath, entry: Entry) -> Preview:
    try:
        if path.name.lower().endswith(b".zip"):
            names, whole = await _zip_names(side, path, entry.size), True
        else:
            data = await part_of(side, path, 0, _TAR_BYTES)
            names, whole = await in_thread(_tar_names, data), len(data) >= entry.size
    except (zipfile.BadZipFile, tarfile.TarError, EOFError, zlib.error, OSError) as error:
        return Preview(
            ShownAs.ARCHIVE, entry, problem=f"The contents of the archive cannot be read: {str(error)[:120]}."
        )
    return Preview(
        ShownAs.ARCHIVE, entry, names=tuple(names[:_MOST_NAMES]), complete=whole and len(names) <= _MOST_NAMES
    )


async def _zip_names(side: Side, path: SitePath, size: int) -> list[tuple[str, str]]:
    """By the directory at the end of a zip; the rest of it is not read (APPNOTE 4.3.16)."""
    start = max(0, size - _TAIL_BYTES)
    tail = await part_of(side, path, start, size - start)
    end = tail.rfind(b"PK\x05\x06")
    if end >= 0:
        directory = int.from_bytes(tail[end + 16 : end + 20], "little")
        if directory < start and size - directory <= _MOST_DIRECTORY_BYTES:
            start, tail = directory, await part_of(side, path, directory, size - directory)
    infos = await in_thread(lambda: zipfile.ZipFile(_Tail(tail, start)).infolist())
    return [(info.filename, "" if info.is_dir() else size_text(info.file_size)) for info in infos]


def _tar_names(data: bytes) -> list[tuple[str, str]]:
    """The names in the beginning of a tar, as far as it goes."""
    names: list[tuple[str, str]] = []
    try:
        with tarfile.open(fileobj=io.BytesIO(data), mode="r:*") as archive:
            names.extend((info.name, size_text(info.size) if info.isfile() else "") for info in archive)
    except (tarfile.TarError, EOFError, zlib.error, OSError):
        if not names:
            raise
    return names


class _Tail(io.RawIOBase):
    """A file object of which only the end was fetched. The part before it reads as zeros."""

    def __init__(self, tail: bytes, start: int) -> None:
        self._tail = tail
        self._start = start
        self._at = 0

    def seekable(self) -> bool:
        """It can be read from any place, as readers of archives do."""
        return True

    def readable(self) -> bool:
        """It can be read."""
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go to a place, counted as `io` does."""
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._start + len(self._tail)}[whence]
        self._at = max(0, base + offset)
        return self._at

    def tell(self) -> int:
        """Where reading goes on."""
        return self._at

    def read(self, size: int = -1) -> bytes:
        """Bytes from there on. Raises OSError before the part that was fetched."""
        end = self._start + len(self._tail) if size < 0 else self._at + size
        before = max(0, min(end, self._start) - self._at)
        data = bytes(before) + self._tail[max(0, self._at - self._start) : max(0, end - self._start)]
        self._at += len(data)
        return data


def caption(found: Preview) -> str:
    """One line under what is shown."""
    size = size_text(found.entry.size)
    if found.look is ShownAs.TEXT and not found.complete:
        return f"the first {size_text(_TEXT_BYTES)} of {size}"
    if found.look is ShownAs.ARCHIVE and not found.problem:
        return f"{len(found.names)} names{'' if found.complete else ' of it'}, {size} packed"
    return size
