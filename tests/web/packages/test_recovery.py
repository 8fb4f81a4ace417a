"""The way back, scratch areas, copies elsewhere, and what other pages say of packages."""

from __future__ import annotations

import io
import zipfile

from tests.builders import write
from tests.services.packages.versions import OLD, archive
from tests.web.conftest import Visitor
from tests.web.packages.test_packages import copied
from tests.web.packages.test_replacements import dropped, state, with_skin


def test_the_ways_back_are_listed_with_what_they_cost(maren: Visitor) -> None:
    packages = with_skin(maren)
    site = packages.removesuffix("/packages")
    page = maren.get(f"{site}/recovery").text
    assert "First find the cause" in page
    assert "Search for the package that breaks it" in maren.get(f"{site}/recovery/ways").text
    copied(maren, site)
    at = dropped(maren, packages)
    state(maren, at)
    maren.post(f"{at}/choose", {"fates": ["unsure"], "take": "leave"})
    maren.post(f"{at}/carry-out")
    state(maren, at)
    ways = maren.get(f"{site}/recovery/ways").text
    assert ways.index("Harbour: 1.9 to 1.10") < ways.index("/htdocs as copied") < ways.index("Search for")
    assert "Two renames" in ways


def test_a_scratch_area_is_made_kept_longer_and_ended(maren: Visitor) -> None:
    site = maren.open_site()
    assert "No " in maren.get(f"{site}/packages/scratch").text
    found = maren.post(f"{site}/packages/scratch", {"hours": 2, "why": "a <form>"}).text
    assert "a &lt;form&gt;" in found
    (area,) = maren.there.glob("scratch-*")
    number = found.partition('data-area="')[2].partition('"')[0]
    assert maren.post(f"{site}/packages/scratch/{number}/longer", {"hours": 24}).status_code == 200
    assert maren.post(f"{site}/packages/scratch/{number}/longer", {"hours": 9000}).status_code == 422
    assert "No " in maren.post(f"{site}/packages/scratch/{number}/end").text
    assert not area.exists()
    assert maren.post(f"{site}/packages/scratch/{number}/end").status_code == 404


def test_a_copy_is_looked_into_folder_by_folder_compared_packed_and_laid_down(maren: Visitor) -> None:
    packages = with_skin(maren)
    site = packages.removesuffix("/packages")
    found = copied(maren, site)
    number = found.partition('data-copy="')[2].partition('"')[0]
    at = f"{site}/copies/{number}"
    assert "skins/" in maren.get(at).text
    earlier = maren.get(f"{packages}/copies/{number}?below=/skins")
    assert (earlier.url.path, earlier.url.query) == (at, b"below=/skins"), "an address of before leads on"
    assert maren.get(f"{packages}/copies").url.path == f"{site}/copies"
    write(maren.there, "skins/harbour/lib/came.js", "1")
    inside = maren.get(f"{at}?below=/skins/harbour/lib").text
    assert "added since" in inside
    assert "as it was" in inside
    assert maren.get(f"{at}?below=/none").status_code == 404
    assert "1 added since" in maren.get(f"{at}/compared").text
    answer = maren.get(f"{at}/zip")
    assert "attachment" in answer.headers["content-disposition"]
    with zipfile.ZipFile(io.BytesIO(answer.content)) as packed:
        assert packed.read("skins/harbour/lib/old.js") == OLD["lib/old.js"].encode()
    assert maren.get(f"{at}/rar").status_code == 404
    plan = maren.post(f"{at}/restore-to", {"folder": "/studio/copies/moss"}).text
    assert "Restore of htdocs" in plan
    assert maren.post(f"{at}/restore-to", {"folder": "/studio/moss/x"}).status_code == 422
    assert maren.post(f"{at}/restore-to", {"folder": "/x", "site": 77}).status_code == 404


def test_a_folder_is_copied_each_day_by_wish(maren: Visitor) -> None:
    site = maren.open_site()
    wish = {"path": "/htdocs", "at": "03:15", "daily": 3, "weekly": 0, "monthly": 0}
    found = maren.post(f"{site}/copies/times", wish).text
    assert "daily\n    at 03:15" in found or "at 03:15" in found
    assert "keeps 3 daily" in found
    number = found.partition('data-time="')[2].partition('"')[0]
    assert "Stay: 3 daily" not in maren.post(f"{site}/copies/times/{number}/drop").text
    assert maren.post(f"{site}/copies/times", wish | {"at": "31:15"}).status_code == 422


def test_the_ledger_and_the_editor_say_what_lies_in_a_package(maren: Visitor) -> None:
    packages = with_skin(maren)
    site = packages.removesuffix("/packages")
    maren.get(f"{packages}/list")
    rows = maren.get(f"{site}/ledger?here=/studio/moss/skins&there=/htdocs/skins").text
    assert 'data-test="package-mark">1.9<' in rows
    edit = f"{site}/edit?side=there&path=/htdocs/skins/harbour/style.css"
    assert "its next version may replace it" in maren.get(edit).text
    at = dropped(maren, packages)
    state(maren, at)
    assert maren.put(f"{at}/original?name=harbour-1.9.zip", archive(OLD)).status_code == 200
    page = maren.get(edit).text
    assert "its next version replaces it" in page
    assert "separate style sheet" in page
    write(maren.there, "skins/harbour/mine.css", "mine { }")
    assert "in-package" not in maren.get(f"{site}/edit?side=there&path=/htdocs/skins/harbour/mine.css").text
    assert "As delivered" in maren.get(f"{packages}/list").text
