"""What a person chose, stored and read, and the keys of the files view."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.people.preferences import (
    USUAL_KEYS,
    Act,
    Column,
    Density,
    DoubleClick,
    FirstPage,
    Preferences,
    Theme,
    checked_keys,
    checked_text_px,
)
from nailer.errors import InvalidInput

chosen = st.builds(
    Preferences,
    st.sampled_from(FirstPage),
    st.sampled_from(Density),
    st.frozensets(st.sampled_from(Column)),
    st.sampled_from(["", "Europe/London"]),
    st.sampled_from(DoubleClick),
    st.sampled_from(Theme),
    st.integers(11, 24),
    st.booleans(),
    st.dictionaries(st.sampled_from(Act), st.sampled_from("xyz"), max_size=1),
)


@given(chosen)
def test_what_was_chosen_is_read_as_it_was_stored(one: Preferences) -> None:
    assert Preferences.of_text(one.as_text) == one


@pytest.mark.parametrize("text", [None, "", "{", "[]", '{"density": "huge", "theme": "dark", "keys": {"fly": "x"}}'])
def test_what_cannot_be_read_any_more_is_as_usual(text: str | None) -> None:
    found = Preferences.of_text(text)

    assert found.density is Density.ROOMY
    assert found.keys == {}
    assert (found.theme is Theme.DARK) == (text is not None and "dark" in text)


def test_keys_are_one_sign_and_stand_for_one_thing() -> None:
    assert checked_keys({}) == {}
    assert checked_keys({"upload": "x", "remove": "delete"}) == {Act.UPLOAD: "x"}
    for given_keys, field in (
        ({"upload": "d"}, "key_download"),
        ({"upload": "?"}, "key_upload"),
        ({"upload": "ab"}, "key_upload"),
        ({"upload": "\x07"}, "key_upload"),
    ):
        with pytest.raises(InvalidInput) as refused:
            checked_keys(given_keys)
        assert field in refused.value.fields
    assert set(Preferences(keys={Act.UPLOAD: "x"}).acts) == (set(USUAL_KEYS.values()) - {"u"}) | {"x"}


@pytest.mark.parametrize("size", [None, 0, 10, 25])
def test_text_that_nobody_could_read_is_refused(size: int | None) -> None:
    with pytest.raises(InvalidInput):
        checked_text_px(size)


@pytest.mark.parametrize("zone", ["Gone/Nowhere", "../etc/passwd", 7])
def test_a_zone_that_is_not_known_any_more_is_as_usual(zone: object) -> None:
    read = Preferences.of_text(json.dumps({"zone": zone, "text_px": 15}))

    assert (read.zone, read.text_px) == ("", 15)
