"""Takes the pictures in docs/screenshots from a demo that was just started with --fresh: `screenshots.py ADDRESS`."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

ROOT = Path(__file__).parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "src")]

from tests.browser.pages import Adding, Files  # noqa: E402 - the tests are no installed package

from nailer.standins.demo import content  # noqa: E402

OUT = ROOT / "docs" / "screenshots"


def _adding(driver: webdriver.Chrome, address: str, shot: Callable[[str], None]) -> None:
    """A letter read, and tried."""
    adding = Adding(driver, address)
    letters = content.letters()
    adding.paste(letters["tidepool.txt"].decode())
    adding.attempt()
    adding.see("trial-good")
    shot("add-site")


def _on_a_phone(files: Files, shot: Callable[[str], None]) -> None:
    """The files view with two names picked, and their plan."""
    _size(files.driver, 390, 844, mobile=True)
    files.go("/sites/1/files")
    files.becomes("skins", "newer there")
    for name in ("fares.html", "index.html"):
        files.press(name, ".pick")
    files.see("picked-bar")
    time.sleep(1)
    shot("phone-files")
    files.see("bar-act").click()
    files.see("plan-summary")
    files.see("put-away").click()
    _size(files.driver, 1280, 800)


def _size(driver: webdriver.Chrome, width: int, height: int, *, mobile: bool = False) -> None:
    size = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": mobile}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)


def _transferring(files: Files, shot: Callable[[str], None]) -> None:
    """A job under a limit, and one without room."""
    files.go("/sites/2/files?here=/studio/northlight/plates&there=/public/plates")
    files.pick("plate-1966.tif")
    files.plan("upload")
    files.carry_out()
    files.go("/jobs")
    files.see("limits").find_element(By.NAME, "down").send_keys("400 kB/s")
    files.see("set-limits").click()
    files.sees_text("The speed limits are active")
    files.go("/sites/2/files?here=/studio/northlight/plates&there=/public/plates")
    files.pick("plate-1961.tif", "plate-1962.tif", "plate-1963.tif")
    files.plan("download")
    files.carry_out()
    files.go("/jobs")
    time.sleep(14)
    shot("jobs")
    files.see("limits").find_element(By.NAME, "down").clear()
    files.see("set-limits").click()


def _editing(files: Files, shot: Callable[[str], None]) -> None:
    """A style saved while a cache holds the old one, two changes of one page, permissions of many, and a broken script."""
    htdocs = ROOT / "var" / "demo" / "hosts" / "skerry" / "htdocs"
    fetch = (
        "fetch('/sites/1/live?path=/htdocs/site.css', {method: 'POST', body: '{}', headers: {'X-CSRF': arguments[0]}})"
    )
    files.go("/sites/1/files")
    token = files.driver.find_element(By.CSS_SELECTOR, "meta[name=csrf]").get_attribute("content")
    files.driver.execute_script(fetch, token)
    time.sleep(1)
    files.go("/sites/1/edit?side=there&path=/htdocs/site.css&line=7")
    time.sleep(1.5)
    files.keys(Keys.END, Keys.ENTER, ".sailing .pier { background: url(img/peir.svg) }")
    time.sleep(1.5)
    files.see("save").click()
    files.see("live-verdict")
    time.sleep(1)
    files.keys(Keys.ENTER, "/* later: the winter colours */")
    time.sleep(1.5)
    files.see("differences-toggle").click()
    time.sleep(6)
    shot("editor")
    files.go("/sites/1/edit?side=there&path=/htdocs/fares.html")
    time.sleep(1.5)
    files.keys(Keys.HOME, holding=Keys.CONTROL)
    files.keys("<!-- winter fares -->")
    time.sleep(1)
    page = htdocs / "fares.html"
    page.write_text("<!-- checked by Tam -->" + page.read_text())
    files.see("save").click()
    files.see("merge-sheet")
    script = htdocs / "cgi-bin" / "next-boat.cgi"
    script.write_bytes(script.read_bytes().replace(b"\n", b"\r\n"))
    files.go("/sites/1/checks")
    files.read_site()
    time.sleep(1)
    shot("checks")
    files.see("room").click()
    files.see("savings")
    shot("room")
    files.go("/sites/1/checks/pages?path=/htdocs/crew/index.html")
    files.see("needs")
    files.go("/sites/1/checks/broken?path=/htdocs/cgi-bin/tide-times.cgi")
    files.see("log")
    shot("broken")
    files.go("/sites/1/checks/apart?path=/htdocs/crew/index.html")
    files.sees_text("Capital letters matter")
    time.sleep(1)
    shot("both-sides")
    _packages(files, shot, htdocs)
    for name, mode in (("timetable.html", 0o666), ("contact.html", 0o755), ("data", 0o777)):
        (htdocs / name).chmod(mode)
    files.go("/sites/1/permissions?side=there&path=/htdocs")
    files.see("transitions")
    shot("permissions")


def _packages(files: Files, shot: Callable[[str], None], htdocs: Path) -> None:
    """Verified copies, a version's plan, the packages, and the search under way."""
    files.go("/sites/1/copies")
    files.see("copy-site").click()
    files.see("test-restore").click()
    files.sees_text("restored exactly")
    shot("copies")
    files.go("/sites/1/packages/version?path=/htdocs/skins/harbour")
    rows = files.driver.find_elements(By.CSS_SELECTOR, '[data-test="offered"] li')
    next(one for one in rows if "1.5.0" in one.text).find_element(By.TAG_NAME, "button").click()
    files.sees_text("What happens")
    files.see("differ").click()
    files.sees_text("use the merged version")
    shot("version")
    files.see("give-up-version").click()
    files.go("/sites/1/packages")
    files.see("new-version")
    shot("packages")
    files.see("open-search").click()
    files.see("search-address").send_keys(Keys.CONTROL + "a")
    files.see("search-address").send_keys("https://skerryferries.example/cgi-bin/board.cgi")
    files.see("search").click()
    tests = '[data-test="tests"] li'
    files.wait(lambda: len(files.driver.find_elements(By.CSS_SELECTOR, tests)) > 4, "no test was made")
    shot("search")
    files.sees_text("gull-counter: found by")


def _sieves_and_timers(files: Files, shot: Callable[[str], None]) -> None:
    """A sieve tried on a pair, and a timer with its runs, dark."""
    files.go("/sieves?open=3&pair=1")
    files.see("tried-count")
    shot("sieves")
    files.go("/timers")
    for _ in range(2):
        files.see("run-now").click()
        time.sleep(5)
    files.driver.execute_script("localStorage.setItem('nailer-theme', 'dark')")
    files.driver.refresh()
    time.sleep(1.5)
    shot("timers")


def main(address: str) -> None:
    options = webdriver.ChromeOptions()
    for flag in (
        "--headless=new",
        "--no-sandbox",
        "--disable-gpu",
        "--hide-scrollbars",
        "--disable-background-networking",
    ):
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    _size(driver, 1280, 800)
    files = Files(driver, address)

    def shot(name: str) -> None:
        time.sleep(0.8)
        driver.save_screenshot(str(OUT / f"{name}.png"))

    files.sign_in()
    files.sees_text("Skerry Ferries")
    files.open_site("Skerry Ferries")
    files.see("ledger")
    files.becomes("skins", "newer there")
    files.go("/sites/1/sync")
    files.see("sync-foot")
    shot("sync")
    files.go("/sites/1/files")
    files.becomes("skins", "newer there")
    files.pick("index.html", "winter-sailings.html")
    shot("files")
    _on_a_phone(files, shot)
    files.go("/sites/1/files")
    files.becomes("skins", "newer there")
    files.pick("fares.html", "index.html", "winter-sailings.html")
    files.plan("upload")
    shot("plan")
    files.see("put-away").click()
    files.pick("index.html", "winter-sailings.html")
    files.plan("upload")
    files.carry_out()
    files.becomes("index.html", "same")
    files.pick("skins")
    files.plan("download")
    files.carry_out()
    files.becomes("skins", "same")
    files.pick("old-site.zip", "placeholder.html")
    files.plan("remove-there")
    files.see("typed").send_keys("old-site.zip")
    files.carry_out()
    time.sleep(2)
    files.go("/sites/2/files")
    files.see("ledger")
    _adding(driver, address, shot)
    _transferring(files, shot)
    _editing(files, shot)
    files.go("/sites?order=urgent")
    shot("sites")
    _sieves_and_timers(files, shot)
    driver.quit()


if __name__ == "__main__":
    main(sys.argv[1])
