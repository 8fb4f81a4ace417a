"""Packages: what breaks a page is found, set aside, and brought back."""

from __future__ import annotations

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser


def test_what_breaks_a_page_is_found_set_aside_and_brought_back(files: Files, demo: Demo) -> None:
    """Packages, the page, Search, Set aside: four steps from *the page is broken* to a page that is well."""
    addons = demo.there / "add-ons"
    files.driver.find_element(By.LINK_TEXT, "Packages").click()
    files.sees_text("Gull counter")
    files.see("open-search").click()
    files.see("search-address").send_keys(Keys.CONTROL + "a")
    files.see("search-address").send_keys("https://skerryferries.example/cgi-bin/board.cgi")
    files.see("search").click()
    files.sees_text("add-ons/gull-counter: found by")
    assert len(list(addons.iterdir())) == 9
    assert not list(addons.glob(".*"))

    files.see("set-culprit-aside").click()
    files.see("ask-text").send_keys("it ends the notice board")
    files.see("ask-go").click()
    files.see("aside")
    assert not (addons / "gull-counter").exists()
    package(files, "add-ons/gull-counter").click()

    files.see("bring-back").click()
    files.wait((addons / "gull-counter").exists, "it was never brought back")


def offered(files: Files, version: str) -> WebElement:
    rows = files.driver.find_elements(By.CSS_SELECTOR, '[data-test="offered"] li')
    return next(one for one in rows if version in one.text).find_element(By.TAG_NAME, "button")


def package(files: Files, folder: str) -> WebElement:
    return files.driver.find_element(By.CSS_SELECTOR, f'[data-test="package"][data-path="/htdocs/{folder}"]')


def test_a_version_takes_the_place_of_another_and_goes_back(files: Files, demo: Demo) -> None:
    """Packages, Another version, Take this one, Put it in place: four steps to a new version; one more back."""
    skin = demo.there / "skins" / "harbour"
    edited = (skin / "type" / "harbour.css").read_text()
    files.driver.find_element(By.LINK_TEXT, "Packages").click()
    files.sees_text("Harbour")
    package(files, "skins/harbour").click()
    files.see("new-version").click()
    files.sees_text("choose the new version")
    offered(files, "1.5.0").click()
    files.sees_text("What happens")
    assert files.see("group-edits").text.count("edited by hand") == 2
    files.see("differ").click()
    files.sees_text("use the merged version")
    files.see("carry-out-version").click()
    files.see("go-back")
    now = (skin / "type" / "harbour.css").read_text()
    assert "figure { margin: 0; }" in now, "the hand edit"
    assert "72rem" in now, "the new version"
    assert (skin / "media" / "pier-flag.svg").exists(), "carried over"
    assert not (skin / "parts" / "little-71.html").exists()

    files.see("go-back").click()
    files.see("went-back")
    assert (skin / "type" / "harbour.css").read_text() == edited
    assert (skin / "parts" / "little-71.html").exists()
    assert sorted(one.name for one in skin.parent.iterdir()) == ["harbour", "harbour.bak"]


def test_the_way_back_leads_to_a_copy_that_is_compared_and_restored(files: Files, demo: Demo) -> None:
    """The site is broken: the way back, the newest copy, Restore all, Carry out: four steps back."""
    page = demo.there / "contact.html"
    before = page.read_bytes()
    files.driver.find_element(By.LINK_TEXT, "Copies").click()
    files.see("copy-site").click()
    copied = (By.XPATH, "//*[@data-test='copy'][.//b='htdocs'][contains(., 'verified')]")
    files.wait(lambda: files.driver.find_elements(*copied), "it was never copied")
    page.write_text("somebody broke this")
    (demo.there / "freight.html").unlink()
    files.see("to-recovery").click()
    files.sees_text("quickest first")
    files.driver.find_element(By.CSS_SELECTOR, '[data-kind="copy"] a').click()
    files.see("compare").click()
    files.sees_text("1 removed since")
    files.see("restore-all").click()
    files.see("carry-out").click()
    files.wait(lambda: page.read_bytes() == before, "it never came back")
    files.wait((demo.there / "freight.html").exists, "it never came back")
