"""What typed and pasted text may mean."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.sitepath import SitePath
from nailer.core.files.typed import Meaning, alike, is_web_address, meanings, meant, web_address
from nailer.errors import InvalidInput
from tests.builders import path

HTDOCS = path("/htdocs")


@pytest.mark.parametrize(
    "typed",
    [
        "/htdocs/news",
        " /htdocs/news \t",
        "'/htdocs/news'",
        "“/htdocs/news/”",
        "`~/htdocs/news`",
        "\\htdocs\\news",
        "htdocs/news/",
        "/htdocs/n%65ws",
        "\u200b/htdocs/news\ufeff",
        "sftp://maren@ftp.skerryferries.example:2222/htdocs/news/",
    ],
)
def test_a_pasted_path_is_understood_whatever_clings_to_it(typed: str) -> None:
    found = meanings(typed, path("/elsewhere"))

    assert Meaning(path("/htdocs/news")) in found


@pytest.mark.parametrize("name", ["50% off", "it's", "a\\b", "~", "notes:12", " lead", "%41"])
def test_a_name_that_looks_odd_is_tried_as_it_is_first(name: str) -> None:
    assert meanings(f"/htdocs/{name}", HTDOCS)[0] == Meaning(HTDOCS.child(name.encode()))


def test_a_line_of_a_file_is_named_behind_a_colon() -> None:
    assert Meaning(HTDOCS.child(b"site.css"), 41) in meanings("/htdocs/site.css:41", SitePath())
    assert Meaning(HTDOCS.child(b"site.css"), 41) in meanings("site.css:41:7", HTDOCS)
    assert all(one.line < 10**9 for one in meanings("a:" + "9" * 4000, HTDOCS))


@pytest.mark.parametrize("typed", ["/htdocs/../etc", "a\0b", "x" * 5000])
def test_what_can_be_no_path_is_refused_with_the_reason(typed: str) -> None:
    with pytest.raises(InvalidInput, match=r"may not contain|too long"):
        meanings(typed, HTDOCS)


@given(st.text(max_size=60))
def test_whatever_is_typed_is_read_or_refused(typed: str) -> None:
    try:
        found = meanings(typed, HTDOCS)
    except InvalidInput:
        return
    assert found
    assert len(found) == len(set(found)) <= 24


def test_an_address_of_the_web_is_told_from_a_path() -> None:
    assert is_web_address(" <https://skerryferries.example/fares.html?x=1#y> ")
    assert not is_web_address("/htdocs/https")
    assert web_address("'https://skerryferries.example/fares.html?x=1#y'") == "https://skerryferries.example/fares.html"


def test_what_is_meant_and_what_is_near() -> None:
    assert meant(" 'nwes' ", HTDOCS) == HTDOCS.child(b"nwes")
    assert alike(b"nwes", [b"img", b"news", b"newsletter"])[0] == b"news"
    assert alike(b"zzz", [b"img", b"news"]) == []
