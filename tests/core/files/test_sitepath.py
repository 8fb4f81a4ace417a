"""Paths: no byte is lost, nothing climbs out, and public addresses lead back."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.sitepath import (
    DocumentRoot,
    SitePath,
    address_of,
    is_strange,
    name_of_token,
    name_token,
    pair_root,
    path_of,
    shown_name,
)
from nailer.errors import InvalidInput
from tests.builders import path

names = st.binary(min_size=1, max_size=40).filter(lambda raw: raw not in (b".", b"..") and not set(raw) & {0, 47})
site_paths = st.lists(names, max_size=4).map(lambda parts: SitePath(tuple(parts)))
ROOTS = (
    DocumentRoot(path("/htdocs"), "https://skerryferries.example/"),
    DocumentRoot(path("/htdocs/shop"), "https://shop.skerryferries.example/"),
)


@given(site_paths)
def test_a_token_gives_every_byte_back(one: SitePath) -> None:
    assert one.token.isascii()
    assert SitePath.of_token(one.token) == one
    assert SitePath.parse(one.raw) == one


@given(names)
def test_a_names_token_gives_every_byte_back_and_holds_no_slash(name: bytes) -> None:
    assert name_of_token(name_token(name)) == name
    assert "/" not in name_token(name)


@given(names)
def test_a_shown_name_holds_nothing_that_could_hide_or_break_a_line(name: bytes) -> None:
    shown = shown_name(name)

    assert shown
    assert not any(ord(one) < 32 or 0x7F <= ord(one) < 0xA0 or 0xD800 <= ord(one) < 0xE000 for one in shown)


@pytest.mark.parametrize(
    ("raw", "shown"),
    [
        (b"two\nlines", "two␊lines"),
        (b"caf\xe9", "caf‹E9›"),
        ("evil\u202etxt.exe".encode(), "evil‹202E›txt.exe"),
        (b"-rf", "-rf"),
        (b'it\'s "quoted"', 'it\'s "quoted"'),
        ("für.html".encode(), "für.html"),
    ],
)
def test_shown_names(raw: bytes, shown: str) -> None:
    assert shown_name(raw) == shown
    assert is_strange(raw) == (raw != shown.encode())


@pytest.mark.parametrize("bad", ["/a/../b", "/..", "/a%00b", "..%2F.."])
def test_paths_that_climb_are_refused(bad: str) -> None:
    with pytest.raises(InvalidInput):
        SitePath.of_token(bad)


@pytest.mark.parametrize("bad", ["", ".", "..", "a%2Fb", "a%00", "x" * 256])
def test_names_that_are_none_are_refused(bad: str) -> None:
    with pytest.raises(InvalidInput):
        name_of_token(bad)


@pytest.mark.parametrize(
    ("place", "address"),
    [
        ("/htdocs", "https://skerryferries.example/"),
        ("/htdocs/a b/ü.html", "https://skerryferries.example/a%20b/%C3%BC.html"),
        ("/htdocs/50%.html", "https://skerryferries.example/50%25.html"),
        ("/htdocs/shop/x.html", "https://shop.skerryferries.example/x.html"),
        ("/logs/access.log", None),
    ],
)
def test_public_addresses(place: str, address: str | None) -> None:
    assert address_of(path(place), ROOTS) == address


@given(st.lists(names, min_size=1, max_size=3))
def test_a_public_address_leads_back_to_its_path(parts: list[bytes]) -> None:
    one = path("/htdocs").join(tuple(parts))
    address = address_of(one, ROOTS)

    assert address is not None
    assert path_of(address, ROOTS) == one


def test_an_address_of_another_site_has_no_path() -> None:
    assert path_of("https://elsewhere.example/x", ROOTS) is None
    assert path_of("https://skerryferries.example.evil.example/x", ROOTS) is None


def test_the_pair_root_is_where_the_paths_part() -> None:
    assert pair_root(path("/studio/s/htdocs/img"), path("/htdocs/img")) == (path("/studio/s"), path("/"))
    assert pair_root(path("/studio"), path("/htdocs")) == (path("/studio"), path("/htdocs"))
