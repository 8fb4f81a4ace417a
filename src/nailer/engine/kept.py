"""Kept copies: what a change replaced or removed, compressed, under the hash of its content.

A content lies once, however often it was kept: `kept/ab/abcdef....zst`. It is written under a temporary name, brought to
the disk, and renamed; only then may anything be replaced.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
from collections.abc import AsyncGenerator, AsyncIterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import zstandard
from blake3 import blake3

from nailer.engine.group_commit import GroupCommit
from nailer.errors import NoSpaceLeft, NotFound
from nailer.private import new_own_file, own_folder
from nailer.sides.side import CHUNK_BYTES
from nailer.sides.translate import from_os
from nailer.store.database import utc_now
from nailer.unbroken import in_thread, unbroken

_LEVEL = 3


@dataclass(frozen=True, slots=True)
class KeptContent:
    """A content that is safe: its BLAKE3 hash (32 bytes) and its size in bytes."""

    hash: bytes
    size: int


class _Writer:
    """A compressed file on its way into the store. All methods block."""

    def __init__(self, folder: Path) -> None:
        own_folder(folder)
        self.part = folder / f"part-{secrets.token_hex(8)}"
        self._file = new_own_file(self.part)  # closed by finish or abandon
        self._squeeze = zstandard.ZstdCompressor(level=_LEVEL).stream_writer(self._file, closefd=False)
        self._hash = blake3()
        self.size = 0

    def add(self, chunk: bytes) -> None:
        """Write some more bytes."""
        self._hash.update(chunk)
        self._squeeze.write(chunk)
        self.size += len(chunk)

    def finish(self, folder: Path) -> tuple[bytes, int]:
        """Bring it to the disk under its hash; return the hash and the compressed size."""
        self._squeeze.close()  # type: ignore[no-untyped-call]  # the stubs leave it open
        self._file.flush()
        os.fsync(self._file.fileno())
        stored = self._file.tell()
        self._file.close()
        digest: bytes = self._hash.digest()
        target = _place(folder, digest)
        own_folder(target.parent)
        os.replace(self.part, target)
        return digest, stored

    def abandon(self) -> None:
        """Forget what was written."""
        self._file.close()
        with contextlib.suppress(FileNotFoundError):
            self.part.unlink()


class KeptStore:
    """The `folder` of kept contents, and its rows in the database."""

    def __init__(self, folder: Path, group: GroupCommit) -> None:
        self.folder = folder
        own_folder(folder)
        for older in folder.iterdir():
            if older.is_dir():
                own_folder(older)
        self._group = group

    async def put(self, chunks: AsyncIterator[bytes], *, held_by: int | None = None) -> KeptContent:
        """Keep a content. Returns once it is on the disk and in the database. A verified copy that holds it (`held_by`) is
        written down in the same transaction, so that nothing lets it go before. Raises NoSpaceLeft."""
        try:
            writer = await unbroken(asyncio.to_thread(_Writer, self.folder), undo=_Writer.abandon)
            try:
                async for chunk in chunks:
                    await in_thread(writer.add, chunk)
                digest, stored = await in_thread(writer.finish, self.folder)
            except BaseException:
                await in_thread(writer.abandon)
                raise
        except OSError as error:
            ours = from_os(error, "the store of kept copies")
            if isinstance(ours, NoSpaceLeft):
                ours = NoSpaceLeft(
                    "The disk of Nailer's machine is too full to keep the old versions. Nothing was replaced."
                )
            raise ours from error
        row = {"hash": digest, "size": writer.size, "stored_size": stored, "now": utc_now()}
        held = [("copies.hold", {"copy_id": held_by, "hash": digest})] if held_by is not None else []
        await self._group.submit(("changes.keep", row), *held)
        return KeptContent(digest, writer.size)

    async def let_go(self, digests: Sequence[bytes]) -> None:
        """Remove kept contents from the disk; their rows must be gone already."""

        def _remove() -> None:
            for digest in digests:
                _place(self.folder, digest).unlink(missing_ok=True)

        await in_thread(_remove)

    async def read(self, digest: bytes) -> AsyncGenerator[bytes, None]:
        """A kept content in chunks. Raises NotFound where it is not kept, or damaged."""
        try:
            file = await unbroken(
                asyncio.to_thread(_opened, _place(self.folder, digest)), undo=lambda late: late.close()
            )
        except FileNotFoundError as error:
            raise NotFound("This copy has been deleted.") from error
        check = blake3()
        try:
            with zstandard.ZstdDecompressor().stream_reader(file, closefd=False) as stream:
                while chunk := await in_thread(stream.read, CHUNK_BYTES):
                    check.update(chunk)
                    yield chunk
        except zstandard.ZstdError as error:
            raise NotFound("This copy is damaged and cannot be restored.") from error
        finally:
            file.close()
        if check.digest() != digest:
            raise NotFound("This copy is damaged and cannot be restored.")


def _opened(file: Path) -> BinaryIO:
    return open(file, "rb")


def _place(folder: Path, digest: bytes) -> Path:
    name = digest.hex()
    return folder / name[:2] / f"{name}.zst"
