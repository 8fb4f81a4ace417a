"""What is known of a site: found, understood and mended in few steps."""

from __future__ import annotations

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser


def test_pictures_that_are_missing_are_mended_in_four_steps(files: Files, demo: Demo) -> None:
    """Checks, Read the site, Send, Upload. The page looks again by itself once the job is done."""
    missing = demo.there / "crew" / "deck.png"
    assert not missing.exists()
    files.driver.find_element(By.LINK_TEXT, "Checks").click()
    files.see("overview")
    first = files.driver.find_elements(By.CSS_SELECTOR, '[data-test="read"], [data-test="read-again"]')
    first[0].click()
    files.see("mend-send").click()
    assert "deck.png" in files.see("plan").text
    files.carry_out()

    files.wait(missing.exists)
    files.wait(
        lambda: "2 pictures are missing" in files.driver.find_element(By.CSS_SELECTOR, '[data-test="overview"]').text,
        "the site was not read again",
    )
    missing.unlink()


def test_a_finding_is_ignored_with_a_reason_and_counted_again(files: Files) -> None:
    files.read_site()
    card = files.driver.find_element(By.CSS_SELECTOR, '[data-sort="exposed-archive"]')
    card.find_element(By.CSS_SELECTOR, "summary").click()
    card.find_element(By.CSS_SELECTOR, '[data-do="ignore"]').click()
    files.see("ask-text").send_keys("kept for the archive of the island")
    files.see("ask-go").click()
    files.wait(lambda: not files.driver.find_elements(By.CSS_SELECTOR, '[data-sort="exposed-archive"]'))

    ignored = files.driver.find_element(By.CSS_SELECTOR, ".known-ignored")
    ignored.find_element(By.CSS_SELECTOR, "summary").click()
    assert "kept for the archive of the island" in ignored.text
    ignored.find_element(By.CSS_SELECTOR, '[data-do="heed"]').click()
    files.wait(lambda: files.driver.find_elements(By.CSS_SELECTOR, '[data-sort="exposed-archive"]'))


def test_the_map_is_walked_into_by_keyboard_and_savings_add_up(files: Files) -> None:
    files.read_site()
    files.see("room").click()
    folder = files.driver.find_element(By.CSS_SELECTOR, 'svg.room-map a[href*="crew"]')
    files.driver.execute_script("arguments[0].focus()", folder)
    files.keys(Keys.ENTER)
    files.wait(lambda: "folder=/htdocs/crew" in files.driver.current_url, "Enter never walked in")

    saving = files.driver.find_element(By.XPATH, "//fieldset[.//b[text()='Archives']]")
    saving.find_element(By.CSS_SELECTOR, "[data-all]").click()
    assert "2.1 MB would be free" in files.see("savings").text
    files.see("plan-savings").click()
    assert "Remove 1 file" in files.see("plan").text
    files.see("put-away").click()
