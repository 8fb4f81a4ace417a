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
from selenium.webdriver.support.ui import Select

ROOT = Path(__file__).parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "src")]

from tests.browser.pages import Adding, Files  # noqa: E402 - the tests are no installed package

from nailer.standins.demo import content  # noqa: E402
from nailer.standins.demo.scenario import CLERK, CLERKS_PASSWORD  # noqa: E402

OUT = ROOT / "docs" / "screenshots"


def _adding(driver: webdriver.Chrome, address: str, shot: Callable[[str], None]) -> None:
    """A letter read, and tried."""
    adding = Adding(driver, address)
    letters = content.letters()
    adding.paste(letters["tidepool.txt"].decode())
    adding.attempt()
    adding.see("trial-good")
    shot("add-site")


def _people(files: Files, shot: Callable[[str], None]) -> None:
    """Everybody, one person's rights, the clerk's first page, and one's own account."""
    files.go("/people")
    shot("people")
    files.driver.find_element(By.LINK_TEXT, CLERK).click()
    shot("person")
    files.go("/account")
    shot("account")
    files.driver.delete_all_cookies()
    files.sign_in(CLERK, CLERKS_PASSWORD)
    files.see("ledger")
    shot("clerk")
    files.driver.delete_all_cookies()
    files.sign_in()
    files.sees_text("Skerry Ferries")


def _carrying(files: Files, shot: Callable[[str], None]) -> None:
    """A job under a limit, and one without room."""
    files.go("/sites/2/files?here=/studio/northlight/plates&there=/public/plates")
    files.pick("plate-1966.tif")
    files.plan("upload")
    files.carry_out()
    files.go("/jobs")
    files.see("limits").find_element(By.NAME, "down").send_keys("400 kB/s")
    files.see("set-limits").click()
    files.sees_text("Held from now on")
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
    """A style saved while a cache holds the old one, two changes of one page, access of many, and a broken script."""
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
    shot("merge")
    script = htdocs / "cgi-bin" / "next-boat.cgi"
    script.write_bytes(script.read_bytes().replace(b"\n", b"\r\n"))
    files.go("/sites/1/checks")
    files.see("repair-first-line")
    shot("checks")
    for name, mode in (("timetable.html", 0o666), ("contact.html", 0o755), ("data", 0o777)):
        (htdocs / name).chmod(mode)
    files.go("/sites/1/access?side=there&path=/htdocs")
    files.see("transitions")
    shot("access")


def _sieves_and_timers(files: Files, shot: Callable[[str], None]) -> None:
    """A sieve tried on a pair, a timer with its runs, and a run of the staging site's files."""
    files.go("/sieves?open=3&pair=1")
    files.see("tried-count")
    shot("sieves")
    files.go("/timers")
    for _ in range(2):
        files.see("run-now").click()
        time.sleep(5)
    shot("timers")
    here = ROOT / "var" / "demo" / "here" / "skerry" / "htdocs"
    (here / "notices").mkdir(exist_ok=True)
    for number in range(14):
        (here / "notices" / f"notice-{number}.html").write_text(
            f"<p>Notice {number}, of the harbour office.</p>" * number
        )
    files.go("/sites/1/sync")
    files.see("sync-foot")
    while files.driver.find_elements(By.CSS_SELECTOR, "tr.d-decide select"):
        Select(files.driver.find_element(By.CSS_SELECTOR, "tr.d-decide select")).select_by_visible_text("Leave alone")
        time.sleep(1.5)
    files.see("carry-out").click()
    files.wait(lambda: "running" not in files.see("run-state").text)


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
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    files = Files(driver, address)

    def shot(name: str) -> None:
        time.sleep(0.8)
        driver.save_screenshot(str(OUT / f"{name}.png"))

    files.sign_in()
    files.sees_text("Skerry Ferries")
    files.open_site("Gorse & Gannet")
    files.see("meeting")
    files.open_site("Skerry Ferries")
    files.see("meeting")
    files.trust()
    files.see("ledger")
    files.becomes("skins", "newer there")
    files.go("/sites/1/sync")
    files.see("sync-foot")
    shot("sync")
    files.go("/sites/1/files")
    files.becomes("skins", "newer there")
    files.pick("index.html", "winter-sailings.html")
    shot("files")
    files.plan("upload")
    shot("plan")
    files.carry_out()
    files.becomes("index.html", "same")
    files.pick("skins")
    files.plan("download")
    files.carry_out()
    files.becomes("skins", "same")
    files.pick("old-site.zip", "placeholder.html")
    files.plan("remove-there")
    files.carry_out()
    time.sleep(2)
    files.go("/sites/2/files")
    files.see("ledger")
    _adding(driver, address, shot)
    files.go("/identities")
    shot("identities")
    files.go("/sites")
    shot("sites")
    _people(files, shot)
    _carrying(files, shot)
    _editing(files, shot)
    files.go("/sites/1/changes")
    files.see("difference").click()
    shot("changes")
    _sieves_and_timers(files, shot)
    driver.execute_script("localStorage.setItem('nailer-theme', 'dark')")
    files.driver.refresh()
    time.sleep(1.5)
    shot("run")
    driver.quit()


if __name__ == "__main__":
    main(sys.argv[1])
