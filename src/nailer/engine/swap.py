"""How a new file takes the name of an old one. Never is the old one removed before the new one has its name.

    1  in one step, by renaming over it
    2  where that is refused: the old one aside, the new one in, the old one away; back again where the second step fails

Whoever calls has announced the change before the first step. A process that dies between two steps leaves the old content
under the name it was set aside with; `settled` finds it there.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry
from nailer.core.files.names import trying_names
from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    AlreadyThere,
    CannotReplace,
    ConnectionDropped,
    FileMissing,
    LiveGone,
    NoSpaceLeft,
    NotDone,
    NotSupported,
    NotVerified,
    PermissionRefused,
    RenameRefused,
    ServerFailed,
    TransferError,
    WrongKind,
)
from nailer.sides.side import Side, is_there, look, once, part_of

_SAMPLE_BYTES = 4096
_REFUSED = (RenameRefused, PermissionRefused, ServerFailed, NotSupported, AlreadyThere)


@dataclass(frozen=True, slots=True)
class Swap:
    """`landed` was seen at `part`, `before` at `target`; the old file may wait at `aside` for a moment."""

    part: SitePath
    target: SitePath
    aside: SitePath
    landed: Entry
    before: Entry


async def swap_in(side: Side, swap: Swap) -> bool:
    """Let `part` take the name of `target`, which exists; return False where the old one still lies at `aside`.

    Raises RenameRefused, and others, with nothing changed; ConnectionDropped where nobody knows how far it came;
    NotVerified where the old file could not be put back and lies at `aside`; LiveGone where nothing has the name.
    """
    sample = await sampled(side, swap.part, swap.landed) if still_as(swap.landed, swap.before) else None
    try:
        await side.rename(swap.part, swap.target, replace=True, landed=swap.landed)
        await _is_the_new_one(side, swap, sample)
        return True
    except CannotReplace as taken:
        await _set_aside(side, swap, taken)
    except ConnectionDropped:
        raise
    except TransferError as refused:
        if await _brought_in(side, swap, refused):
            return True
        raise
    try:
        await side.rename(swap.part, swap.target, looked=True, landed=swap.landed)
    except ConnectionDropped:
        raise
    except TransferError as refused:
        if not await _brought_in(side, swap, refused):
            raise
    return await _away(side, swap.aside)


async def sampled(side: Side, path: SitePath, entry: Entry) -> bytes:
    """A few bytes of a file's beginning, middle and end; of its beginning alone on a server that reads from nowhere else.
    Where size and time of old and new agree, only these tell them apart."""
    found = b""
    for place in sorted({0, max(0, entry.size // 2 - _SAMPLE_BYTES // 2), max(0, entry.size - _SAMPLE_BYTES)}):
        try:
            found += await part_of(side, path, place, _SAMPLE_BYTES)
        except (NotSupported, ServerFailed):
            if not place:
                raise
            break
    return found


async def _is_the_new_one(side: Side, swap: Swap, sample: bytes | None) -> None:
    """Return where the name holds the new content. Raises CannotReplace where both are as they were."""
    if sample is None or await sampled(side, swap.target, swap.landed) == sample:
        return
    if await is_there(side, swap.part):
        raise CannotReplace("{path} is taken.", path=swap.target)
    sentence = "The server said that it replaced {path}. The old content is still there, and the new one is gone."
    raise NotVerified(sentence, path=swap.target)


async def _brought_in(side: Side, swap: Swap, refused: TransferError) -> bool:
    """Wherever a swap fails the live name is looked at: True where the new file has it after all, False where the old one
    has. Where nothing has it, the new one gets it, else the old one. Raises NotVerified, or LiveGone where neither is at
    hand."""
    now = await look(side, swap.target)
    if now is not None:
        is_new = still_as(now, swap.landed) and not still_as(now, swap.before)
        return is_new and not await is_there(side, swap.part)
    if await is_there(side, swap.part):
        try:
            await side.rename(swap.part, swap.target, looked=True, landed=swap.landed)
            return True
        except ConnectionDropped:
            raise
        except TransferError as again:
            refused = again
    if await is_there(side, swap.aside):
        await _put_back(side, swap.aside, swap.target, refused)
        return False
    raise LiveGone(
        "Visitors get nothing at {path} now. The server took the old file away when it was to give its name to the new one.",
        path=swap.target,
        server_words=refused.server_words,
    ) from refused


async def settled(side: Side, target: SitePath, aside: SitePath, *, landed: bool) -> None:
    """Bring a swap that was cut short to one of its two ends. `landed`: the new content stands at `target`. The old one may
    still lie at `aside` then, where it cannot be removed. Raises what looking and renaming raise."""
    if not await is_there(side, aside):
        return
    if landed:
        await _away(side, aside)
    elif not await is_there(side, target):
        await side.rename(aside, target, looked=True)


async def tries_renaming(side: Side, folder: SitePath) -> bool | None:
    """Whether a side renames at all, tried on an empty file of our own; None where none can be made in this folder."""
    if side.renames is not None:
        return side.renames
    one, other = (folder.child(name) for name in trying_names(secrets.token_hex(4)))
    try:
        await side.write(one, once(b""))
        try:
            await side.rename(one, other, looked=True)
        except _REFUSED:
            side.renames = False
        else:
            side.renames = True
        await side.remove_file(other if side.renames else one)
    except (*_REFUSED, FileMissing, NoSpaceLeft, WrongKind, ConnectionDropped, NotDone, NotVerified):
        pass  # what could not be tried is not known, and what could not be removed is offered as left over
    return side.renames


async def _set_aside(side: Side, swap: Swap, taken: CannotReplace) -> None:
    try:
        await side.rename(swap.target, swap.aside, looked=True, landed=swap.before)
    except RenameRefused:
        raise
    except _REFUSED as refused:
        words = refused.server_words or taken.server_words
        raise RenameRefused(
            "The server does not allow {path} to be replaced.", path=swap.target, server_words=words
        ) from refused


async def _put_back(side: Side, aside: SitePath, target: SitePath, refused: TransferError) -> None:
    try:
        await side.rename(aside, target, looked=True)
    except ConnectionDropped:
        raise
    except TransferError as stuck:
        sentence = "{path} was renamed, and the server allows neither the new nor the old file to take its name."
        raise NotVerified(
            sentence,
            path=target,
            server_words=stuck.server_words or refused.server_words,
            advice=(
                f"The old file is in the same folder as {aside.name.decode('utf-8', 'replace')}. Rename it by hand.",
            ),
        ) from stuck


async def _away(side: Side, aside: SitePath) -> bool:
    try:
        await side.remove_file(aside)
    except FileMissing:
        return True
    except TransferError:
        return False  # its owner in the database sees to it later
    return True
