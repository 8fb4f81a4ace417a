"""Names that hurt, and files that nobody should publish."""

from __future__ import annotations

import pytest

from nailer.core.plans.advice import doubts_text, hurting_names, not_for_public


@pytest.mark.parametrize(
    ("name", "word"),
    [
        ("Index.html", "capital letters"),
        ("two words.html", "%20"),
        ("prices&more?.html", "special characters"),
        ("dot.", "end"),
        ("cafe\u0301.html", "unusually encoded"),
        ("café.html", "special characters"),
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
