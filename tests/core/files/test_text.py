"""Texts come out as they went in, whatever their character set, mark and line ends."""

from __future__ import annotations

import codecs

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.compare.differences import LineChange, differences
from nailer.core.files.text import TextForm, decoded, encoded
from nailer.errors import InvalidInput


@given(st.binary(max_size=200))
def test_any_bytes_that_read_as_text_come_out_as_they_were(data: bytes) -> None:
    found = decoded(data)
    if found is not None:
        assert encoded(*found) == data


@given(
    st.text(st.characters(codec="utf-8", exclude_categories=["Cc"]), max_size=50), st.sampled_from(["\n", "\r\n", "\r"])
)
def test_line_ends_are_found_and_put_back(line: str, end: str) -> None:
    data = f"{line}{end}b{end}".encode()
    text, form = decoded(data) or pytest.fail("no text")
    assert text == f"{line}\nb\n"
    assert (form.line_end, form.mixed) == (end, False)
    assert encoded(text + "c\n", form) == data + f"c{end}".encode()


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "UTF-8, LF"),
        (codecs.BOM_UTF8 + b"a\r\n", "UTF-8 with BOM, CRLF"),
        ("häfen".encode("utf-16"), "utf-16-le with BOM, LF"),
        (b"caf\xe9\r", "Windows-1252, CR"),
        (b"a\r\nb\n", "UTF-8, mixed line ends"),
        (b'<meta charset="iso-8859-2">\xb1', "iso8859-2, LF"),
        (b"\x81\xe9", "ISO 8859-1, LF"),
        (b'@charset "utf-7"; \xe9', "Windows-1252, LF"),
    ],
)
def test_the_form_is_said_in_words(data: bytes, words: str) -> None:
    found = decoded(data)
    assert found is not None
    assert found[1].words == words
    assert encoded(*found) == data


@pytest.mark.parametrize("data", [b"\x89PNG\r\n\x1a\n\x00\x00", b"GIF89a\x01\x00", b"a\0b", b"\x7fELF\x02"])
def test_what_is_no_text_is_said_so(data: bytes) -> None:
    assert decoded(data) is None


def test_a_letter_the_set_lacks_is_named_with_its_line() -> None:
    with pytest.raises(InvalidInput, match="Line 2 contains '→', which Windows-1252 cannot represent"):
        encoded("a\n→", TextForm("cp1252"))


@given(st.lists(st.sampled_from("abc"), max_size=12), st.lists(st.sampled_from("abc"), max_size=12))
def test_differences_rebuild_both_texts(old: list[str], new: list[str]) -> None:
    lines = differences("\n".join(old), "\n".join(new), around=99)
    assert lines is not None
    if lines:
        assert [one.text for one in lines if one.change in (LineChange.SAME, LineChange.GONE)] == old
        assert [one.text for one in lines if one.change in (LineChange.SAME, LineChange.NEW)] == new
    else:
        assert old == new


def test_what_is_far_from_any_difference_is_counted() -> None:
    lines = differences("\n" * 50, "\n" * 25 + "x\n" + "\n" * 25)
    assert lines is not None
    assert (lines[0].change, lines[0].text, lines[-1].change) == (LineChange.SKIPPED, "22", LineChange.SKIPPED)
