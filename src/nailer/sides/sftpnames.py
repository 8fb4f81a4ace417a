"""The names of a folder as an SFTP server sends them: SSH_FXP_NAME of version 3 (draft-ietf-secsh-filexfer-02, 5 and 7).

The library makes four objects of each name, which takes longer than a fast line needs to bring it. This reads a packet
straight into entries.
"""

from __future__ import annotations

import struct
from functools import lru_cache

import asyncssh

from nailer.core.entry import Entry, Kind, Stamp, kind_of_mode

_SIZE, _OWNERS, _MODE, _TIMES, _EXTENDED = 0x1, 0x2, 0x4, 0x8, 0x80000000
# One server sets this bit of later versions together with the times, and sends nothing for it.
_STRAY = 0x20
_u32 = struct.Struct(">I").unpack_from
_two_u32 = struct.Struct(">II").unpack_from
_u64 = struct.Struct(">Q").unpack_from


def entries_of(payload: bytes) -> list[Entry]:
    """What a packet of names holds, from its count on. Raises SFTPBadMessage where it is not whole."""
    try:
        (count,) = _u32(payload)
        entries, at = [], 4
        for _ in range(count):
            entry, at = _entry_at(payload, at)
            entries.append(entry)
    except struct.error as error:
        raise asyncssh.SFTPBadMessage("A listing ends in the middle of a name.") from error
    if at != len(payload):
        raise asyncssh.SFTPBadMessage("A listing goes on after its last name.")
    return entries


def entry_of(
    name: bytes,
    long_form: bytes,
    *,
    size: int | None,
    owners: tuple[int | None, int | None],
    mode: int | None,
    changed_s: int | None,
) -> Entry:
    """An entry from SFTP attributes. Owner and group come as names only in the long form, which looks like `ls -l`."""
    kind = kind_of_mode(mode) if mode is not None else Kind.OTHER
    owner, group = _names_in(long_form)
    return Entry(
        name,
        kind,
        (size or 0) if kind is Kind.FILE else 0,
        Stamp.seconds(changed_s) if changed_s is not None else None,
        mode & 0o7777 if mode is not None else None,
        owner or (str(owners[0]) if owners[0] is not None else None),
        group or (str(owners[1]) if owners[1] is not None else None),
    )


def _entry_at(payload: bytes, at: int) -> tuple[Entry, int]:
    """The name that begins at `at`, and where the next one does."""
    name, at = _string_at(payload, at)
    long_form, at = _string_at(payload, at)
    (flags,) = _u32(payload, at)
    at += 4
    size: int | None = None
    owners: tuple[int | None, int | None] = (None, None)
    mode: int | None = None
    changed_s: int | None = None
    if flags & _SIZE:
        (size,) = _u64(payload, at)
        at += 8
    if flags & _OWNERS:
        owners = _two_u32(payload, at)
        at += 8
    if flags & _MODE:
        (mode,) = _u32(payload, at)
        at += 4
    if flags & _TIMES:
        _, changed_s = _two_u32(payload, at)
        at += 8
    if flags & ~(_SIZE | _OWNERS | _MODE | _TIMES):
        at = _past_others(payload, at, flags)
    return entry_of(name, long_form, size=size, owners=owners, mode=mode, changed_s=changed_s), at


def _past_others(payload: bytes, at: int, flags: int) -> int:
    """Behind the attributes of a server's own making."""
    unknown = flags & ~(_SIZE | _OWNERS | _MODE | _TIMES | _EXTENDED | (_STRAY if flags & _TIMES else 0))
    if unknown:
        raise asyncssh.SFTPBadMessage(f"A listing has attributes that this version does not know: {unknown:#010x}.")
    if flags & _EXTENDED:
        (count,) = _u32(payload, at)
        at += 4
        for _ in range(2 * count):
            _, at = _string_at(payload, at)
    return at


def _string_at(payload: bytes, at: int) -> tuple[bytes, int]:
    (length,) = _u32(payload, at)
    end = at + 4 + length
    if end > len(payload):
        raise struct.error
    return payload[at + 4 : end], end


def _names_in(long_form: bytes) -> tuple[str | None, str | None]:
    parts = long_form.split(None, 8)
    if len(parts) < 9 or len(parts[0]) < 10:
        return None, None
    return _text(parts[2]), _text(parts[3])


@lru_cache(512)
def _text(name: bytes) -> str:
    return name.decode("utf-8", "replace")
