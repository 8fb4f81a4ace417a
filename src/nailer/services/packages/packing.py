"""A verified copy as one archive, made while it is read: zip (APPNOTE 6.3), or tar (POSIX pax) in Zstandard (RFC 8878); the
manifest lies in it."""

from __future__ import annotations

import json
import stat
import zipfile
from collections.abc import AsyncGenerator, AsyncIterator, Callable
from enum import StrEnum

import zstandard

from nailer.core.files.entry import NS, Entry, Kind
from nailer.core.packages.manifest import Copied, Manifest
from nailer.services.files import Drain, tar_head, zip_info
from nailer.store.packages.copies import VerifiedCopy
from nailer.unbroken import in_thread

_MANIFEST = "MANIFEST.json"
_TAR_BLOCK = 512
Reading = Callable[[bytes], AsyncIterator[bytes]]


class Form(StrEnum):
    """What kind of archive a copy becomes; the value is the ending of its name."""

    ZIP = "zip"
    TAR = "tar.zst"


def manifest_name(manifest: Manifest) -> str:
    """What the manifest is called in an archive: a name that the copy itself does not have."""
    taken, name = {one.below[0] for one in manifest.names}, _MANIFEST
    while name.encode() in taken:
        name = f"_{name}"
    return name


def manifest_text(copy: VerifiedCopy, manifest: Manifest) -> bytes:
    """The manifest for whoever reads it without Nailer: each name with its kind, size, BLAKE3 hash, access, time
    (seconds) and target. Names that are no UTF-8 have their bytes as percent-encoded text."""
    names = [_row(one) for one in manifest.names]
    head = {
        "folder": str(copy.path),
        "title": copy.title,
        "version": copy.version,
        "begun": copy.begun_at.isoformat(),
        "files": len(manifest.files),
        "bytes": manifest.size,
        "hash": "BLAKE3, 256 bits",
    }
    return json.dumps(head | {"names": names}, indent=1, ensure_ascii=False).encode("utf-8", "replace") + b"\n"


def _row(one: Copied) -> dict[str, object]:
    entry = one.entry
    row: dict[str, object] = {"name": _text(b"/".join(one.below)), "kind": entry.kind.value}
    if entry.is_file:
        row |= {"bytes": entry.size, "hash": one.digest.hex() if one.digest else None}
    if entry.permissions is not None:
        row["permissions"] = f"{entry.permissions:04o}"
    if entry.stamp is not None:
        row["time"] = entry.stamp.at_ns / NS
    if entry.target is not None:
        row["target"] = _text(entry.target)
    return row


def _text(raw: bytes) -> str:
    try:
        return raw.decode()
    except UnicodeDecodeError:
        return "".join(chr(one) if 32 <= one < 127 and one != 37 else f"%{one:02X}" for one in raw)


async def packed(copy: VerifiedCopy, manifest: Manifest, read: Reading, form: Form) -> AsyncGenerator[bytes, None]:
    """The bytes of the archive. `read` gives a kept content by its hash. Memory stays flat."""
    making = _zip(copy, manifest, read) if form is Form.ZIP else _tar(copy, manifest, read)
    async for part in making:
        if part:
            yield part


async def _zip(copy: VerifiedCopy, manifest: Manifest, read: Reading) -> AsyncGenerator[bytes, None]:
    drain = Drain()
    archive = zipfile.ZipFile(drain, "w", zipfile.ZIP_DEFLATED, allowZip64=True)  # type: ignore[call-overload]
    archive.writestr(manifest_name(manifest), manifest_text(copy, manifest))
    for one in manifest.names:
        info = zip_info(one.below, one.entry)
        if one.entry.kind is Kind.LINK:
            info.external_attr |= stat.S_IFLNK << 16
        if one.entry.is_file:
            with archive.open(info, "w", force_zip64=True) as member:
                async for chunk in read(one.digest or b""):
                    await in_thread(member.write, chunk)
                    yield drain.take()
        elif one.entry.kind is not Kind.OTHER:
            archive.writestr(info, one.entry.target or b"")
        yield drain.take()
    await in_thread(archive.close)
    yield drain.take()


async def _tar(copy: VerifiedCopy, manifest: Manifest, read: Reading) -> AsyncGenerator[bytes, None]:
    squeeze = zstandard.ZstdCompressor(level=6).compressobj()
    text = manifest_text(copy, manifest)
    name = manifest_name(manifest).encode()
    head = tar_head((name,), Entry(name, Kind.FILE, len(text)))
    yield await in_thread(squeeze.compress, head + text + bytes(-len(text) % _TAR_BLOCK))
    for one in manifest.names:
        if one.entry.kind is Kind.OTHER:
            continue
        yield await in_thread(squeeze.compress, tar_head(one.below, one.entry))
        if one.entry.is_file:
            async for chunk in read(one.digest or b""):
                yield await in_thread(squeeze.compress, chunk)
            yield await in_thread(squeeze.compress, bytes(-one.entry.size % _TAR_BLOCK))
    yield await in_thread(squeeze.compress, bytes(2 * _TAR_BLOCK))
    yield await in_thread(squeeze.flush)
