"""Testing the restore of a verified copy: all of it is laid down in a scratch folder of this machine, and every name is
compared with its manifest: kind, content, permissions, time, target."""

from __future__ import annotations

import contextlib
import os
import shutil
import stat
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass
from pathlib import Path
from tempfile import mkdtemp

from blake3 import blake3

from nailer.core.files.entry import NS, Kind
from nailer.core.packages.manifest import Copied, Manifest
from nailer.core.words import count_text, size_text
from nailer.errors import NoSpaceLeft, NotFound
from nailer.sides.side import CHUNK_BYTES
from nailer.unbroken import in_thread

Reading = Callable[[bytes], AsyncIterator[bytes]]
_SPARE_BYTES = 100_000_000


@dataclass(frozen=True, slots=True)
class RestoreTest:
    """How restoring a copy went. `is_exact`: every file is as it was, byte for byte."""

    words: str
    is_exact: bool


async def restore_tested(manifest: Manifest, read: Reading, beside: Path) -> RestoreTest:
    """How restoring went. `read` gives a kept content by its hash; the scratch folder is made in `beside`,
    and gone afterwards. Raises NoSpaceLeft where there is no room for it."""
    free = (await in_thread(shutil.disk_usage, beside)).free
    if free < manifest.size + _SPARE_BYTES:
        raise NoSpaceLeft(
            f"Not enough space on Nailer's machine for a test restore: {size_text(free)} free, "
            f"{size_text(manifest.size)} needed."
        )
    top = await in_thread(mkdtemp, None, "restore-test-", os.fspath(beside))
    try:
        wrong = [one for one in _in_order(manifest) if not await _comes_back(os.fsencode(top), one, read)]
    finally:
        await in_thread(_remove, top)
    if not wrong:
        return RestoreTest(f"{count_text(len(manifest.files), 'file')} restored exactly", is_exact=True)
    first = b"/".join(wrong[0].below).decode("utf-8", "replace")
    were = "was" if len(wrong) == 1 else "were"
    return RestoreTest(f"{count_text(len(wrong), 'item')} {were} not restored correctly, first {first}", is_exact=False)


def _in_order(manifest: Manifest) -> list[Copied]:
    """Folders, then what lies in them, then the folders once more, the deepest first: their permissions may shut them."""
    folders = [one for one in manifest.names if one.entry.is_folder]
    others = [one for one in manifest.names if one.entry.kind in (Kind.FILE, Kind.LINK)]
    return [*folders, *others, *reversed(folders)]


async def _comes_back(top: bytes, one: Copied, read: Reading) -> bool:
    path = os.path.join(top, *one.below)
    if one.entry.is_file:
        return await _file_comes_back(path, one, read)
    if one.entry.kind is Kind.LINK:
        return await in_thread(_link_comes_back, path, one.entry.target or b"")
    return await in_thread(_folder_comes_back, path, one.entry.permissions)


async def _file_comes_back(path: bytes, one: Copied, read: Reading) -> bool:
    try:
        with await in_thread(open, path, "xb") as opened:
            async for chunk in read(one.digest or b""):
                await in_thread(opened.write, chunk)
    except (NotFound, FileNotFoundError):
        return False
    return await in_thread(_is_as_it_was, path, one)


def _is_as_it_was(path: bytes, one: Copied) -> bool:
    digest = blake3()
    with open(path, "rb") as written:
        while chunk := written.read(CHUNK_BYTES):
            digest.update(chunk)
    if one.entry.stamp is not None:
        with contextlib.suppress(OverflowError):  # a time that no disk can hold is not the copy's fault
            os.utime(path, ns=(one.entry.stamp.at_ns, one.entry.stamp.at_ns))
    if one.entry.permissions is not None:
        os.chmod(path, one.entry.permissions)
    found = os.lstat(path)
    is_same = found.st_size == one.entry.size and digest.digest() == one.digest
    time_kept = one.entry.stamp is None or abs(found.st_mtime_ns - one.entry.stamp.at_ns) < NS
    return is_same and time_kept and one.entry.permissions in (None, stat.S_IMODE(found.st_mode))


def _link_comes_back(path: bytes, target: bytes) -> bool:
    os.symlink(target, path)
    return os.readlink(path) == target


def _folder_comes_back(path: bytes, permissions: int | None) -> bool:
    """Made at first; given its permissions when all that goes into it is there."""
    if not os.path.isdir(path):
        os.mkdir(path)
        return True
    if permissions is not None:
        os.chmod(path, permissions)
    return permissions in (None, stat.S_IMODE(os.lstat(path).st_mode))


def _remove(top: str) -> None:
    """The scratch folder goes, with folders in it that nobody may enter."""
    for folder, names, _ in os.walk(top):
        for name in names:
            place = os.path.join(folder, name)
            if not os.path.islink(place):
                os.chmod(place, 0o700)
    shutil.rmtree(top, ignore_errors=True)
