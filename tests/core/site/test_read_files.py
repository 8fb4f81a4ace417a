"""Which files must be read, and when what was read of them still holds."""

from __future__ import annotations

from datetime import datetime, timedelta

import pytest

from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.site.links import FileLinks
from nailer.core.site.read_files import ReadFile, by_program, made_smaller, to_read, twins
from tests.builders import a_file, path

READ_AT = datetime(2026, 11, 29, 12)
OLD = Stamp.seconds(1_700_000_000)


def read(name: str, size: int = 100, stamp: Stamp | None = OLD, **more: object) -> ReadFile:
    return ReadFile(path("/htdocs/" + name), size, stamp, READ_AT, **more)  # type: ignore[arg-type]


def just_before(seconds: float, precision_s: int) -> Stamp:
    """A time so many seconds before the reading."""
    at = (READ_AT - timedelta(seconds=seconds) - datetime(1970, 1, 1)).total_seconds()
    return Stamp(int(at * NS), precision_s * NS)


@pytest.mark.parametrize(
    ("stamp", "size", "still"),
    [
        (OLD, 100, True),
        (OLD, 101, False),
        (Stamp.seconds(1_700_000_001), 100, False),
        (None, 100, False),
    ],
)
def test_a_file_is_unchanged_by_size_and_time(stamp: Stamp | None, size: int, still: bool) -> None:
    assert read("a.html").is_still(Entry(b"a.html", Kind.FILE, size, stamp)) is still


@pytest.mark.parametrize(
    ("seconds", "precision_s", "still"),
    [(1, 1, False), (3, 1, True), (50, 60, False), (70, 60, True), (3600, 86_400, False)],
)
def test_a_time_in_whose_precision_a_change_could_hide_proves_nothing(
    seconds: float, precision_s: int, still: bool
) -> None:
    stamp = just_before(seconds, precision_s)
    assert read("a.html", stamp=stamp).is_still(Entry(b"a.html", Kind.FILE, 100, stamp)) is still


def test_what_is_known_is_not_read_and_what_is_wanted_more_is() -> None:
    on_web = {
        path("/htdocs/" + name): a_file(name, size, 1_700_000_000)
        for name, size in (("a.html", 100), ("b.jpg", 90_000))
    }
    known = {one.path: one for one in (read("a.html", links=FileLinks()), read("b.jpg", 90_000, width=0, height=0))}
    assert to_read(on_web, known) == []
    assert [one.path.name for one in to_read(on_web, {})] == [b"a.html", b"b.jpg"]
    del known[path("/htdocs/b.jpg")]
    assert [(one.path.name, one.pixels) for one in to_read(on_web, known)] == [(b"b.jpg", True)]


def test_files_of_equal_size_are_hashed_as_far_as_it_is_worth() -> None:
    sizes = {
        "a.bin": 30_000,
        "b.bin": 30_000,
        "c.bin": 40_000,
        "d.bin": 10,
        "e.bin": 10,
        "f.bin": 300_000_000,
        "g.bin": 300_000_000,
    }
    on_web = {path("/htdocs/" + name): a_file(name, size) for name, size in sizes.items()}
    assert [one.path.name for one in to_read(on_web, {}) if one.digest] == [b"a.bin", b"b.bin"]


def test_twins_are_files_of_one_content_and_never_pages() -> None:
    files = [read("a.png", digest=b"1"), read("b.png", digest=b"1"), read("c.png", digest=b"2")]
    files += [read(name, digest=b"3", links=FileLinks()) for name in ("x.html", "y.html")]
    assert twins({one.path: one for one in files}) == [[path("/htdocs/a.png"), path("/htdocs/b.png")]]


def test_a_picture_whose_pixels_nobody_knows_is_not_offered_to_be_made_smaller() -> None:
    files = {
        one.path: one
        for one in (read("a.jpg", 900_000, width=4000, height=3000), read("b.jpg", 900_000, width=0, height=0))
    }
    widths = dict.fromkeys(files, (300,))
    assert list(made_smaller(files, widths)) == [path("/htdocs/a.jpg")]


def test_a_script_in_its_own_folder_makes_no_pages() -> None:
    assert not by_program({path("/htdocs/cgi-bin/next.cgi"): read("x")})
    assert by_program({path("/htdocs/index.php"): read("x")})
