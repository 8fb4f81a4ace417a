"""Versions by their numbers, and what declares a package, each with what just does not."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.entry import Entry, Kind
from nailer.core.packages.declared import declared, files_to_read
from nailer.core.packages.versions import Order, order, version_of

ORDERED = [
    "0.9",
    "1.0-dev",
    "1.0-alpha1",
    "1.0-beta",
    "1.0-beta2",
    "1.0rc1",
    "1.0",
    "1.0.1",
    "1.9",
    "1.10",
    "2",
    "10.0",
]


@pytest.mark.parametrize("at", range(len(ORDERED) - 1))
def test_versions_follow_each_other_by_their_numbers(at: int) -> None:
    old, new = version_of(ORDERED[at]), version_of(ORDERED[at + 1])
    assert (order(new, old), order(old, new)) == (Order.NEWER, Order.OLDER)


@pytest.mark.parametrize(("one", "other"), [("1", "1.0.0"), ("v1.2", "1.2"), ("1.2+build7", "1.2"), ("x", "x")])
def test_the_same_version_is_written_in_many_ways(one: str, other: str) -> None:
    assert order(version_of(one), version_of(other)) is Order.SAME


@pytest.mark.parametrize("text", ["latest", "", "n/a", "1.2.3.4.5.6.7.8.9", "9" * 30])
def test_what_has_no_numbers_to_compare_is_not_compared(text: str) -> None:
    assert order(version_of(text), version_of("1.0")) is Order.UNKNOWN


@given(
    st.lists(st.integers(0, 10**9 - 1), min_size=1, max_size=5),
    st.lists(st.integers(0, 10**9 - 1), min_size=1, max_size=5),
)
def test_the_order_is_that_of_the_numbers(one: list[int], other: list[int]) -> None:
    padded = [numbers + [0] * (5 - len(numbers)) for numbers in (one, other)]
    wanted = Order.NEWER if padded[0] > padded[1] else Order.OLDER if padded[0] < padded[1] else Order.SAME
    assert order(version_of(".".join(map(str, one))), version_of(".".join(map(str, other)))) is wanted


@given(st.text(max_size=80))
def test_any_text_is_some_version(text: str) -> None:
    assert order(version_of(text), version_of(text)) is Order.SAME


CSS = b"/*\n Skin Name: Harbour\n Version: 1.4.2\n*/\nbody {}"
PHP = b"<?php\n/**\n * Add-on Name: Tides\n * Version: 2.1\n */\n"


@pytest.mark.parametrize(
    ("file", "data", "name", "version"),
    [
        (b"style.css", CSS, "Harbour", "1.4.2"),
        (b"tides.php", PHP, "Tides", "2.1"),
        (b"composer.json", b'{"name": "moss/seeds", "version": "0.8"}', "moss/seeds", "0.8"),
        (b"package.json", b'{"name": "seeds", "version": "3.0.0-rc.1"}', "seeds", "3.0.0-rc.1"),
        (b"skin.json", b'{"version": "1"}', "", "1"),
        (b"VERSION", b"1.2\n", "", "1.2"),
    ],
)
def test_each_kind_of_file_declares_a_package(file: bytes, data: bytes, name: str, version: str) -> None:
    found = declared(file, data)
    assert found is not None
    assert (found.name, found.version.text, found.by) == (name, version, file.decode())


@pytest.mark.parametrize(
    ("file", "data"),
    [
        (b"style.css", b"/* Version: 1.4 */"),
        (b"style.css", b"/* Name: Harbour */"),
        (b"page.php", b"<?php echo 'Name: x';"),
        (b"composer.json", b'{"name": "moss/seeds"}'),
        (b"composer.json", b'{"name": "x", "version": 3}'),
        (b"composer.json", b"[" * 100_000),
        (b"package.json", b'["version"]'),
        (b"VERSION", b"see the site"),
        (b"VERSION", b"1.2\n" + b"x" * 300),
        (b"readme.txt", b"Name: x\nVersion: 1"),
    ],
)
def test_what_declares_none(file: bytes, data: bytes) -> None:
    assert declared(file, data) is None


def test_the_surest_file_is_read_first_and_only_a_few() -> None:
    names = [b"z.php", b"tides.php", b"a.php", b"b.php", b"c.php", b"d.php", b"package.json", b"x.css", b"style.css"]
    entries = [Entry(name, Kind.FILE, 10) for name in names] + [Entry(b"composer.json", Kind.FOLDER)]
    found = files_to_read(b"tides", entries)
    assert found[:3] == [b"package.json", b"tides.php", b"style.css"]
    assert len(found) == 7


def test_names_are_cut_to_what_can_be_shown() -> None:
    found = declared(b"skin.json", json.dumps({"name": "x" * 5000, "version": "1"}).encode())
    assert found is not None
    assert len(found.name) == 120
