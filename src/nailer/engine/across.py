"""Moving within a side that cannot rename from one place to the other, as between two file systems: copy, compare, remove.

Nothing is removed before all of it stands at the new place with the same bytes; what was changed meanwhile stays at both.
"""

from __future__ import annotations

import contextlib
from collections.abc import AsyncGenerator
from contextlib import aclosing

from blake3 import blake3

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath
from nailer.errors import Conflict, FileMissing, NotKnown, NotVerified, TransferError
from nailer.sides.side import Side, tolerated

_Copied = list[tuple[SitePath, Entry]]


async def copied_tree(side: Side, source: SitePath, target: SitePath, entry: Entry) -> _Copied:
    """Copy a file or a folder with all in it; return what was copied, parents first. Raises Conflict, NotVerified, NotKnown
    where not all of a folder is known."""
    if not entry.is_folder:
        await _copied_file(side, source, target, entry)
        return [(source, entry)]
    await side.make_folder(target)
    copied: _Copied = [(source, entry)]
    listing = await side.list(source, careful=True)
    if listing.lack is not None or listing.parts:
        why = listing.lack.sentence if listing.lack is not None else "It contains partial files of Nailer."
        raise NotKnown(f"Not all of what is in {{path}} can be moved. {why}", path=source)
    for one in listing.entries:
        if not (one.is_file or one.is_folder):
            sentence = "{path} is neither a file nor a folder, and cannot be copied."
            raise NotKnown(sentence, path=source.child(one.name))
        copied += await copied_tree(side, source.child(one.name), target.child(one.name), one)
    if entry.permissions is not None:
        await tolerated(side.set_attributes(target, permissions=entry.permissions))
    return copied


async def remove_copied(side: Side, top: SitePath, copied: _Copied) -> None:
    """Remove what was copied, children first. Raises Conflict where something was changed since; it stays then."""
    for path, entry in reversed(copied):
        if entry.is_folder:
            await side.remove_folder(path)
            continue
        if not still_as(await side.stat(path), entry):
            raise Conflict(f"{{path}} changed while {top} was being moved, so it is now in both places.", path=path)
        await side.remove_file(path)


async def removed_tree(side: Side, path: SitePath) -> None:
    """Remove a copy that did not become whole; what cannot be removed is offered as left over."""
    with contextlib.suppress(TransferError):
        entry = await side.stat(path)
        if entry.is_folder:
            listing = await side.list(path)
            for one in (*listing.entries, *listing.parts):
                await removed_tree(side, path.child(one.name))
            await side.remove_folder(path)
        else:
            await side.remove_file(path)


async def _copied_file(side: Side, source: SitePath, target: SitePath, entry: Entry) -> None:
    sent, came = blake3(), blake3()

    async def _read(path: SitePath, digest: blake3) -> AsyncGenerator[bytes, None]:
        async with aclosing(side.read(path)) as chunks:
            async for chunk in chunks:
                digest.update(chunk)
                yield chunk

    landed = await side.land(target, _read(source, sent), permissions=entry.permissions, stamp=entry.stamp)
    async for _ in _read(target, came):
        pass
    if landed.size != entry.size or sent.digest() != came.digest():
        raise NotVerified("The copy of {path} differs from the original.", path=source)
    try:
        now = await side.stat(source)
    except FileMissing as gone:
        raise Conflict("{path} was removed while it was copied.", path=source) from gone
    if not still_as(now, entry):
        raise Conflict("{path} was changed while it was copied.", path=source)
