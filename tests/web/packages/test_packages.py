"""The page of packages: the list, what is set aside, the search; and who may do what."""

from __future__ import annotations

import time

from tests.builders import write
from tests.web.conftest import Visitor


def with_packages(maren: Visitor) -> str:
    site = maren.open_site()
    write(maren.there, "add-ons/tides/addon.json", '{"name": "Tides <1>", "version": "1.9"}')
    write(maren.here, "add-ons/tides/addon.json", '{"name": "Tides", "version": "1.10"}')
    return site


def test_the_page_comes_at_once_and_the_list_fills_it(maren: Visitor) -> None:
    site = with_packages(maren)
    assert "Find the broken package" in maren.get(f"{site}/packages").text
    found = maren.get(f"{site}/packages/list").text
    assert "Tides &lt;1&gt;" in found
    assert "1.10</b>" in found
    assert "is unknown until you" in found, "the site was not scanned yet"
    assert "No searches on this site yet" in maren.get(f"{site}/packages/search").text


def test_a_site_without_packages_says_what_one_is(maren: Visitor) -> None:
    site = maren.open_site()
    assert "No packages found" in maren.get(f"{site}/packages/list").text


def test_a_package_is_set_aside_shown_on_every_page_and_brought_back(maren: Visitor) -> None:
    site = with_packages(maren)
    found = maren.post(f"{site}/packages/set-aside", {"path": "/htdocs/add-ons/tides", "why": "flickers"}).text
    assert "Set aside today" in found
    assert "flickers" in found
    assert not (maren.there / "add-ons" / "tides").exists()
    assert 'data-test="asides"' in maren.get(f"{site}/checks").text
    number = found.partition('data-aside="')[2].partition('"')[0]
    found = maren.post(f"{site}/packages/bring-back/{number}").text
    assert "Set aside today" not in found
    assert (maren.there / "add-ons" / "tides" / "addon.json").exists()
    assert 'data-test="asides"' not in maren.get(f"{site}/checks").text
    assert maren.post(f"{site}/packages/bring-back/{number}").status_code == 404
    assert "renamed" in maren.get(f"{site}/changes").text


def test_a_search_tells_each_test_and_how_it_ended(maren: Visitor) -> None:
    site = with_packages(maren)
    wish = {"address": "https://mosslane.example/", "paths": ["/htdocs/add-ons/tides"]}
    maren.nailer.settings.routes["mosslane.example:443"] = "127.0.0.1:9"
    assert maren.post(f"{site}/packages/search", wish).status_code == 200
    for _ in range(200):
        found = maren.get(f"{site}/packages/search").text
        if "data-busy" not in found:
            break
        time.sleep(0.05)
    assert "does not answer" in found
    assert "none of them is the cause" in found
    assert (maren.there / "add-ons" / "tides").exists()


def test_a_search_without_a_page_or_a_package_is_refused(maren: Visitor) -> None:
    site = with_packages(maren)
    assert maren.post(f"{site}/packages/search", {"address": "https://a.example/", "paths": []}).status_code == 422
    wish = {"address": "mosslane", "paths": ["/htdocs/add-ons/tides"]}
    assert maren.post(f"{site}/packages/search", wish).status_code == 422
    assert maren.post(f"{site}/packages/go-on").status_code == 404


def copied(maren: Visitor, site: str) -> str:
    """Take a copy of the site; return the list of copies then."""
    assert maren.post(f"{site}/copies", {"path": "/htdocs"}).status_code == 200
    for _ in range(200):
        found: str = maren.get(f"{site}/copies/list").text
        if "data-busy" not in found:
            return found
        time.sleep(0.05)
    raise AssertionError("the copy never ended")


def test_a_copy_is_taken_looked_into_test_restored_restored_and_forgotten(maren: Visitor) -> None:
    site = with_packages(maren)
    write(maren.there, "a b<c>.html", "then")
    found = copied(maren, site)
    assert "2 files" in found
    number = found.partition('data-copy="')[2].partition('"')[0]
    inside = maren.get(f"{site}/copies/{number}").text
    assert "a b&lt;c&gt;.html" in inside
    below = inside.rpartition('data-below="')[0]
    assert below
    write(maren.there, "a b<c>.html", "changed since")
    plan = maren.post(f"{site}/copies/{number}/restore", {"below": "/a%20b%3Cc%3E.html"}).text
    assert "Restore of htdocs as of" in plan
    assert "a b&lt;c&gt;.html" in plan
    assert "2 files restored exactly" in maren.post(f"{site}/copies/{number}/test-restore").text
    assert "No copies yet" in maren.post(f"{site}/copies/{number}/drop").text
    assert maren.get(f"{site}/copies/{number}").status_code == 404
    assert maren.post(f"{site}/copies/{number}/restore").status_code == 404
