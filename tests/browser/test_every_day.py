"""A working day in few steps: the tray, take back at hand, keys of one's own, large files that go on after a cut."""

from __future__ import annotations

import os
import re
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser


def test_names_of_two_folders_are_carried_from_the_tray_and_taken_back_from_the_notice(
    files: Files, demo: Demo
) -> None:
    for name in ("tide-a.html", "news/tide-b.html"):
        (demo.here / name).write_text("<p>tide</p>")
    files.go("/sites/1/files?fresh=1")
    files.pick("tide-a.html")
    files.keys("t")
    files.see("tray")
    files.go("/sites/1/files?there=/htdocs/news&fresh=1")
    files.pick("tide-b.html")
    files.keys("t")
    files.wait(lambda: "2 items of 2 folders" in files.see("tray").text)
    files.driver.refresh()

    files.see("tray-upload").click()
    assert files.see("plan-summary").text.startswith("2 new")
    files.carry_out()
    files.wait((demo.there / "tide-a.html").exists)
    files.wait((demo.there / "news" / "tide-b.html").exists)
    files.wait(
        lambda: not files.driver.find_elements(By.CSS_SELECTOR, '[data-test="tray"]'), "the tray was not emptied"
    )

    files.see("notice-back").click()
    files.see("carry-out").click()
    files.wait(lambda: not (demo.there / "tide-a.html").exists(), "the job was not taken back")
    for name in ("tide-a.html", "news/tide-b.html"):
        (demo.here / name).unlink()


def test_a_change_is_taken_back_in_its_row_and_a_new_folder_is_entered_by_enter(files: Files, demo: Demo) -> None:
    files.keys("n")
    files.see("ask-text").send_keys("tides")
    files.see("ask-go").click()
    files.wait(lambda: files.picked() == {"tides"}, "the new folder was not picked")

    files.see("row-back").click()
    files.wait(lambda: not (demo.there / "tides").exists(), "it was not taken back")

    files.go("/sites/1/files?pick=news")
    files.wait(lambda: files.picked() == {"news"})
    files.keys(Keys.ENTER)
    files.wait(lambda: "/htdocs/news" in files.driver.current_url, "Enter never went in")


def test_the_keys_are_ones_own_and_listed(files: Files) -> None:
    files.go("/account/preferences")
    box = files.see("key-new-folder")
    box.send_keys(Keys.BACKSPACE + "b")
    files.see("store-preferences").click()
    files.sees_text("Preferences saved.")
    files.go("/sites/1/files")
    files.see("ledger")

    files.keys("?")
    listed = files.see("keylist").text
    assert re.search(r"b\s+new folder", listed)
    files.keys(Keys.ESCAPE)
    files.keys("b")
    assert "New folder" in files.driver.find_element(By.ID, "sheet").text

    files.go("/account/preferences")
    files.see("key-new-folder").send_keys(Keys.BACKSPACE + "n")
    files.see("store-preferences").click()
    files.sees_text("Preferences saved.")


def test_a_large_file_whose_page_was_closed_goes_on_where_it_was(files: Files, demo: Demo, tmp_path: Path) -> None:
    plate = tmp_path / "plate.bin"
    plate.write_bytes(os.urandom(20_000_000))
    # The third part does not go out: the page is closed before.
    files.driver.execute_script(
        "const sent = window.fetch; let parts = 0;"
        "window.fetch = (url, how) => how?.method === 'PATCH' && (parts += 1) > 2 ? new Promise(() => {}) : sent(url, how)"
    )
    files.choose("choose-files", plate)
    files.see("plan-summary")
    files.carry_out()
    files.wait(lambda: "83%" in files.see("to-nailer").text, "two parts never came")
    assert not (demo.there / "plate.bin").exists()
    files.go("/sites/1/files")

    files.choose("choose-files", plate)
    files.see("plan-summary")
    files.carry_out()

    files.sees_text("continues at 83%")
    files.wait((demo.there / "plate.bin").exists, "it never landed")
    assert (demo.there / "plate.bin").read_bytes() == plate.read_bytes()
    files.go("/jobs")
    files.wait(lambda: files.driver.find_elements(By.CSS_SELECTOR, "[data-alive]"))
    files.wait(
        lambda: not files.driver.find_elements(By.CSS_SELECTOR, '[data-test="pill"]:not([style*="none"])'),
        "the drop whose page was closed is still awaited",
    )
    assert "needs you" not in files.driver.find_element(By.TAG_NAME, "main").text
    (demo.there / "plate.bin").unlink()
