"""Does what is sent belong where it is sent?"""

from __future__ import annotations

import pytest

from nailer.core.plans.destination import Around, Sent, better_places, overlap
from tests.builders import path

SKINS = path("/htdocs/skins")


def around(*names: str, folders: tuple[str, ...] = ()) -> Around:
    raw = frozenset(name.encode() for name in folders)
    return Around(frozenset(name.encode() for name in names) | raw, raw)


def files(*names: str) -> list[Sent]:
    return [Sent(name.encode(), False) for name in names]


def test_names_that_are_elsewhere_belong_there() -> None:
    known = {SKINS: around(folders=("harbour",)), path("/htdocs"): around("index.html", "site.css", "fares.html")}

    (better,) = better_places(files("index.html", "site.css", "new.html"), SKINS, known)

    assert better.place == path("/htdocs")
    assert better.reason.startswith("2 of the 3 names are already in /htdocs")
    assert overlap([], frozenset()) == 0


def test_where_both_fit_alike_nothing_is_said() -> None:
    known = {SKINS: around("a", "b"), path("/htdocs"): around("a", "b", "c")}
    assert better_places(files("a", "b", "c"), SKINS, known) == []


def test_a_folder_into_the_folder_of_its_name() -> None:
    (better,) = better_places([Sent(b"skins", True, frozenset({b"x"}))], SKINS, {SKINS: around("y")})
    assert better.place == path("/htdocs")
    assert "skins/skins" in better.reason


def test_an_archive_wrapped_twice() -> None:
    sent = [Sent(b"harbour", True, frozenset({b"harbour"}), b"harbour")]
    (better,) = better_places(sent, SKINS, {SKINS: around(folders=("calm",))})
    assert better.reason == "harbour contains only the folder harbour, so it would end up in harbour/harbour"


@pytest.mark.parametrize(("folders", "said"), [(("a", "b", "c"), True), (("a", "b"), False)])
def test_loose_files_among_packages(folders: tuple[str, ...], said: bool) -> None:
    found = better_places(files("style.css"), SKINS, {SKINS: around(folders=folders)})
    assert bool(found) is said
