"""Listings of FTP servers: every form met, names kept whole, times with their precision and the server's clock."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.listing import Clock, offset_of, parse_facts, parse_list, parse_time, time_text

# 2026-11-23 10:42:00 UTC
NOW_S = 1_795_430_520
NOW = Clock(NOW_S)
MINUTE, DAY = 60 * NS, 86_400 * NS


def one(line: bytes, clock: Clock = NOW) -> Entry:
    listed = parse_list([line], clock)
    assert not listed.unread
    (entry,) = listed.entries
    return entry


@pytest.mark.parametrize(
    ("line", "name", "kind", "size"),
    [
        (b"-rw-r--r--   1 web      www          1234 Nov 23 09:00 index.html", b"index.html", Kind.FILE, 1234),
        (b"drwxr-xr-x   9 web      www          4096 Jan  2  2024 img", b"img", Kind.FOLDER, 0),
        (b"lrwxrwxrwx   1 web      www             6 Nov  1 09:00 www -> htdocs", b"www", Kind.LINK, 0),
        (b"-rw-r--r--   1 web      www             6 Nov  1 09:00 a -> b.txt", b"a -> b.txt", Kind.FILE, 6),
        (b"-rw-r--r--   1 web      www             6 Nov  1 09:00  two  blanks ", b" two  blanks ", Kind.FILE, 6),
        (b"-rw-r--r--   1 web      www             6 Nov  1 09:00 caf\xe9", b"caf\xe9", Kind.FILE, 6),
        (
            b"-rw-r--r--   1 1001     100             6 Nov  1 09:00 12 Nov 2020 notes",
            b"12 Nov 2020 notes",
            Kind.FILE,
            6,
        ),
        (b"-rw-rw-r--+  1 web      www             6 2026-11-01 09:00 iso", b"iso", Kind.FILE, 6),
        (b"-rw-r--r--   1 web                      6 Nov  1 09:00 no group", b"no group", Kind.FILE, 6),
        (b"-rw-r--r--   1 web      www             6  1 Nov 09:00 day first", b"day first", Kind.FILE, 6),
        (b"crw-rw----   1 root     tty        4,  64 Nov  1 09:00 ttyS0", b"ttyS0", Kind.OTHER, 0),
        (b"11-23-26  09:00AM       <DIR>          wwwroot", b"wwwroot", Kind.FOLDER, 0),
        (b"11-23-2026  09:00PM          1,234 read me.txt", b"read me.txt", Kind.FILE, 1234),
        (b"2026-11-23  21:00             12 iso.txt", b"iso.txt", Kind.FILE, 12),
        (b"11-23-26  09:00AM       <SYMLINKD>     www [C:\\site]", b"www", Kind.LINK, 0),
    ],
)
def test_a_line_of_list_is_read(line: bytes, name: bytes, kind: Kind, size: int) -> None:
    entry = one(line)

    assert (entry.name, entry.kind, entry.size) == (name, kind, size)


def test_owner_permissions_and_target_are_read() -> None:
    entry = one(b"lrwxr-s--T   1 maren    studio          6 Nov  1 09:00 www -> ../htdocs")

    assert (entry.owner, entry.group, entry.permissions, entry.target) == ("maren", "studio", 0o3750, b"../htdocs")


@pytest.mark.parametrize(
    ("when", "at", "precision_ns"),
    [
        (b"Nov 23 10:00", b"20261123100000", MINUTE),
        (b"Nov 23 23:00", b"20261123230000", MINUTE),  # a clock that is ahead of ours
        (b"Nov 25 10:00", b"20251125100000", MINUTE),  # still to come: last year's
        (b"Dec 31 23:59", b"20251231235900", MINUTE),
        (b"Feb 29 12:00", b"20240229120000", MINUTE),  # the last year that had the day
        (b"Mar  1  2020", b"20200301000000", DAY),
    ],
)
def test_a_time_without_its_year_is_resolved_against_today(when: bytes, at: bytes, precision_ns: int) -> None:
    wanted = parse_time(at)
    assert wanted is not None

    entry = one(b"-rw-r--r-- 1 web www 6 " + when + b" f")

    assert entry.stamp == Stamp(wanted.at_ns, precision_ns)


def test_the_servers_clock_is_reckoned_with() -> None:
    plain = one(b"-rw-r--r-- 1 web www 6 Nov 23 10:00 f").stamp
    ahead = one(b"-rw-r--r-- 1 web www 6 Nov 23 12:00 f", Clock(NOW_S, 7200)).stamp

    assert ahead == plain
    assert plain is not None
    assert offset_of(Stamp(plain.at_ns + 7200 * NS, MINUTE), plain) == 7200
    assert offset_of(Stamp(plain.at_ns - 34_200 * NS - 25 * NS, MINUTE), plain) == -34_200


def test_ornament_is_left_out_and_what_cannot_be_read_is_said() -> None:
    listed = parse_list([b"total 12", b"", b"drwxr-xr-x 2 w w 4096 Nov 1 09:00 .", b"<html>no listing</html>"], NOW)

    assert listed.entries == []
    assert listed.unread == [b"<html>no listing</html>"]


@pytest.mark.parametrize(
    ("line", "name", "kind", "target"),
    [
        (b"type=file;size=9;modify=20261123104200; a; b=c.html", b"a; b=c.html", Kind.FILE, None),
        (b"Type=dir;Modify=20261123104200;  leading blank", b" leading blank", Kind.FOLDER, None),
        (b"type=OS.unix=slink:/srv/htdocs;modify=20261123104200; www", b"www", Kind.LINK, b"/srv/htdocs"),
        (b"type=OS.unix=symlink; www", b"www", Kind.LINK, None),
        (b"type=OS.unix=chr-4/64; tty", b"tty", Kind.OTHER, None),
    ],
)
def test_facts_are_read(line: bytes, name: bytes, kind: Kind, target: bytes | None) -> None:
    facts = parse_facts(line)

    assert facts is not None
    assert (facts.entry.name, facts.entry.kind, facts.entry.target) == (name, kind, target)


def test_what_is_no_line_of_facts_is_told() -> None:
    assert parse_facts(b"-rw-r--r-- 1 web www 6 Nov 23 10:00 f") is None
    assert parse_facts(b"") is None
    own = parse_facts(b"type=cdir; /htdocs")
    assert own is not None
    assert own.is_own


@pytest.mark.parametrize("mode", [b"0644", b"644", b"0o644"])
def test_permissions_are_read_in_every_spelling(mode: bytes) -> None:
    facts = parse_facts(b"type=file;size=1;UNIX.mode=" + mode + b"; f")

    assert facts is not None
    assert facts.entry.permissions == 0o644


@given(st.integers(min_value=0, max_value=4_000_000_000))
def test_times_come_back_as_they_were_sent(at_s: int) -> None:
    assert parse_time(time_text(Stamp.seconds(at_s))) == Stamp.seconds(at_s)


@given(st.binary(max_size=200))
def test_any_bytes_can_be_read(line: bytes) -> None:
    """Whatever a server sends: entries, or lines that are said to be unread; never an exception of Python's."""
    listed = parse_list([line], NOW)
    facts = parse_facts(line)

    assert len(listed.entries) + len(listed.unread) <= 1
    assert facts is None or facts.entry.name
