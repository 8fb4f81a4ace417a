"""The worst of RFC 3659 and of LIST's dialects: one bad row costs that row, and no bytes raise."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nailer.core.files.completeness import Lack, lack_in_words, listing_of
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.listing import Clock, parse_facts_rows, parse_list, rows_of

NOW = Clock(1_795_430_520)
GOOD_FACTS = b"type=file;size=9;modify=20261123104209; good.html"
GOOD_ROW = b"-rw-r--r--   1 web      www             9 Nov 23 09:00 good.html"

BAD_FACTS = [
    b"type=file;size=9;modify=00000000000000; a",
    b"type=file;size=9;modify=99999999999999; a",
    b"type=file;size=9;modify=20261399999999.999999999; a",
    b"type=file;size=" + b"9" * 5000 + b"; a",
    b"type=file;size=-1; a",
    b"type=file; a",
    b"size=3; a",
    b"type=;size=; a",
    b"type=file;size=1;UNIX.mode=" + b"7" * 9000 + b"; a",
    b"=;=;=; ",
    b"type=file;size=1; a/b",
    b"type=file;size=1; a\0b",
    b"type=file;size=1;modify=20261123104209;",
    b"\xff\xfe",
]
BAD_ROWS = [
    b"-rw-r--r--   1 web www 9 Jan  1  0000 a",
    b"-rw-r--r--   1 web www 9 Feb 31 09:00 a",
    b"-rw-r--r--   1 web www 9 Jan  1 99:99 a",
    b"-rw-r--r--   1 web www " + b"9" * 30 + b" Jan  1  2020 a",
    b"-rw-r--r--   1 web www " + b"9" * 5000 + b" Jan  1  2020 a",
    b"-rw-r--r--   1 web www 9 Foo  1  2020 a",
    b"-rw-r--r--   1 web www 9 Jan  1  2020 a/b",
    b"-rw-r--r--   1 web www 9 Jan  1  2020 a\0b",
    b"-rw-r--r--",
    b"99-99-99  99:99AM       <DIR>          a",
    b"0000-00-00  00:00   1 a",
    b"<html>",
]


@pytest.mark.parametrize("bad", BAD_FACTS, ids=lambda row: repr(row)[:40])
def test_a_bad_row_of_facts_costs_that_row(bad: bytes) -> None:
    found = parse_facts_rows([GOOD_FACTS, bad, GOOD_FACTS.replace(b"good", b"other")])

    names = {one.name for one in found.entries}
    assert {b"good.html", b"other.html"} <= names
    assert len(found.entries) + len(found.unread) == 3


@pytest.mark.parametrize("bad", BAD_ROWS, ids=lambda row: repr(row)[:40])
def test_a_bad_row_of_text_costs_that_row(bad: bytes) -> None:
    found = parse_list([GOOD_ROW, bad, GOOD_ROW.replace(b"good", b"other")], NOW)

    assert {b"good.html", b"other.html"} <= {one.name for one in found.entries}
    assert len(found.entries) + len(found.unread) == 3


@pytest.mark.parametrize(
    ("row", "name", "owner", "group"),
    [
        (b"-rw-r--r--   1 Domain Users Web Team 9 Nov 23 09:00 a.html", b"a.html", "Domain", "Users Web Team"),
        (b"-rw-r--r--   1 web www 9 23. Nov 09:00 a.html", b"a.html", "web", "www"),
        ("-rw-r--r--   1 web www 9 4 M\xe4r 09:00 a.html".encode("latin-1"), b"a.html", "web", "www"),
        ("-rw-r--r--   1 web www 9 févr.  4  2020 a.html".encode(), b"a.html", "web", "www"),
        (b"-rw-r--r--   1 web www 9 dic  4  2020 a.html", b"a.html", "web", "www"),
        ("-rw-r--r--   1 web www 9 11月 23 09:00 a.html".encode(), b"a.html", "web", "www"),
        (b"-rw-r--r--   1 web www 9 2026-11-23 09:00:01.123456789 +0100 a.html", b"a.html", "web", "www"),
        (b"-rw-r--r--   1 web www 9 11-23 09:00 a.html", b"a.html", "web", "www"),
        (b"-rw-r--r--   1 web www 9 2020-11-23  a.html", b"a.html", "web", "www"),
        (b"-rw-r--r--   1 web www 9 Nov 23 09:00  two  blanks ", b" two  blanks ", "web", "www"),
        (b"-rw-r--r--   1 web www 9 Nov 23 09:00 two\nlines", b"two\nlines", "web", "www"),
        (b"-rw-r--r--   1 web www 9 Nov 23 09:00 ends\r", b"ends\r", "web", "www"),
    ],
    ids=lambda value: repr(value)[-24:] if isinstance(value, bytes) else "",
)
def test_the_dialects_of_list_are_read(row: bytes, name: bytes, owner: str, group: str) -> None:
    found = parse_list([row], NOW)

    assert not found.unread
    (entry,) = found.entries
    assert (entry.name, entry.owner, entry.group, entry.size) == (name, owner, group, 9)
    assert entry.stamp is not None


@pytest.mark.parametrize(
    ("words", "why"),
    [
        ("226 Output truncated to 10000 matches", Lack.CUT),
        ("226-Options: -a -l\n226 2000 matches total", Lack.CUT),
        ("226 Listing limited to 500 entries.", Lack.CUT),
        ("226 Maximum number of files reached", Lack.CUT),
        ("226 Transfer done (but failed to open directory).", Lack.DOUBTED),
        ("226 Some entries could not be read", Lack.DOUBTED),
        ("226 Transfer complete, permission denied for 3 entries", Lack.DOUBTED),
        ("226 Directory send OK.", None),
        ("226-Options: -a -l\n226 12 matches total", None),
        ("226 Transfer complete. 0 errors", None),
        ("226 Closing data connection; transfer succeeded without errors.", None),
        ("226 Quota: 12 of 500 MB used", None),
    ],
)
def test_the_words_of_a_good_reply_are_read(words: str, why: Lack | None) -> None:
    found = lack_in_words(words, 12)

    assert (found.why if found else None) is why


@settings(max_examples=300)
@given(
    st.lists(st.one_of(st.binary(max_size=120), st.sampled_from([*BAD_FACTS, GOOD_FACTS])), max_size=6), st.booleans()
)
def test_no_bytes_of_mlsd_raise(rows: list[bytes], bare: bool) -> None:
    raw = (b"\n" if bare else b"\r\n").join(rows)
    lines, _ = rows_of(raw)

    found = parse_facts_rows(lines, bare=bare)

    assert all(entry.name and b"/" not in entry.name and b"\0" not in entry.name for entry in found.entries)
    assert len({entry.name for entry in found.entries}) == len(found.entries)


@settings(max_examples=300)
@given(st.lists(st.one_of(st.binary(max_size=120), st.sampled_from([*BAD_ROWS, GOOD_ROW])), max_size=6))
def test_no_bytes_of_list_raise(rows: list[bytes]) -> None:
    lines, _ = rows_of(b"\r\n".join(rows))

    found = parse_list(lines, NOW)

    assert all(entry.name and b"/" not in entry.name and 0 <= entry.size < 2**63 for entry in found.entries)


def test_our_own_temporary_files_are_put_aside() -> None:
    names = [b"a.html", b".nailer-3-17.part", b"nailer-3-17-old.part", b".nailer-try-0123abcd.part"]

    listing = listing_of(Entry(name, Kind.FILE) for name in names)

    assert [one.name for one in listing.entries] == [b"a.html"]
    assert len(listing.parts) == 3
