"""Names of a side as a reading found them."""

from __future__ import annotations

import pytest

from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import Tree
from nailer.core.site import names
from nailer.core.site.names import Names

TOP = SitePath((b"htdocs",))


def _names(*found: bytes) -> Names:
    return Names({TOP: Tree({(): [Entry(name, Kind.FILE, 1) for name in found]})})


def test_of_several_writings_the_first_is_named_and_none_where_the_name_itself_is_there() -> None:
    there = _names(b"Pier.jpg", b"PIER.jpg", b"gull.svg")

    assert there.other_writing(TOP.child(b"pier.jpg")) == TOP.child(b"PIER.jpg")
    assert there.other_writing(TOP.child(b"Pier.jpg")) is None
    assert there.other_writing(TOP.child(b"gate.svg")) is None


def test_a_folder_is_looked_through_once_for_all_the_names_that_are_asked_for(monkeypatch: pytest.MonkeyPatch) -> None:
    asked = []
    usual = names.alike
    monkeypatch.setattr(names, "alike", lambda name: asked.append(name) or usual(name))
    there = _names(*(b"page-%d.html" % number for number in range(500)))

    for number in range(500):
        assert there.other_writing(TOP.child(b"gone-%d.html" % number)) is None

    assert len(asked) == 1000, "each name once, and each that was asked for once"
