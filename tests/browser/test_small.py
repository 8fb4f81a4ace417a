"""A small screen and a finger: every view fits, what is pressed is large enough, and a day's work can be done."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser

PHONE, TABLET = (390, 844), (768, 1024)
VIEWS = [
    "/sites",
    "/sites/add",
    "/sites/import",
    "/sites/1/files",
    "/sites/1/files?here=/studio/skerry/htdocs&there=/htdocs/news&apart=1",
    "/sites/1/files?missing=/htdcos&side=there",
    "/sites/1/sync",
    "/sites/1/search?side=there",
    "/sites/1/changes",
    "/sites/1/checks",
    "/sites/1/checks/room",
    "/sites/1/checks/pages",
    "/sites/1/checks/pages?path=/htdocs/crew/index.html",
    "/sites/1/checks/alone",
    "/sites/1/connection",
    "/sites/1/packages",
    "/sites/1/copies",
    "/sites/1/recovery",
    "/sites/1/settings",
    "/sites/1/permissions?side=there&path=/htdocs&names=index.html/img",
    "/sites/1/edit?side=there&path=/htdocs/index.html",
    "/jobs",
    "/timers",
    "/sieves",
    "/drafts",
    "/identities",
    "/people",
    "/people/2",
    "/account",
    "/account/tokens",
    "/log",
    "/no-such-page",
]
# What reaches beyond the screen; what is pressed and too low (links within a sentence are as high as it, WCAG 2.2, 2.5.8);
# and what is typed too small. A box of a tick is as large as the label round it.
MEASURED = """
const wide = document.documentElement.clientWidth;
const shown = (one) => {
  const box = one.getBoundingClientRect();
  return box.width > 1 && box.height > 1 && getComputedStyle(one).visibility !== "hidden";
};
const name = (one) => `${one.tagName} ${one.dataset.test || one.name || one.className || one.textContent.trim()}`;
const pressed = [...document.querySelectorAll("button, .btn, summary, select, nav a, .chip:is(a, button), input, textarea")]
  .filter((one) => shown(one) && !one.closest("p, .crumb, .skip, .visually-hidden"));
const low = pressed.filter((one) => {
  const held = one.matches("[type=checkbox], [type=radio]") ? one.closest("label, td, th, fieldset") || one : one;
  return Math.round(held.getBoundingClientRect().height) < 44;
});
const typed = [...document.querySelectorAll("input, textarea")]
  .filter((one) => !["checkbox", "radio", "hidden", "file"].includes(one.type))
  .filter((one) => shown(one) && parseFloat(getComputedStyle(one).fontSize) < 16);
return { over: document.documentElement.scrollWidth - wide, low: low.map(name), small: typed.map(name) };
"""

# The widest head: a job runs.
BUSY = """const pill = document.querySelector("[data-test=pill]");
if (pill) { pill.style.display = ""; pill.removeAttribute("x-cloak");
  const [text, rate] = pill.querySelectorAll("span");
  text.textContent = "12 jobs, 43%"; rate.textContent = "400.2 kB/s"; }"""


@pytest.fixture
def small(maren: Files) -> Iterator[Files]:
    """A phone in Maren's hand, with the ferries' site open."""
    maren.go("/sites/1/files")
    maren.see("ledger")
    _becomes(maren, PHONE)
    yield maren
    maren.driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
    maren.driver.execute_cdp_cmd("Emulation.setTouchEmulationEnabled", {"enabled": False})
    maren.driver.execute_cdp_cmd("Network.emulateNetworkConditions", _line(offline=False))


def _becomes(person: Files, size: tuple[int, int]) -> None:
    width, height = size
    metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": True}
    person.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)
    person.driver.execute_cdp_cmd("Emulation.setTouchEmulationEnabled", {"enabled": True, "maxTouchPoints": 1})


def _line(*, offline: bool) -> dict[str, object]:
    return {"offline": offline, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1}


def _touch(person: Files, element: WebElement, held_s: float = 0) -> None:
    """A finger on the middle of an element, for a while."""
    box = person.driver.execute_script(
        "arguments[0].scrollIntoView({block: 'center'}); const box = arguments[0].getBoundingClientRect();"
        "return [box.x + box.width / 2, box.y + box.height / 2]",
        element,
    )
    point = {"x": box[0], "y": box[1]}
    person.driver.execute_cdp_cmd("Input.dispatchTouchEvent", {"type": "touchStart", "touchPoints": [point]})
    if held_s:
        person.driver.execute_async_script(f"setTimeout(arguments[0], {held_s * 1000})")
    person.driver.execute_cdp_cmd("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})


@pytest.mark.parametrize("size", [PHONE, TABLET], ids=["phone", "tablet"])
def test_no_view_is_wider_than_the_screen_and_all_can_be_pressed(small: Files, size: tuple[int, int]) -> None:
    small.read_site()
    _becomes(small, size)
    found = {}
    for view in VIEWS:
        small.go(view)
        small.wait(lambda: small.driver.find_elements(By.CSS_SELECTOR, "[data-alive] main"))
        small.driver.execute_script(BUSY)
        measured = small.driver.execute_script(MEASURED)
        if measured != {"over": 0, "low": [], "small": []}:
            found[view] = measured

    assert found == {}
    small.driver.get_log("browser")  # one view is meant not to be there


def test_a_page_is_mended_from_a_phone(small: Files, demo: Demo) -> None:
    (demo.here / "tide-table.html").write_text("<p>Tides of the week</p>")
    small.go("/sites/1/files?fresh=1")

    _touch(small, small.row("tide-table.html").find_element(By.CSS_SELECTOR, ".name"), held_s=0.7)
    small.wait(lambda: small.picked() == {"tide-table.html"}, "a long press never picked")
    _touch(small, small.row("robots.txt"))
    small.wait(lambda: small.picked() == {"tide-table.html", "robots.txt"}, "a tap never picked one more")
    _touch(small, small.row("robots.txt"))
    assert "1 selected" in small.see("picked-bar").text

    small.see("bar-more").click()
    small.wait(lambda: "open" in (small.see("inspector").get_attribute("class") or ""), "the sheet never came")
    small.see("upload").click()
    assert "1 new" in small.see("plan-summary").text
    small.carry_out()
    small.becomes("tide-table.html", "same")
    assert (demo.there / "tide-table.html").read_text() == "<p>Tides of the week</p>"


def test_a_tap_opens_a_folder_or_says_what_can_be_done(small: Files) -> None:
    small.go("/sites/1/files")
    _touch(small, small.row("robots.txt"))
    small.wait(lambda: "robots.txt" in small.see("inspector").text, "the sheet never said what was tapped")
    small.go("/sites/1/files")
    _touch(small, small.row("news"))

    small.wait(lambda: "there=/htdocs/news" in small.driver.current_url, "the folder never opened")


def test_places_are_a_bar_below_and_being_offline_is_said(small: Files) -> None:
    small.go("/jobs")
    small.see("rail-more").click()
    small.wait(lambda: small.driver.find_element(By.LINK_TEXT, "Timers").is_displayed())
    manifest = small.driver.execute_async_script(
        "fetch(document.querySelector('link[rel=manifest]').href).then((one) => one.json()).then(arguments[0])"
    )
    assert {icon["sizes"] for icon in manifest["icons"]} == {"192x192", "512x512"}

    small.driver.execute_cdp_cmd("Network.enable", {})
    small.driver.execute_cdp_cmd("Network.emulateNetworkConditions", _line(offline=True))
    assert "offline since" in small.see("offline").text
    small.driver.execute_cdp_cmd("Network.emulateNetworkConditions", _line(offline=False))
    small.wait(lambda: not small.driver.find_element(By.CSS_SELECTOR, "[data-test=offline]").is_displayed())
    small.driver.get_log("browser")


def test_the_go_to_box_opens_on_a_site_s_page_and_is_seen(small: Files) -> None:
    small.see("rail-goto").click()
    box = small.driver.find_element(By.CSS_SELECTOR, ".goto-box input")
    small.wait(box.is_displayed, "the page would wait for a box that nobody sees")
    box.send_keys("backup")
    small.wait(
        lambda: "Verified copies" in small.driver.find_element(By.CSS_SELECTOR, ".goto-box").text, "nothing was found"
    )
