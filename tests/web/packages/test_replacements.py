"""The pages of a replacement: where a version comes from, the plan with its choices, and who may do what."""

from __future__ import annotations

import time

from tests.builders import write
from tests.services.packages.versions import NEW, OLD, archive
from tests.web.conftest import Visitor


def with_skin(maren: Visitor) -> str:
    site = maren.open_site()
    for name, content in OLD.items():
        write(maren.there, f"skins/harbour/{name}", content)
    return f"{site}/packages"


def state(maren: Visitor, at: str) -> str:
    """What the page shows once nothing is under way."""
    for _ in range(300):
        found: str = maren.get(f"{at}/state").text
        if "data-busy" not in found:
            return found
        time.sleep(0.05)
    raise AssertionError("it never ended")


def dropped(maren: Visitor, packages: str, which: str = "path=/htdocs/skins/harbour", **files: str) -> str:
    """Drop an archive; return the address of its plan."""
    answer = maren.put(f"{packages}/replacements?name=harbour-1.10.zip&{which}", archive(NEW | files))
    assert answer.status_code == 200, answer.text
    return str(answer.json()["address"])


def test_the_page_offers_what_lies_here(maren: Visitor) -> None:
    packages = with_skin(maren)
    (maren.here / "skins").mkdir()
    (maren.here / "skins" / "harbour-1.10.zip").write_bytes(archive())
    page = maren.get(f"{packages}/version?path=/htdocs/skins/harbour").text
    assert "Harbour 1.9: choose the new version" in page
    assert "harbour-1.10.zip" in page
    assert maren.get(f"{packages}/version").status_code == 404
    assert maren.get(f"{packages}/version?path=/htdocs/skins").status_code == 422
    listed = maren.get(f"{packages}/list").text
    assert "zip</span>" in listed
    assert "Replace with 1.10 …" in listed
    wish = {"path": "/htdocs/skins/harbour", "here": "/studio/moss/skins/harbour-1.10.zip"}
    at = maren.post(f"{packages}/replacements/here", wish).json()["address"]
    assert "1.10" in state(maren, at)


def test_a_version_is_dropped_decided_and_put_in_place(maren: Visitor) -> None:
    packages = with_skin(maren)
    at = dropped(maren, packages, **{"a <b>.css": "b { }"})
    assert "Reading" in maren.get(at).text
    plan = state(maren, at)
    assert "a &lt;b&gt;.css" in plan
    assert "First decide what to do with 1 item" in plan
    assert "tell hand edits from original files" in plan
    assert maren.post(f"{at}/carry-out").status_code == 422
    assert maren.post(f"{at}/choose", {"below": "/lib/old.js", "take": "joined"}).status_code == 422
    plan = maren.post(f"{at}/choose", {"fates": ["unsure"], "take": "leave"}).text
    assert "First decide what to do" not in plan
    assert "old()" in maren.get(f"{at}/difference?below=/lib/old.js").text
    assert maren.get(f"{at}/difference?below=/none").status_code == 404
    assert maren.post(f"{at}/carry-out").status_code == 200
    assert "in place" in state(maren, at)
    assert (maren.there / "skins" / "harbour" / "lib" / "new.js").exists()
    assert "undone in one step" in maren.get(f"{packages}/list").text
    assert maren.post(f"{at}/back").status_code == 200
    assert "old version restored" in state(maren, at)
    assert (maren.there / "skins" / "harbour" / "lib" / "old.js").exists()
    assert maren.post(f"{at}/back").status_code == 409


def test_the_old_version_as_it_was_delivered_tells_the_edits(maren: Visitor) -> None:
    packages = with_skin(maren)
    write(maren.there, "skins/harbour/style.css", OLD["style.css"].replace("top: 0", "top: 9px"))
    at = dropped(maren, packages)
    state(maren, at)
    assert maren.put(f"{at}/original?name=harbour-1.10.zip", archive(NEW)).status_code == 422
    assert maren.put(f"{at}/original?name=harbour-1.9.zip", archive(OLD)).status_code == 200
    plan = state(maren, at)
    assert "as it was delivered" in plan
    assert "1 place to decide" in plan
    sheet = maren.get(f"{at}/join?below=/style.css").text
    assert "top: 9px" in sheet
    assert "top: 2px" in sheet
    plan = maren.post(f"{at}/joined", {"below": "/style.css", "text": "mine { }\n"}).text
    assert "First decide what to do" not in plan
    assert "mine { }" in maren.get(f"{at}/difference?below=/style.css").text
    assert maren.post(f"{at}/in-place", {"wanted": True}).status_code == 200
    assert maren.post(f"{at}/carry-out").status_code == 200
    assert "in place" in state(maren, at)
    assert (maren.there / "skins" / "harbour" / "style.css").read_text() == "mine { }\n"


def test_a_package_is_installed_and_one_is_taken_away_by_its_typed_name(maren: Visitor) -> None:
    packages = with_skin(maren)
    tides = archive({"addon.json": '{"name": "Tides", "version": "2.0"}'}, "tides-2.0/")
    page = maren.get(f"{packages}/version?into=/htdocs/skins").text
    assert "A new package" in page
    at = maren.put(f"{packages}/replacements?name=tides-2.0.zip&into=/htdocs/skins", tides).json()["address"]
    assert "new package" in state(maren, at)
    maren.post(f"{at}/carry-out")
    assert "installed" in state(maren, at)
    assert (maren.there / "skins" / "tides" / "addon.json").exists()
    at = maren.post(f"{packages}/replacements/removal", {"path": "/htdocs/skins/tides"}).json()["address"]
    plan = state(maren, at)
    assert "to confirm" in plan
    assert "to decide" not in plan
    assert "1 file, " in plan
    assert maren.post(f"{at}/carry-out", {"typed": "tide"}).status_code == 422
    assert maren.post(f"{at}/carry-out", {"typed": "tides"}).status_code == 200
    assert "removed" in state(maren, at)
    assert not (maren.there / "skins" / "tides").exists()


def test_what_is_no_version_of_it_is_refused_in_words(maren: Visitor) -> None:
    packages = with_skin(maren)
    tides = archive({"addon.json": '{"name": "Tides", "version": "2.0"}'}, "tides-2.0/")
    answer = maren.put(f"{packages}/replacements?name=tides.zip&path=/htdocs/skins/harbour", tides)
    assert answer.status_code == 422
    assert "This is Tides 2.0; what is there is Harbour 1.9" in answer.text
    answer = maren.put(f"{packages}/replacements?name=tides.zip&path=/htdocs/skins/harbour", b"no archive")
    assert answer.status_code == 422
    assert maren.put(f"{packages}/replacements?name=x.zip", tides).status_code == 422
    assert maren.get(f"{packages}/replacements/77").status_code == 404
    assert maren.post(f"{packages}/replacements/77/carry-out").status_code == 404
    wish = {"path": "/htdocs/skins/harbour", "site": 77, "there": "/x"}
    assert maren.post(f"{packages}/replacements/elsewhere", wish).status_code == 404


def test_a_plan_is_given_up(maren: Visitor) -> None:
    packages = with_skin(maren)
    at = dropped(maren, packages)
    state(maren, at)
    assert maren.post(f"{at}/drop").json()["address"] == packages
    assert "discarded" in state(maren, at)
    assert maren.post(f"{at}/drop").status_code == 409
    assert maren.post(f"{at}/choose", {"fates": ["unsure"], "take": "leave"}).status_code == 409
