"""Access: octal, text, expression and words are four forms of one thing (POSIX)."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.entry import Entry, Kind
from nailer.core.files.permissions import (
    PermissionsWish,
    changed_by,
    difference,
    fitting,
    octal,
    of_octal,
    of_rwx,
    rwx,
    sentence,
    symbolic,
    transitions,
    trouble,
)
from nailer.errors import InvalidInput
from tests.builders import a_file, a_folder

ALL_BITS = st.integers(0, 0o7777)


@given(ALL_BITS)
def test_every_form_says_the_same(permissions: int) -> None:
    assert of_octal(octal(permissions)) == permissions
    assert of_rwx(rwx(permissions)) == permissions
    assert changed_by(symbolic(permissions), 0) == permissions


@pytest.mark.parametrize(
    ("expression", "now", "folder", "then"),
    [
        ("u+x", 0o644, False, 0o744),
        ("go-w", 0o666, False, 0o644),
        ("a=r", 0o777, False, 0o444),
        ("=r", 0o7777, False, 0o444),
        ("g=u", 0o640, False, 0o660),
        ("o=g-w", 0o660, False, 0o664),
        ("+X", 0o644, False, 0o644),
        ("+X", 0o744, False, 0o755),
        ("+X", 0o644, True, 0o755),
        ("u=rwX,go=rX", 0o2700, True, 0o2755),
        ("u=rwx", 0o4755, False, 0o755),
        ("u+s,g+s,+t", 0o755, False, 0o7755),
        ("ug-s", 0o6755, False, 0o755),
        ("u=", 0o755, False, 0o055),
    ],
)
def test_expressions_mean_what_posix_says(expression: str, now: int, *, folder: bool, then: int) -> None:
    assert oct(changed_by(expression, now, folder=folder)) == oct(then)


@pytest.mark.parametrize("expression", ["", "rwx", "u=q", "z+r", "u+r,", "755", "u~w", "u=rw;rm"])
def test_what_is_no_expression_is_refused(expression: str) -> None:
    with pytest.raises(InvalidInput):
        changed_by(expression, 0o644)


@pytest.mark.parametrize("text", ["9", "99", "0888", "rwx", "77777", ""])
def test_what_is_no_octal_is_refused(text: str) -> None:
    with pytest.raises(InvalidInput):
        of_octal(text)


@given(st.sampled_from(["u+x", "go-w", "u=rwX,go=rX", "g=u", "a-s"]), ALL_BITS, st.booleans())
def test_an_expression_done_twice_is_done_once(expression: str, permissions: int, folder: bool) -> None:
    once = changed_by(expression, permissions, folder=folder)
    assert changed_by(expression, once, folder=folder) == once


@given(ALL_BITS, ALL_BITS)
def test_the_difference_is_empty_only_where_there_is_none(now: int, then: int) -> None:
    assert (difference(now, then) == "") == (now == then)


@given(st.lists(st.tuples(ALL_BITS, st.sampled_from([b"a.html", b"run.cgi", b".env"])), max_size=30))
def test_transitions_count_every_name_once(found: list[tuple[int, bytes]]) -> None:
    entries = [(name, Entry(name, Kind.FILE, permissions=permissions)) for permissions, name in found]
    counted = transitions(entries, PermissionsWish("u=rwX,go=rX", "755", by_purpose=True))
    assert sum(one.count for one in counted) == len(entries)


@given(st.integers(0, 0o7777))
def test_octal_and_rwx_lose_nothing(permissions: int) -> None:
    assert int(octal(permissions), 8) == permissions
    text = rwx(permissions)
    back = sum(0o400 >> place for place, letter in enumerate(text) if letter in "rwxst")
    special = sum(bit for bit, place in ((0o4000, 2), (0o2000, 5), (0o1000, 8)) if text[place] in "sStT")
    assert back | special == permissions


@pytest.mark.parametrize(
    ("permissions", "text"),
    [
        (0o644, "The owner can change it; everyone can read it."),
        (0o666, "Everyone on the server can change it; everyone can read it."),
        (0o640, "The owner can change it; only the group can read it too."),
        (0o600, "The owner can change it; no one else can read it."),
        (0o444, "No one can change it; everyone can read it."),
        (0o755, "The owner can change it; everyone can read and run it."),
    ],
)
def test_permissions_as_a_sentence(permissions: int, text: str) -> None:
    assert sentence(permissions) == text


@pytest.mark.parametrize(
    ("entry", "word"),
    [
        (a_file("a.zip", permissions=0o666), "anyone"),
        (a_file(".env", permissions=0o644), "private"),
        (a_file("run.cgi", permissions=0o644), "without run permission"),
        (Entry(b"x", Kind.FOLDER, permissions=0o600), "cannot enter"),
        (Entry(b"tmp", Kind.FOLDER, permissions=0o1777), None),
        (a_file("index.html"), None),
    ],
)
def test_trouble_with_permissions(entry: Entry, word: str | None) -> None:
    found = trouble(entry)

    assert (word in found) if word and found else found is word


def test_what_suits_a_purpose() -> None:
    assert [fitting(one) for one in (a_file(), a_folder(), a_file("x.cgi"), a_file(".env"))] == [
        0o644,
        0o755,
        0o755,
        0o600,
    ]
