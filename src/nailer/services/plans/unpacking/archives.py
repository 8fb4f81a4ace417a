"""Archives that are unpacked on the way: taken in, unpacked here with care, and carried from there like any folder.

Hosting cannot always unpack. What is unpacked lies in a folder of its own below Nailer's home until its job has ended.
Nothing in an archive may lead out of that folder: links, absolute names and `..` are left aside and said.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import secrets
import shutil
import stat
import tarfile
import time
import zipfile
from collections.abc import AsyncIterator, Generator, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import zstandard

from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.words import size_text
from nailer.errors import InvalidInput, NailerError, NoSpaceLeft, NotFound, own_disk
from nailer.private import new_own_file, own_folder
from nailer.unbroken import in_thread

_DISK_FAILS = (errno.EIO, errno.ENOSPC, errno.EDQUOT)
_EARLIEST_S, _LATEST_S = -(2**31), 2**33  # 1901 to 2242: what the file systems in use can hold
_DEEPEST = 100
_LONGEST_PATH = 2000  # of the 4,096 bytes of Linux, with room for where it is carried to
_ARCHIVE = re.compile(r"\.(zip|tar|tgz|txz|tar\.(gz|xz|zst|bz2))$", re.I)
_COPY_BYTES = 1024 * 1024
_KEPT_S = 7 * 86_400
_MOST_RATIO = 200  # a text may shrink fiftyfold; what grows more than this is made to fill a disk
_RATIO_FREE_BYTES = 50_000_000
_MOST_NAMES = 200_000
_SPARE_BYTES = 200_000_000


def is_archive(name: str) -> bool:
    """
    >>> is_archive("skin.tar.gz"), is_archive("skin.ZIP"), is_archive("skin.gz")
    (True, True, False)
    """
    return _ARCHIVE.search(name) is not None


@dataclass(frozen=True, slots=True)
class Unpacked:
    """An archive that lies unpacked: its folder's name in the spool, what is at its top, what was left aside and why.

    `only_folder` is the one folder that holds everything, where there is one.
    """

    token: str
    names: tuple[bytes, ...]
    only_folder: bytes | None
    files: int
    left: tuple[str, ...]


@dataclass(slots=True)
class _Member:
    """One entry of an archive as it says: its names, whether a folder, its time and permissions, and its bytes if asked."""

    names: tuple[bytes, ...]
    is_folder: bool
    mtime: float | None
    permissions: int | None
    content: IO[bytes] | None


@dataclass(slots=True)
class _Bounds:
    """What an archive may grow to. Raises InvalidInput where it is made to do harm, NoSpaceLeft where it cannot fit."""

    packed_bytes: int
    room_bytes: int
    files: int = 0
    written: int = 0

    def count(self) -> None:
        """Count one more file. Raises InvalidInput past the bound."""
        self.files += 1
        if self.files > _MOST_NAMES:
            raise InvalidInput(
                f"This archive contains more than {_MOST_NAMES} names. Unpack it yourself and drop its folder."
            )

    def grow(self, count: int) -> None:
        """Count bytes that were written. Raises InvalidInput where an archive grows beyond measure."""
        self.written += count
        if self.written > max(_RATIO_FREE_BYTES, _MOST_RATIO * self.packed_bytes):
            raise InvalidInput("This archive unpacks to an unreasonable size. Unpacking was stopped.")
        if self.written > self.room_bytes - _SPARE_BYTES:
            free = size_text(self.room_bytes)
            raise NoSpaceLeft(f"Not enough space on Nailer's machine to unpack this archive: {free} free.")


@dataclass
class Archives:
    """Takes archives in and unpacks them below `spool`."""

    spool: Path

    def clear_old(self) -> None:
        """Forget what was unpacked and never carried, after a week. Blocks."""
        own_folder(self.spool)
        for one in self.spool.iterdir():
            if time.time() - one.stat().st_mtime > _KEPT_S:
                shutil.rmtree(one, ignore_errors=True)

    async def take(self, name: str, content: AsyncIterator[bytes]) -> Unpacked:
        """Take an archive in and unpack it. Raises InvalidInput where it is none, or means harm."""
        if not is_archive(name):
            raise InvalidInput(f"Nailer cannot unpack {name}. Supported: zip, tar, tar.gz, tar.xz, tar.zst or tar.bz2.")
        token = secrets.token_hex(8)
        folder = self.spool / token
        await in_thread(folder.mkdir, 0o700, True)
        packed = folder / "packed"
        try:
            with own_disk():
                file = await in_thread(new_own_file, packed)
                try:
                    async for chunk in content:
                        await in_thread(file.write, chunk)
                finally:
                    await in_thread(file.close)
                unpacked = await in_thread(_unpack, packed, folder / "files", name)
        except BaseException:
            await in_thread(shutil.rmtree, folder, True)
            raise
        return Unpacked(token, *unpacked)

    async def lay(self, contents: Sequence[bytes]) -> SitePath:
        """Lay prepared contents into a new folder of the spool, named by their numbers from 0; return its place."""
        token = secrets.token_hex(8)

        def _write() -> None:
            folder = self.spool / token / "files"
            folder.mkdir(0o700, parents=True)
            for number, content in enumerate(contents):
                (folder / str(number)).write_bytes(content)

        try:
            with own_disk():
                await in_thread(_write)
        except BaseException:
            await in_thread(shutil.rmtree, self.spool / token, True)
            raise
        return SitePath((b"spool", token.encode(), b"files"))

    def place(self, token: str) -> SitePath:
        """The folder of an unpacked archive, on the side of the spool. Raises NotFound."""
        if re.fullmatch(r"[0-9a-f]{16}", token) is None or not (self.spool / token / "files").is_dir():
            raise NotFound("This archive is no longer available for unpacking. Drop it again.")
        return SitePath((b"spool", token.encode(), b"files"))

    async def forget(self, place: SitePath) -> None:
        """Remove the unpacked files of an archive, as its job has ended well."""
        if place.names[:1] == (b"spool",) and len(place.names) > 1:
            await in_thread(shutil.rmtree, self.spool / os.fsdecode(place.names[1]), True)


def _unpack(packed: Path, folder: Path, name: str) -> tuple[tuple[bytes, ...], bytes | None, int, tuple[str, ...]]:
    folder.mkdir()
    bounds = _Bounds(packed.stat().st_size, shutil.disk_usage(folder).free)
    left: list[str] = []
    with contextlib.ExitStack() as stack:
        with _reading(name):
            members = stack.enter_context(_members(packed, name, left))
        while True:
            with _reading(name):
                member = next(members, None)
            if member is None:
                break
            bounds.count()
            _place(member, folder, bounds, left, name)
    packed.unlink()
    tops = sorted(os.fsencode(one.name) for one in folder.iterdir())
    only = tops[0] if len(tops) == 1 and (folder / os.fsdecode(tops[0])).is_dir() else None
    if not tops:
        raise InvalidInput(f"{name} contains no files that can be unpacked.")
    return tuple(tops), only, bounds.files, tuple(left)


@contextlib.contextmanager
def _reading(name: str) -> Iterator[None]:
    """Whatever a parser says of an archive that is broken, or made to break it, is the archive's fault: the parsers of the
    standard library raise errors of every kind. Only a disk that fails is not. Raises InvalidInput."""
    try:
        yield
    except NailerError:
        raise
    except Exception as error:
        if isinstance(error, OSError) and error.errno in _DISK_FAILS:
            raise
        raise InvalidInput(f"{name} cannot be read: {str(error)[:120] or 'it ends too early'}.") from error


def _place(member: _Member, folder: Path, bounds: _Bounds, left: list[str], name: str) -> None:
    shown = "/".join(shown_name(name) for name in member.names)
    target = folder.joinpath(*(os.fsdecode(name) for name in member.names))
    try:
        if member.is_folder:
            target.mkdir(parents=True, exist_ok=True)
            return
        target.parent.mkdir(parents=True, exist_ok=True)
        with open(target, "xb") as out:
            while chunk := _next_chunk(member, name):
                bounds.grow(len(chunk))
                out.write(chunk)
    except FileExistsError:
        left.append(f"{shown}: the archive has this name twice; the first is kept")
        return
    except (NotADirectoryError, IsADirectoryError):
        left.append(f"{shown}: the archive has this name as a file and as a folder")
        return
    if member.permissions is not None:
        target.chmod(member.permissions & 0o777 | 0o600)
    if member.mtime is not None:
        os.utime(target, (member.mtime, member.mtime))


def _next_chunk(member: _Member, name: str) -> bytes:
    with _reading(name):
        return b"" if member.content is None else member.content.read(_COPY_BYTES)


def _time(seconds: float) -> float | None:
    """A time that a disk can hold; None for any other, which is not known then."""
    return seconds if _EARLIEST_S <= seconds < _LATEST_S else None


@contextlib.contextmanager
def _members(packed: Path, name: str, left: list[str]) -> Iterator[Iterator[_Member]]:
    if name.lower().endswith(".zip"):
        with zipfile.ZipFile(packed) as zipped, contextlib.closing(_of_zip(zipped, left)) as members:
            yield members
        return
    with contextlib.ExitStack() as stack:
        if name.lower().endswith(".zst"):
            raw = stack.enter_context(open(packed, "rb"))
            stream = stack.enter_context(zstandard.ZstdDecompressor().stream_reader(raw))
            archive = stack.enter_context(tarfile.open(fileobj=stream, mode="r|"))
        else:
            archive = stack.enter_context(tarfile.open(packed, mode="r:*"))
        yield _of_tar(archive, left)


def _of_zip(archive: zipfile.ZipFile, left: list[str]) -> Generator[_Member, None, None]:
    for info in archive.infolist():
        names = _safe(_zip_name(info), left)
        mode = info.external_attr >> 16
        if names is None:
            continue
        if stat.S_ISLNK(mode):
            left.append(f"{'/'.join(map(shown_name, names))}: a link")
            continue
        mtime = _time(time.mktime((*info.date_time, 0, 0, -1)))
        with contextlib.nullcontext() if info.is_dir() else archive.open(info) as content:
            yield _Member(names, info.is_dir(), mtime, stat.S_IMODE(mode) or None, content)


def _zip_name(info: zipfile.ZipInfo) -> bytes:
    """The name's bytes: UTF-8 where it says so or is so, else code page 437, as the format has it (APPNOTE 4.4.4)."""
    if info.flag_bits & 0x800:
        return info.filename.encode("utf-8", "surrogateescape")
    raw = info.orig_filename.encode("cp437", "replace")
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        return info.filename.encode()
    return raw


def _of_tar(archive: tarfile.TarFile, left: list[str]) -> Iterator[_Member]:
    for info in archive:
        names = _safe(info.name.encode("utf-8", "surrogateescape"), left)
        if names is None:
            continue
        if not (info.isfile() or info.isdir()):
            left.append(f"{'/'.join(map(shown_name, names))}: a link or a special file")
            continue
        content = archive.extractfile(info) if info.isfile() else None
        yield _Member(names, info.isdir(), _time(info.mtime), info.mode, content)


def _safe(raw: bytes, left: list[str]) -> tuple[bytes, ...] | None:
    """The names of a member below the archive's own folder; None, and a word about it, where they lead out of it."""
    names = tuple(name for name in raw.replace(b"\\", b"/").split(b"/") if name not in (b"", b"."))
    if raw[:1] in (b"/", b"\\") or b".." in names or re.match(rb"[A-Za-z]:", raw) or b"\0" in raw:
        left.append(f"{shown_name(raw)[:120]}: leads out of the archive")
        return None
    if any(len(name) > 255 for name in names):
        left.append(f"{shown_name(raw)[:120]}…: a name longer than 255 bytes")
        return None
    if len(names) > _DEEPEST or len(raw) > _LONGEST_PATH:
        left.append(f"{shown_name(raw)[:120]}…: a path that is too long, or too deep")
        return None
    if any(name == b"__MACOSX" for name in names):
        return None
    return names or None
