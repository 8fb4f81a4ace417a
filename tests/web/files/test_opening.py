"""Every way into the files view: both sides at places that belong together, and what is not there said as such."""

from __future__ import annotations

import re
from typing import Any

import pytest

from tests.web.conftest import Visitor
from tests.web.files.test_files import write


def _sides(answer: Any) -> tuple[str, str]:
    found = re.search(r'data-here="([^"]*)" data-there="([^"]*)"', answer.text)
    assert found, answer.text
    return found[1], found[2]


@pytest.fixture
def site(maren: Visitor) -> str:
    write(maren.there, "angebote/alt.html")
    write(maren.there, "img/pier.svg")
    write(maren.there, "site.css")
    write(maren.there, "index.html")
    write(maren.here, "alt.html", b"newer and longer")
    return maren.open_site()


@pytest.mark.parametrize(
    ("asked", "here", "there"),
    [
        ("there=/htdocs/img", "/studio/moss/img", "/htdocs/img"),
        ("here=/studio/moss/img&fresh=1", "/studio/moss/img", "/htdocs/img"),
        ("side=there&go=/htdocs/angebote", "/studio/moss/angebote", "/htdocs/angebote"),
        ("side=there&go=%20%22/htdocs/img/%22%20", "/studio/moss/img", "/htdocs/img"),
        ("side=there&go=%5Chtdocs%5Cimg", "/studio/moss/img", "/htdocs/img"),
        (
            "side=there&go=angebote&there_token=/htdocs&here_token=/studio/moss",
            "/studio/moss/angebote",
            "/htdocs/angebote",
        ),
    ],
)
def test_one_side_brings_the_other(maren: Visitor, site: str, asked: str, here: str, there: str) -> None:
    assert _sides(maren.get(f"{site}/files?{asked}")) == (here, there)


def test_sides_that_were_led_apart_compare_nothing_until_it_is_said_that_they_belong(maren: Visitor, site: str) -> None:
    apart = maren.get(f"{site}/files?here=/studio/moss&there=/htdocs/angebote&apart=1")

    assert "are not a pair" in apart.text
    assert 'data-test="broken"' in apart.text
    assert 'data-test="pick-newer"' not in apart.text
    assert 'data-test="chip-newer-here"' not in apart.text
    assert "newer-here" not in re.sub(r"<link[^>]*>", "", apart.text), "no joint is computed"
    picked = maren.get(f"{site}/names?here=/studio/moss&there=/htdocs/angebote&joint=newer-here")
    assert picked.json() == [], "and none can be picked by"

    maren.post_form(f"{site}/belong", here="/studio/moss", there="/htdocs/angebote")

    bound = maren.get(f"{site}/files?here=/studio/moss&there=/htdocs/angebote")
    assert "do not belong together" not in bound.text
    assert 'data-test="pick-newer"' in bound.text
    assert "alt.html" in bound.text
    inside = maren.get(f"{site}/files?there=/htdocs/angebote")
    assert _sides(inside) == ("/studio/moss", "/htdocs/angebote"), "and every way in knows"


def test_a_path_to_a_file_opens_its_folder_and_picks_it(maren: Visitor, site: str) -> None:
    for typed in ("/htdocs/img/pier.svg", "https://mosslane.example/img/pier.svg?v=2#top"):
        opened = maren.get(f"{site}/files", params={"side": "there", "go": typed})
        assert _sides(opened) == ("/studio/moss/img", "/htdocs/img")
        assert 'data-pick="pier.svg" data-pick-at="0"' in opened.text
    first = maren.get(f"{site}/files", params={"side": "here", "go": "https://mosslane.example/"})
    assert 'data-pick="index.html"' in first.text, "the page that answers there"


def test_a_line_of_a_file_opens_the_editor_there(maren: Visitor, site: str) -> None:
    answer = maren.client.get(
        f"{site}/files", params={"side": "there", "go": "/htdocs/site.css:41"}, follow_redirects=False
    )

    assert answer.headers["location"] == f"{site}/edit?side=there&path=/htdocs/site.css&line=41"


@pytest.mark.parametrize(
    "asked", ["side=there&go=/htdocs/imgs", "there=/htdocs/imgs", "here=/studio/moss/imgs&there=/htdocs/imgs"]
)
def test_what_is_not_there_is_said_with_what_is_near_and_made_only_when_asked(
    maren: Visitor, site: str, asked: str
) -> None:
    said = maren.get(f"{site}/files?{asked}")

    assert 'There is no <b class="mono">/htdocs/imgs</b>' in said.text
    assert re.search(r'there=/htdocs/img" data-test="near"', said.text), "the nearest"
    assert "Nailer creates it with the first file" not in said.text
    assert not (maren.there / "imgs").exists()

    made = maren.post_form(f"{site}/folders/path", side="there", path="/htdocs/imgs/2026")

    assert _sides(made) == ("/studio/moss/imgs/2026", "/htdocs/imgs/2026")
    assert (maren.there / "imgs" / "2026").is_dir()


def test_a_search_hit_and_a_job_open_both_sides(maren: Visitor, site: str) -> None:
    hits = maren.get(f"{site}/search/hits?side=there&in_token=/htdocs&name=pier")

    assert f'"folder": "{site}/files?there=/htdocs/img&pick=pier.svg"' in hits.text


def test_what_the_host_owns_is_guarded_at_the_first_opening_and_only_then(maren: Visitor) -> None:
    for name in ("mail", "logs", "notes"):
        (maren.there.parent / name).mkdir()
    site = maren.open_site()

    first, second = maren.get(f"{site}/files"), maren.get(f"{site}/files")

    assert 'data-test="new-guards"' in first.text
    assert re.search(r"/logs</span>, <span[^>]*>/mail</span>", first.text)
    assert 'data-test="new-guards"' not in second.text
    assert "Guarded folder" in maren.get(f"{site}/files?there=/mail").text
    assert "The folder is guarded" not in maren.get(f"{site}/files?there=/notes").text


def test_a_name_is_kept_and_let_go_in_the_inspector(maren: Visitor, site: str) -> None:
    shown = {"here": "/studio/moss", "there": "/htdocs", "names": ["site.css"]}
    assert (
        maren.post(
            f"{site}/keep", {"side": "there", "path": "/htdocs/site.css", "until": "soon", "why": ""}
        ).status_code
        == 422
    )

    maren.post(f"{site}/keep", {"side": "there", "path": "/htdocs/site.css", "until": "", "why": "<b>mine</b>"})

    inspected = maren.post(f"{site}/inspect", shown).text
    assert "kept: &lt;b&gt;mine&lt;/b&gt;" in inspected
    assert 'data-test="let-go"' in inspected
    assert 'data-test="kept"' in maren.get(f"{site}/files").text
    maren.post(f"{site}/let-go", {"side": "there", "path": "/htdocs/site.css"})
    assert 'data-test="kept"' not in maren.get(f"{site}/files").text
