"""The demo, started as a person starts it, and a headless Chromium for each story."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

from tests.browser.pages import Files
from tests.test_start import running

_FLAGS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-dev-shm-usage",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--window-size=1280,800",
)


@dataclass
class Demo:
    address: str
    home: Path

    @property
    def here(self) -> Path:
        return self.home / "here" / "skerry" / "htdocs"

    @property
    def there(self) -> Path:
        return self.home / "hosts" / "skerry" / "htdocs"

    @property
    def public(self) -> str:
        ports = json.loads((self.home / "ports.json").read_text())
        return f"http://127.0.0.31:{ports['skerry']['web']}/"


@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Iterator[None]:
    """A story that failed says what its page showed."""
    result = yield
    report = result.get_result()  # type: ignore[attr-defined]
    driver = getattr(item, "funcargs", {}).get("chromium")
    if report.when == "call" and report.failed and driver is not None:
        shown = driver.execute_script(
            "return [location.href, document.activeElement?.outerHTML, document.body.innerText]"
        )
        log = [one["message"] for one in driver.get_log("browser")]
        report.sections.append(("what the page showed", "\n".join([*(str(one)[:3000] for one in shown), *log])))


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    home = tmp_path_factory.mktemp("browser") / "demo"
    with running("demo", "--port", "0", "--home", str(home)) as started:
        yield Demo(started.address, home)


@pytest.fixture(scope="session")
def chromium(tmp_path_factory: pytest.TempPathFactory) -> Iterator[webdriver.Chrome]:
    options = webdriver.ChromeOptions()
    for flag in _FLAGS:
        options.add_argument(flag)
    options.add_argument(f"--user-data-dir={tmp_path_factory.mktemp('profile')}")
    options.binary_location = "/usr/bin/chromium"
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    driver.set_script_timeout(180)  # to measure a page of thousands of elements takes a slow machine its time
    yield driver
    driver.quit()


@pytest.fixture(scope="session")
def cookies() -> list[dict[str, Any]]:
    """What the browser was given when it last signed in: a story need not wait for the password to be hashed anew."""
    return []


@pytest.fixture
def maren(demo: Demo, chromium: webdriver.Chrome, cookies: list[dict[str, Any]]) -> Iterator[Files]:
    """Signed in. A story fails where a script complained."""
    person = Files(chromium, demo.address)
    if not chromium.current_url.startswith(demo.address):
        person.go("/health")
    chromium.delete_all_cookies()
    for cookie in cookies:
        chromium.add_cookie(cookie)
    person.go("/sites")
    if "/sign-in" in chromium.current_url:
        person.sign_in()
        person.sees_text("Skerry Ferries")
        cookies[:] = chromium.get_cookies()
    chromium.get_log("browser")
    yield person
    severe = [one["message"] for one in chromium.get_log("browser") if one["level"] == "SEVERE"]
    # What needs a decision first is answered with 409, what was typed wrongly with 422: the browser notes it, no more.
    assert not [one for one in severe if "409 (Conflict)" not in one and "422 (Unprocessable" not in one], severe


@pytest.fixture
def files(maren: Files) -> Files:
    """In the files view of Skerry Ferries, its server met."""
    maren.open_site("Skerry Ferries")
    maren.wait(
        lambda: maren.driver.find_elements("css selector", '[data-test="ledger"], [data-test="meeting"]'),
        "nothing opened",
    )
    if maren.driver.find_elements("css selector", '[data-test="meeting"]'):
        maren.trust()
    maren.see("ledger")
    return maren
