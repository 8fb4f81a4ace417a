"""Character sets of names."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.charset import CHARSETS, candidates, from_wire, to_wire


@pytest.mark.parametrize("charset", CHARSETS)
def test_every_set_can_be_used(charset: str) -> None:
    assert from_wire(to_wire(b"index.html", charset), charset) == b"index.html"


@given(
    st.binary(min_size=1, max_size=40).filter(lambda name: b"/" not in name),
    st.sampled_from(["iso-8859-1", "cp1252", "koi8-r"]),
)
def test_a_name_of_the_server_survives_whatever_it_holds(name: bytes, charset: str) -> None:
    assert to_wire(from_wire(name, charset), charset) == name


@pytest.mark.parametrize(
    ("text", "charset"),
    [
        ("Öffnungszeiten.html", "iso-8859-1"),
        ("расписание.html", "cp1251"),
        ("расписание.html", "koi8-r"),
        ("船.html", "shift_jis"),
    ],
)
def test_the_right_set_is_among_the_first(text: str, charset: str) -> None:
    first = [one for one in candidates([text.encode(charset)]) if one.samples == (text,)]

    assert first
    assert candidates([text.encode(charset)]).index(first[0]) < 4
    assert candidates([text.encode()])[0].charset == "utf-8"
