"""Packets of names: read as the library reads them, and never past what is there."""

from __future__ import annotations

import asyncssh
import pytest
from asyncssh.packet import SSHPacket, String, UInt32
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.entry import Kind, kind_of_mode
from nailer.sides.sftp.names import entries_of

WORD = st.integers(0, 2**32 - 1)
MODES = st.sampled_from([0o100644, 0o104755, 0o040755, 0o120777, 0o020600, 0o755])
LONG = "-rw-r--r--    1 maren    gannets     12345 Nov 25 12:00 index.html"


@st.composite
def names(draw: st.DrawFn) -> asyncssh.SFTPName:
    """A name as a server may send it: each attribute may be missing."""
    attributes = asyncssh.SFTPAttrs()
    if draw(st.booleans()):
        attributes.size = draw(st.integers(0, 2**63 - 1))
    if draw(st.booleans()):
        attributes.uid, attributes.gid = draw(WORD), draw(WORD)
    if draw(st.booleans()):
        attributes.permissions = draw(MODES)
    if draw(st.booleans()):
        attributes.atime, attributes.mtime = draw(WORD), draw(WORD)
    if draw(st.booleans()):
        attributes.extended = [(b"acl@hosting.example", b"everything")]
    return asyncssh.SFTPName(draw(st.binary(max_size=20)), draw(st.sampled_from(["", LONG])).encode(), attributes)


def packet(listed: list[asyncssh.SFTPName]) -> bytes:
    return UInt32(len(listed)) + b"".join(one.encode(3) for one in listed)


@given(st.lists(names(), max_size=4))
def test_names_are_read_as_the_library_reads_them(listed: list[asyncssh.SFTPName]) -> None:
    read = SSHPacket(packet(listed))
    read.get_uint32()
    theirs = [asyncssh.SFTPName.decode(read, 3) for _ in listed]

    ours = entries_of(packet(listed))

    assert [one.name for one in ours] == [one.filename for one in theirs]
    for entry, name in zip(ours, theirs, strict=True):
        attributes = name.attrs
        letters = {b"-": Kind.FILE, b"d": Kind.FOLDER, b"l": Kind.LINK}
        told = letters.get(bytes(name.longname or b"")[:1], Kind.OTHER)  # where the attributes do not say the kind
        kind = told if attributes.permissions is None else kind_of_mode(attributes.permissions)
        assert entry.kind is kind
        assert entry.size == ((attributes.size or 0) if kind is Kind.FILE else 0)
        assert entry.permissions == (None if attributes.permissions is None else attributes.permissions & 0o7777)
        assert (entry.stamp and entry.stamp.at_s) == attributes.mtime
        named = ("maren", "gannets") if name.longname else None
        numbered = None if attributes.uid is None else (str(attributes.uid), str(attributes.gid))
        assert (entry.owner, entry.group) == (named or numbered or (None, None))


@given(st.lists(names(), min_size=1, max_size=3), st.data())
def test_a_packet_that_ends_early_or_goes_on_is_refused(listed: list[asyncssh.SFTPName], data: st.DataObject) -> None:
    whole = packet(listed)
    broken = data.draw(st.sampled_from([whole + b"\0", whole[: data.draw(st.integers(0, len(whole) - 1))]]))

    with pytest.raises(asyncssh.SFTPBadMessage):
        entries_of(broken)


def test_a_bit_of_later_versions_beside_the_times_is_passed_over_and_others_are_refused() -> None:
    times = UInt32(1) + UInt32(1_700_000_000)
    head = UInt32(1) + String(b"a.html") + String(b"")

    (entry,) = entries_of(head + UInt32(0x28) + times)

    assert entry.stamp is not None
    assert entry.stamp.at_s == 1_700_000_000
    with pytest.raises(asyncssh.SFTPBadMessage, match="0x00000040"):
        entries_of(head + UInt32(0x40))
