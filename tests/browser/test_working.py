"""Carrying at length, by hand in a real browser: limits, archives, copies, searching, looking."""

from __future__ import annotations

import zipfile
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser


def test_a_dropped_archive_is_unpacked_into_the_folder_it_lines_up_with(
    files: Files, demo: Demo, tmp_path: Path
) -> None:
    with zipfile.ZipFile(tmp_path / "tide.zip", "w") as archive:
        archive.writestr("tide/skin.css", "tide")
        archive.writestr("tide/.env", "secret")
    files.go("/sites/1/files?here=/studio/skerry/htdocs/skins&there=/htdocs/skins")
    files.see("ledger")

    files.choose("choose-files", tmp_path / "tide.zip")
    assert "2 new" in files.see("plan-summary").text
    assert "tide/" in files.see("readings").text
    files.see("leave-private").click()
    files.wait(lambda: "1 new" in files.see("plan-summary").text)
    files.carry_out()

    files.wait((demo.there / "skins" / "tide" / "skin.css").exists)
    assert not (demo.there / "skins" / "tide" / ".env").exists()
    files.row("tide")


def test_a_wrong_folder_is_noticed_before_anything_moves(files: Files, demo: Demo) -> None:
    files.go("/sites/1/files?here=/studio/skerry/htdocs&there=/htdocs/img")
    files.pick("index.html", "fares.html", "timetable.html")
    files.plan("upload")
    assert "/htdocs/img" in files.see("place-advice").text

    files.see("other-place").click()
    files.wait(lambda: "/htdocs/img" not in files.see("plan").text)
    files.see("put-away").click()

    assert not (demo.there / "img" / "index.html").exists()


def test_names_are_copied_and_moved_on_the_server(files: Files, demo: Demo) -> None:
    (demo.there / "leaflet.txt").write_text("leaflet")
    files.see("refresh").click()
    files.pick("leaflet.txt")
    files.see("copy").click()
    files.see("copy-form")
    files.see("copy-to").send_keys(Keys.END, "/kept-apart")
    files.see("copy-go").click()
    assert "1 new" in files.see("plan-summary").text
    files.carry_out()

    files.wait((demo.there / "kept-apart" / "leaflet.txt").exists)
    assert (demo.there / "leaflet.txt").read_text() == "leaflet"
    files.row("kept-apart")


def test_a_file_is_looked_at_and_put_away(files: Files) -> None:
    files.pick("index.html")
    files.see("ledger").send_keys("v")
    assert "<!doctype html>" in files.see("look").text
    files.keys(Keys.ESCAPE)
    files.wait(lambda: not files.driver.find_elements(By.CSS_SELECTOR, "#sheet[open]"))

    files.go("/sites/1/files?here=/studio/skerry/htdocs/img&there=/htdocs/img")
    picture = next(name for name in files.names() if name.endswith(".png"))
    files.pick(picture)
    files.see("look-at").click()
    files.see("look")
    files.wait(
        lambda: files.driver.execute_script("return document.querySelector('.look-picture img')?.naturalWidth > 0"),
        "the picture never came",
    )


def test_a_search_finds_and_fetches(files: Files, demo: Demo) -> None:
    (demo.there / "news" / "tides.txt").write_text("high water at nine")
    files.go("/sites/1/search?side=there")
    files.see("search-name").send_keys("tides*", Keys.ENTER)
    files.wait(lambda: "finished" in files.see("search-state").text)
    assert "news/tides.txt" in files.see("search-hits").text
    files.see("search-hits").find_element(By.CSS_SELECTOR, "tbody input").click()
    files.see("search-download").click()
    assert "1 new" in files.see("plan-summary").text
    files.carry_out()

    files.wait((demo.here / "news" / "tides.txt").exists)


def test_a_limit_is_set_where_the_jobs_are(files: Files) -> None:
    files.go("/jobs")
    files.see("limits").find_element(By.NAME, "up").send_keys("3 MB/s")
    files.see("set-limits").click()
    files.sees_text("The speed limits are active")
    files.go("/jobs")
    box = files.see("limits").find_element(By.NAME, "up")
    assert box.get_attribute("value") == "3 MB/s"
    box.clear()
    files.see("set-limits").click()
    files.sees_text("There is no speed limit")
