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


def test_a_broken_page_leads_to_what_broke_it(files: Files) -> None:
    files.driver.find_element(By.LINK_TEXT, "Checks").click()
    files.see("to-broken").click()
    files.see("broken-address").send_keys("/htdocs/cgi-bin/tide-times.cgi")
    files.see("broken-look").click()
    files.sees_text("as the page was fetched")
    assert "tide-table.sh" in files.see("log").text
    files.see("next").click()
    files.wait(lambda: "/edit?" in files.driver.current_url, "the first step never led to the file")


# Each line says what a script of a page got when it reached out of its frame.
REACHES_OUT = """<!doctype html><title>Curious</title><ul id=told></ul><script>
const told = (what) => { told_.insertAdjacentHTML('beforeend', '<li>' + what + '</li>'); };
const told_ = document.getElementById('told');
try { parent.document.title; told('parent: reached'); } catch { told('parent: shut'); }
try { document.cookie; told('cookies: ' + (document.cookie ? 'reached' : 'none')); } catch { told('cookies: shut'); }
try { localStorage.length; told('storage: reached'); } catch { told('storage: shut'); }
const sent = fetch('NAILER/sites', { credentials: 'include', mode: 'no-cors' });
sent.then(() => told('nailer: reached'), () => told('nailer: shut'));
const picture = new Image(); picture.onload = () => told('picture: reached'); picture.onerror = () => told('picture: shut');
picture.src = 'NAILER/static/x/icon-192.png';
try { new RTCPeerConnection(); told('between browsers: reached'); } catch { told('between browsers: shut'); }
try {
  const own = document.createElement('iframe');
  addEventListener('message', () => told('between browsers: reached'));
  own.setAttribute('src' + 'doc', '<script>new RTCPeerConnection(); parent.postMessage(1, "*")<' + '/script>');
  document.body.append(own);
} catch { told('own frame: shut'); }
try { top.location = 'NAILER/sites'; told('top: tried'); } catch { told('top: shut'); }
</script>"""


def test_both_sides_are_seen_and_no_script_of_theirs_reaches_nailer(files: Files, demo: Demo) -> None:
    page = demo.here / "curious.html"
    page.write_text(REACHES_OUT.replace("NAILER", demo.address.rstrip("/")))
    try:
        files.driver.find_element(By.LINK_TEXT, "Checks").click()
        files.see("to-apart").click()
        files.see("apart-address").send_keys(Keys.CONTROL + "a")
        files.see("apart-address").send_keys("/htdocs/curious.html", Keys.ENTER)
        files.sees_text("It exists here but not there.")
        files.driver.switch_to.frame(files.driver.find_element(By.CSS_SELECTOR, '[data-test="frame-here"]'))
        assert not files.driver.find_elements(By.TAG_NAME, "li"), "no script runs unless somebody wants it to"
        files.driver.switch_to.default_content()
        files.see("apart-scripts").click()
        files.see("apart-address").send_keys(Keys.ENTER)
        files.wait(lambda: "scripts=yes" in files.driver.current_url, "the page was not opened with its scripts")
        files.sees_text("It exists here but not there.")
        files.driver.switch_to.frame(files.driver.find_element(By.CSS_SELECTOR, '[data-test="frame-here"]'))
        files.wait(lambda: len(files.driver.find_elements(By.TAG_NAME, "li")) >= 7, "the script never told")
        told = {one.text for one in files.driver.find_elements(By.TAG_NAME, "li")}
        files.driver.switch_to.default_content()
    finally:
        page.unlink()
    shut = {"parent", "cookies", "storage", "nailer", "picture", "top", "between browsers"}
    assert told == {f"{one}: shut" for one in shut}
    assert "/checks/apart" in files.driver.current_url


def test_both_sides_are_as_wide_as_a_phone(files: Files) -> None:
    files.driver.find_element(By.LINK_TEXT, "Checks").click()
    files.see("to-apart").click()
    files.see("width-phone").click()
    frame = files.driver.find_element(By.CSS_SELECTOR, '[data-test="frame-live"]')
    assert frame.value_of_css_property("width") == "390px"
    assert files.see("width-phone").get_attribute("aria-pressed") == "true"
    assert files.see("width-desk").get_attribute("aria-pressed") == "false"


def test_what_the_server_does_with_scripts_is_tried_with_consent(files: Files, demo: Demo) -> None:
    files.driver.find_element(By.LINK_TEXT, "Checks").click()
    files.see("try-scripts").click()
    assert "harmless two-line script" in files.driver.find_element(By.CSS_SELECTOR, "dialog[open]").text.lower()
    files.see("ask-go").click()
    files.sees_text("sh runs in /htdocs/cgi-bin")
    assert not list(demo.there.rglob("nailer-trial*"))


def test_a_copy_is_fetched_before_anything_goes(files: Files, demo: Demo) -> None:
    files.read_site()
    files.see("room").click()
    saving = files.driver.find_element(By.XPATH, "//fieldset[.//b[text()='Duplicate files']]")
    saving.find_element(By.CSS_SELECTOR, "[data-all]").click()
    files.see("fetch-first").click()
    files.see("plan-savings").click()
    assert "When the download is complete" in files.see("plan").text
    files.carry_out()
    files.wait(lambda: "removed" in files.see("plan").text.lower(), "the plan that removes it never opened")
    fetched = list((demo.here.parent).glob("fetched-*/htdocs/crew/harbour-wide-copy.jpg"))
    assert len(fetched) == 1
    assert (demo.there / "crew" / "harbour-wide-copy.jpg").exists(), "nothing goes before that plan is read"
    fetched[0].unlink()
