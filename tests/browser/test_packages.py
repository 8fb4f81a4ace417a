"""Packages: what breaks a page is found, set aside, and brought back."""

from __future__ import annotations

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser


def test_what_breaks_a_page_is_found_set_aside_and_brought_back(files: Files, demo: Demo) -> None:
    """Packages, the page, Search, Set aside: four steps from *the page is broken* to a page that is well."""
    addons = demo.there / "add-ons"
    files.driver.find_element(By.LINK_TEXT, "Packages").click()
    files.sees_text("Gull counter")
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
    assert files.driver.find_element(By.CSS_SELECTOR, '[data-test="package"] [data-test="bring-back"]')

    files.see("bring-back").click()
    files.wait((addons / "gull-counter").exists, "it was never brought back")
