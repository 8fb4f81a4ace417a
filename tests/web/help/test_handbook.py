"""The handbook is served, found, led to, and says what the program says."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from nailer.web.help.handbook import HelpPage, pages, search
from nailer.web.shell import urls
from tests.web.conftest import Visitor
from tests.wording.names import BANNED
from tests.wording.texts import all_texts

TOP = Path(__file__).parents[3]
# Words that are explained there, and are no text of the program.
_EXPLAINED = {
    "here",
    "there",
    "joint",
    "site",
    "pair",
    "package",
    "broken",
    "restore",
    "is",
    "setup code",
    "newer here",
}


def test_every_page_is_shown_and_leads_only_to_pages(maren: Visitor) -> None:
    contents = maren.get("/help").text
    for one in pages():
        page = maren.get(f"/help/{one.name}")
        assert page.status_code == 200
        assert f">{one.title}<" in contents
        for name in re.findall(r"!\[[^\]]+\]\(\.\./screenshots/([^)]+)\)", one.text):
            assert (TOP / "docs" / "screenshots" / name).is_file(), "a picture of this book is among the kept ones"
            assert maren.client.get(f"/help/pictures/{name}").headers["content-type"] == "image/png"
            assert f"/help/pictures/{name}" in page.text
        for link in re.findall(r"(?<!!)(?:\[[^\]]+\])\(([^)]+)\)", one.text):
            assert link in {other.name for other in pages()}, (one.name, link)
    assert maren.client.get("/help/../secrets").status_code == 404
    assert maren.client.get("/help/nothing").status_code == 404
    assert maren.client.get("/help/pictures/nothing.png").status_code == 404
    assert maren.client.get("/help/pictures/..%2f..%2fREADME.md").status_code == 404


@pytest.mark.parametrize("page", pages(), ids=lambda page: page.name)
def test_what_a_page_names_is_what_the_program_says(page: HelpPage) -> None:
    """A button or a page that is called otherwise by now makes the handbook wrong."""
    said = "\n".join(one.words for one in all_texts()).casefold()
    named = re.findall(r"(?<!\*)\*([^*\n]+(?:\n[^*\n]+)?)\*(?!\*)", page.text)
    lost = [
        one
        for one in (" ".join(words.split()) for words in named)
        if one.casefold() not in _EXPLAINED and one.casefold().removesuffix(" …") not in said
    ]
    assert lost == []
    for file in re.findall(r"`(docs/[\w./-]+)`", page.text):
        assert (TOP / file).exists(), file


@pytest.mark.parametrize("page", pages(), ids=lambda page: page.name)
def test_a_page_uses_one_name_for_one_meaning(page: HelpPage) -> None:
    text = " ".join(page.text.split())
    assert [one.pattern for one in BANNED if re.search(one.pattern, text, re.IGNORECASE)] == []


def test_pages_are_found_by_their_words(maren: Visitor) -> None:
    assert search("backup")
    assert search("capital letters")[0].page.name == "pictures-missing"
    assert "Something is broken" in maren.get("/help?q=broken+page").text
    assert "No page with" in maren.get("/help?q=unicorns").text


def test_each_place_leads_to_its_page(maren: Visitor) -> None:
    site = maren.open_site()
    assert 'href="/help/new-version"' in maren.get(f"{site}/packages").text
    assert urls.help_for(f"{site}/sync") == "/help/in-sync"
    names = {one.name for one in pages()}
    assert {address.removeprefix("/help/") for _, address in urls._HELPED_BY} <= names
