"""The names of a folder as an SFTP server sends them: SSH_FXP_NAME of version 3 (draft-ietf-secsh-filexfer-02, 5 and 7).

The library makes four objects of each name, which takes longer than a fast line needs to bring it. This reads a packet
straight into entries.
"""

from __future__ import annotations

import struct
from functools import lru_cache

import asyncssh

from nailer.core.files.entry import Entry, Kind, Stamp, kind_of_mode

MODE, TIMES = 0x4, 0x8
_SIZE, _OWNERS, _EXTENDED = 0x1, 0x2, 0x80000000
# One server sets this bit of later versions together with the times, and sends nothing for it.
_STRAY = 0x20
# What a long form begins with, where the attributes do not say the kind.
_KIND_LETTERS = {b"-": Kind.FILE, b"d": Kind.FOLDER, b"l": Kind.LINK}
_Attributes = tuple[int | None, int | None, int | None, int | None, int | None]
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


def entry_in(payload: bytes, name: bytes) -> Entry:
    """What a packet of attributes says of a name. Raises SFTPBadMessage where it is not whole."""
    return _entry(name, b"", *_attributes_in(payload))


def size_in(payload: bytes) -> int:
    """The size a packet of attributes says, whatever kind of file it is; 0 where it says none. Raises SFTPBadMessage."""
    return _attributes_in(payload)[0] or 0


def _attributes_in(payload: bytes) -> _Attributes:
    try:
        return _attributes_at(payload, 0)[0]
    except struct.error as error:
        raise asyncssh.SFTPBadMessage("What the server says of a file ends early.") from error


def entry_of(name: bytes, attributes: asyncssh.SFTPAttrs) -> Entry:
    """The same from the library's attributes."""
    changed_s = int(attributes.mtime) if attributes.mtime is not None else None
    return _entry(name, b"", attributes.size, attributes.uid, attributes.gid, attributes.permissions, changed_s)


def _entry(
    name: bytes,
    long_form: bytes,
    size: int | None,
    owner: int | None,
    group: int | None,
    mode: int | None,
    changed_s: int | None,
) -> Entry:
    """Owner and group come as names only in the long form, which looks like `ls -l`."""
    kind = kind_of_mode(mode) if mode is not None else _KIND_LETTERS.get(long_form[:1], Kind.OTHER)
    owner_name, group_name = _names_in(long_form)
    return Entry(
        name,
        kind,
        (size or 0) if kind is Kind.FILE else 0,
        Stamp.seconds(changed_s) if changed_s is not None else None,
        mode & 0o7777 if mode is not None else None,
        owner_name or (str(owner) if owner is not None else None),
        group_name or (str(group) if group is not None else None),
        owner_id=owner,
    )


def _entry_at(payload: bytes, at: int) -> tuple[Entry, int]:
    """The name that begins at `at`, and where the next one does."""
    name, at = _string_at(payload, at)
    long_form, at = _string_at(payload, at)
    attributes, at = _attributes_at(payload, at)
    return _entry(name, long_form, *attributes), at


def _attributes_at(payload: bytes, at: int) -> tuple[_Attributes, int]:
    """Size, owner, group, mode and time of change, and where they end."""
    (flags,) = _u32(payload, at)
    at += 4
    size = owner = group = mode = changed_s = None
    if flags & _SIZE:
        (size,) = _u64(payload, at)
        at += 8
    if flags & _OWNERS:
        owner, group = _two_u32(payload, at)
        at += 8
    if flags & MODE:
        (mode,) = _u32(payload, at)
        at += 4
    if flags & TIMES:
        _, changed_s = _two_u32(payload, at)
        at += 8
    if flags & ~(_SIZE | _OWNERS | MODE | TIMES):
        at = _past_others(payload, at, flags)
    return (size, owner, group, mode, changed_s), at


def _past_others(payload: bytes, at: int, flags: int) -> int:
    """Behind the attributes of a server's own making."""
    unknown = flags & ~(_SIZE | _OWNERS | MODE | TIMES | _EXTENDED | (_STRAY if flags & TIMES else 0))
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
