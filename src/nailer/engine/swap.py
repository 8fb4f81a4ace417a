"""How a new file takes the name of an old one. Never is the old one removed before the new one has its name.

    1  in one step, by renaming over it
    2  where that is refused: the old one aside, the new one in, the old one away; back again where the second step fails

Whoever calls has announced the change before the first step. A process that dies between two steps leaves the old content
under the name it was set aside with; `settled` finds it there.
"""

from __future__ import annotations

import secrets

from nailer.core.files.names import trying_names
from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    AlreadyThere,
    CannotReplace,
    ConnectionDropped,
    FileMissing,
    NoSpaceLeft,
    NotSupported,
    NotVerified,
    PermissionRefused,
    RenameRefused,
    ServerFailed,
    TransferError,
    WrongKind,
)
from nailer.sides.side import Side, is_there, once

_REFUSED = (RenameRefused, PermissionRefused, ServerFailed, NotSupported, AlreadyThere)


async def swap_in(side: Side, part: SitePath, target: SitePath, aside: SitePath) -> bool:
    """Let `part` take the name of `target`, which exists; return False where the old one still lies at `aside`.

    Raises RenameRefused, and others, with nothing changed; ConnectionDropped where nobody knows how far it came;
    NotVerified where the old file could not be put back and lies at `aside`.
    """
    try:
        await side.rename(part, target, replace=True)
        return True
    except CannotReplace as taken:
        await _set_aside(side, target, aside, taken)
    try:
        await side.rename(part, target, looked=True)
    except ConnectionDropped:
        raise
    except TransferError as refused:
        await _put_back(side, aside, target, refused)
        raise
    return await _away(side, aside)


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
    except (*_REFUSED, FileMissing, NoSpaceLeft, WrongKind, ConnectionDropped):
        pass  # what could not be tried is not known, and what could not be removed is offered as left over
    return side.renames


async def _set_aside(side: Side, target: SitePath, aside: SitePath, taken: CannotReplace) -> None:
    try:
        await side.rename(target, aside, looked=True)
    except RenameRefused:
        raise
    except _REFUSED as refused:
        sentence = "The server lets no new file take the name of {path}."
        raise RenameRefused(sentence, path=target, server_words=refused.server_words or taken.server_words) from refused


async def _put_back(side: Side, aside: SitePath, target: SitePath, refused: TransferError) -> None:
    try:
        await side.rename(aside, target, looked=True)
    except ConnectionDropped:
        raise
    except TransferError as stuck:
        sentence = "{path} was set aside, and the server lets neither the new nor the old file take that name."
        raise NotVerified(
            sentence,
            path=target,
            server_words=stuck.server_words or refused.server_words,
            advice=(f"The old file lies beside it as {aside.name.decode('utf-8', 'replace')}. Rename it by hand.",),
        ) from stuck


async def _away(side: Side, aside: SitePath) -> bool:
    try:
        await side.remove_file(aside)
    except FileMissing:
        return True
    except TransferError:
        return False  # its owner in the database sees to it later
    return True
