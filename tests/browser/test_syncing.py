"""Keeping a pair in sync, building a sieve and making a timer, by hand in a real browser."""

from __future__ import annotations

import os

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser


class Syncing(Files):
    """Somebody in the sync view."""

    def open_sync(self, site: int = 1) -> None:
        self.go(f"/sites/{site}/sync")
        self.see("sync-foot")
        before = self._token()
        self.see("read-again").click()
        self.wait(lambda: self._token() != before and self.visible("sync-foot"), "it was not read again")

    def _token(self) -> str:
        return self.driver.find_element(By.CSS_SELECTOR, ".sync").get_attribute("data-token") or ""

    def rows(self) -> dict[str, str]:
        """What will be done, by path."""
        script = """
            const word = (row) => (row.querySelector("option:checked") || row.querySelector(".chip")).textContent;
            const rows = [...document.querySelectorAll('[data-test="sync-row"]')];
            return rows.map((row) => [row.querySelector(".path .ellipsis").title, word(row)]);
        """
        return {path: word.strip() for path, word in self.driver.execute_script(script)}

    def decide(self, path: str, word: str) -> None:
        """Choose what will be done with a name."""
        self.filter(path)

        def chosen() -> bool:
            box = self.driver.find_element(By.CSS_SELECTOR, f'select[aria-label="{path} will"]')
            if box.find_element(By.CSS_SELECTOR, "option:checked").text != word:
                Select(box).select_by_visible_text(word)
                return False
            return True

        self.wait(chosen, f"never could decide {path}")

    def filter(self, text: str) -> None:
        box = self.see("sync-filter")
        box.send_keys(Keys.CONTROL + "a")
        box.send_keys(text or Keys.DELETE)


@pytest.fixture
def syncing(files: Files) -> Syncing:
    return Syncing(files.driver, files.address)


def test_a_plan_is_read_decided_carried_out_and_taken_back(syncing: Syncing, demo: Demo) -> None:
    for side, words in ((demo.here, "mine"), (demo.there, "theirs")):
        (side / "pier.txt").write_text(f"{words}\n")
    (demo.here / "sync-up.txt").write_text("up")
    (demo.there / "sync-down.txt").write_text("down")
    os.utime(demo.there / "pier.txt", (1_700_000_000, 1_700_000_000))
    syncing.open_sync()
    assert "your decision" in syncing.see("sync-foot").text
    syncing.filter("sync-")
    syncing.wait(lambda: syncing.rows() == {"sync-up.txt": "Upload", "sync-down.txt": "Download"})
    syncing.filter("")
    syncing.wait(lambda: len(syncing.rows()) > 2)

    # Only these files are carried: the other stories need the rest as it is.
    Select(syncing.see("bulk").element).select_by_visible_text("Skip")
    syncing.wait(lambda: "nothing to transfer" in syncing.see("sync-foot").text)
    syncing.decide("sync-up.txt", "Upload")
    syncing.decide("sync-down.txt", "Download")
    syncing.decide("pier.txt", "Keep both")
    syncing.wait(lambda: "steps" in syncing.see("carry-out").text)
    syncing.see("carry-out").click()
    syncing.wait(lambda: "done" in syncing.see("run-state").text, "the run never ended")

    assert (demo.there / "sync-up.txt").read_text() == "up"
    assert (demo.here / "sync-down.txt").read_text() == "down"
    for side in (demo.here, demo.there):
        assert {(side / "pier.txt").read_text(), (side / "pier-2.txt").read_text()} == {"mine\n", "theirs\n"}
    syncing.see("take-run-back").click()
    syncing.see("run-back")
    syncing.see("carry-out").click()
    syncing.wait(lambda: not (demo.there / "sync-up.txt").exists() and not (demo.here / "sync-down.txt").exists())
    syncing.wait(lambda: not (demo.here / "pier-2.txt").exists())
    for side in (demo.here, demo.there):
        (side / "pier.txt").unlink()
    (demo.here / "sync-up.txt").unlink()
    (demo.there / "sync-down.txt").unlink()


def test_choices_hold_when_both_sides_are_read_again(syncing: Syncing, demo: Demo) -> None:
    (demo.here / "ferry.txt").write_text("mine\n")
    (demo.there / "ferry.txt").write_text("theirs\n")
    syncing.open_sync()
    syncing.filter("ferry")
    syncing.wait(lambda: list(syncing.rows()) == ["ferry.txt"])
    proposed, waiting = syncing.rows(), syncing.see("sync-foot").text
    syncing.decide("ferry.txt", "Skip")
    syncing.wait(lambda: syncing.see("sync-foot").text != waiting, "the choice was not heard")

    syncing.open_sync()
    assert "1 earlier choice is used again" in syncing.see("sync-recalled").text
    syncing.filter("ferry")
    syncing.wait(lambda: syncing.rows() == {"ferry.txt": "Skip"})
    syncing.see("begin-anew").click()

    syncing.wait(lambda: syncing.rows() == proposed, "the choice was not forgotten")
    assert not syncing.driver.find_elements(By.CSS_SELECTOR, '[data-test="sync-recalled"]')
    for side in (demo.here, demo.there):
        (side / "ferry.txt").unlink()


def test_a_row_shows_its_difference_and_two_texts_are_merged(syncing: Syncing, demo: Demo) -> None:
    (demo.here / "slack-water.txt").write_text("high\nmine\nlow\n")
    (demo.there / "slack-water.txt").write_text("high\ntheirs\nlow\n")
    syncing.open_sync()
    syncing.filter("slack-water")
    syncing.wait(lambda: list(syncing.rows()) == ["slack-water.txt"])

    syncing.see("differ").click()
    assert "theirs" in syncing.see("differences").text
    syncing.see("merge-row").click()
    syncing.wait(lambda: syncing.driver.find_elements(By.CSS_SELECTOR, '[data-test="conflict"]'))
    syncing.driver.find_element(By.CSS_SELECTOR, '[data-choice="both"]').click()
    syncing.see("settle").click()
    syncing.wait(lambda: syncing.rows().get("slack-water.txt") == "Upload")

    assert "merged" in syncing.driver.find_element(By.CSS_SELECTOR, '[data-test="sync-row"] .note').text
    assert (demo.here / "slack-water.txt").read_text() == "high\nmine\nlow\n"
    for side in (demo.here, demo.there):
        (side / "slack-water.txt").unlink()


def test_another_direction_and_comparison_are_tried_by_keyboard(syncing: Syncing) -> None:
    syncing.open_sync()
    syncing.driver.find_element(By.CSS_SELECTOR, '[data-test="direction-level"]').send_keys(Keys.ARROW_LEFT)
    syncing.wait(lambda: "Upload" not in syncing.rows().values(), "fetching still uploads")

    Select(syncing.see("compare").element).select_by_visible_text("Compare by content")
    syncing.wait(lambda: syncing.visible("sync-foot"))
    syncing.see("by-folder").click()
    syncing.wait(lambda: syncing.driver.find_elements(By.CSS_SELECTOR, "tr.of-folder"))
    folders = [one.text for one in syncing.driver.find_elements(By.CSS_SELECTOR, "tr.of-folder")]
    assert len(folders) == len(set(folders)), "each folder is named once"


def test_a_filter_typed_anew_while_an_answer_is_on_its_way_stays(syncing: Syncing) -> None:
    syncing.open_sync()
    slow = (
        "const ask = window.fetch; window.answers = 0;"
        "window.fetch = async (...all) => { const got = await ask(...all);"
        " await new Promise((go) => setTimeout(go, 800)); window.answers += 1; return got; };"
    )
    syncing.driver.execute_script(slow)

    def answered(text: str) -> bool:
        """True once the plan with this filter has come, if not yet to the page."""
        script = "return performance.getEntriesByType('resource').some((one) => one.name.includes(arguments[0]))"
        return bool(syncing.driver.execute_script(script, f"text={text}&"))

    syncing.filter("pier")
    syncing.wait(lambda: answered("pier"))
    drawn = syncing.driver.execute_script("return window.answers")
    syncing.see("sync-filter").send_keys(Keys.CONTROL + "a")
    syncing.wait(lambda: syncing.driver.execute_script("return window.answers") > drawn)
    syncing.driver.switch_to.active_element.send_keys("quay")

    syncing.wait(lambda: answered("quay"))
    drawn = syncing.driver.execute_script("return window.answers")
    syncing.wait(lambda: syncing.driver.execute_script("return window.answers") > drawn)
    assert syncing.see("sync-filter").get_attribute("value") == "quay"


def test_thousands_of_rows_scroll(syncing: Syncing, demo: Demo) -> None:
    many = demo.here / "many"
    many.mkdir()
    for number in range(1200):
        (many / f"{number}.txt").write_text("x")
    try:
        syncing.open_sync()
        syncing.filter("many/")
        syncing.wait(lambda: 150 < len(syncing.rows()) < 600)
        script = """
            const one = document.querySelector('[data-part=scroll]');
            one.scrollTop = one.scrollHeight;
            return document.querySelectorAll('[data-row]').length;
        """
        syncing.wait(lambda: syncing.driver.execute_script(script) >= 1200, "not all rows came")
    finally:
        for one in many.iterdir():
            one.unlink()
        many.rmdir()


def test_a_sieve_is_built_by_picking_and_typing(maren: Files) -> None:
    maren.go("/sieves?new=1")
    maren.see("sieve-name").send_keys("Leaflets")
    maren.driver.find_element(By.CSS_SELECTOR, '[aria-label="Another condition"]').click()
    maren.see("part-value").send_keys("skins/")
    maren.wait(lambda: "is under skins/" in maren.see("sieve-words").text)
    maren.wait(lambda: int(maren.see("tried-count").text) > 100, "nothing was caught")
    assert "Leave behind" in maren.see("sieve-words").text

    maren.see("paste-ignore").click()
    maren.see("pasted").send_keys("*.leaflet\n!keep.leaflet")
    maren.see("take-ignore").click()
    maren.wait(lambda: "keep.leaflet" in maren.see("sieve-words").text)
    maren.see("store-sieve").click()
    maren.see("remove-sieve")
    assert maren.see("sieve-name").get_attribute("value") == "Leaflets"
    maren.see("remove-sieve").click()
    maren.driver.switch_to.alert.accept()
    maren.wait(lambda: "Leaflets" not in maren.driver.page_source)


def test_a_timer_is_made_and_run(files: Files) -> None:
    files.go("/timers?pair=1")
    files.see("store-timer").reach()
    files.sees_text("Give the timer a name.")
    files.see("timer-name").send_keys("Evening look")
    files.wait(lambda: "26" in files.see("next-runs").text or ":" in files.see("next-runs").text)
    files.see("store-timer").reach()
    files.sees_text("Evening look")
    card = '//article[.//h3[text()="Evening look"]]'
    files.driver.find_element(By.XPATH, f'{card}//*[@data-test="run-now"]').click()

    # Something there was changed by both: it touches nothing and says so.
    files.wait(lambda: files.driver.find_elements(By.XPATH, f'{card}//*[@data-test="timer-run"]'), "it never ran")
    assert "needs your decision" in files.driver.find_element(By.XPATH, f'{card}//*[@data-test="timer-run"]').text
    files.driver.find_element(By.XPATH, f'{card}//*[@data-do="remove"]').click()
    files.driver.switch_to.alert.accept()
    files.wait(lambda: "Evening look" not in files.driver.page_source)
