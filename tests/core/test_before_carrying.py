"""What is said before anything moves: room, a better place, names to think about."""

from __future__ import annotations

import pytest

from nailer.core.advice import doubts_text, hurting_names, not_for_public
from nailer.core.destination import Around, Sent, better_places, overlap
from nailer.core.room import Fit, need_of
from tests.builders import path

SKINS = path("/htdocs/skins")


def around(*names: str, folders: tuple[str, ...] = ()) -> Around:
    raw = frozenset(name.encode() for name in folders)
    return Around(frozenset(name.encode() for name in names) | raw, raw)


def files(*names: str) -> list[Sent]:
    return [Sent(name.encode(), False) for name in names]


def test_room_is_needed_for_the_new_beside_the_old() -> None:
    need = need_of([(1_000, 900), (500, 0), (10, 400)])

    assert (need.growth, need.at_once, need.in_order) == (210, 1_510, 1_000)
    assert need.fit(1_510) is Fit.FITS
    assert need.fit(1_000) is Fit.IN_ORDER
    assert need.fit(999) is Fit.SHORT
    assert need.short_by(999) == 1
    assert need_of([]).fit(0) is Fit.FITS
    assert need_of([(1_000, 900)]).then(500, 0).then(10, 400) == need


def test_names_that_are_elsewhere_belong_there() -> None:
    known = {SKINS: around(folders=("harbour",)), path("/htdocs"): around("index.html", "site.css", "fares.html")}

    (better,) = better_places(files("index.html", "site.css", "new.html"), SKINS, known)

    assert better.place == path("/htdocs")
    assert better.reason.startswith("2 of the 3 names are in /htdocs")
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
    assert better.reason == "harbour holds nothing but the folder harbour: it would lie in harbour/harbour"


@pytest.mark.parametrize(("folders", "said"), [(("a", "b", "c"), True), (("a", "b"), False)])
def test_loose_files_among_packages(folders: tuple[str, ...], said: bool) -> None:
    found = better_places(files("style.css"), SKINS, {SKINS: around(folders=folders)})
    assert bool(found) is said


@pytest.mark.parametrize(
    ("name", "word"),
    [
        ("Index.html", "capitals"),
        ("two words.html", "%20"),
        ("prices&more?.html", "encode"),
        ("dot.", "end"),
        ("cafe\u0301.html", "composed"),
        ("café.html", "encode"),
    ],
)
def test_names_that_hurt(name: str, word: str) -> None:
    (doubt,) = hurting_names([(b"a", name.encode())])
    assert word in doubt.why


@pytest.mark.parametrize("name", ["index.html", "site-2.css", ".htaccess", "a_b~1.js"])
def test_names_that_do_not(name: str) -> None:
    assert hurting_names([(name.encode(),)]) == []


@pytest.mark.parametrize(
    "name",
    [".env", ".git", "id_rsa", "dump.sql.gz", "index.php~", "site.tar.gz", "Thumbs.db", "plate.PSD", ".env.local"],
)
def test_what_nobody_should_publish(name: str) -> None:
    (doubt,) = not_for_public([(b"sub", name.encode()), (b"sub", b"index.html")])
    assert doubt.below == (b"sub", name.encode())


def test_a_private_folder_is_named_once() -> None:
    found = not_for_public([(b".git", b"HEAD"), (b".git", b"objects", b"ab"), (b"index.html",)])
    assert [doubt.below for doubt in found] == [(b".git",)]
    assert doubts_text(found * 5).endswith(" and 2 more")
