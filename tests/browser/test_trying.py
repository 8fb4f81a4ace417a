"""Getting connected, by hand in a real browser: letters, trials, questions, groups, guards."""

from __future__ import annotations

import json

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from nailer.standins.demo import content, scenario
from tests.browser.conftest import Demo
from tests.browser.pages import Adding, Files

pytestmark = pytest.mark.browser


@pytest.fixture
def adding(maren: Files) -> Adding:
    return Adding(maren.driver, maren.address)


def letter(name: str) -> str:
    return content.letters()[f"{name}.txt"].decode()


def test_a_letter_becomes_a_site_that_opens(adding: Adding, demo: Demo) -> None:
    adding.paste(letter("northlight"))
    marked = adding.see("marked").text
    assert "plate-scan-88" not in marked
    assert "not-this-one" not in marked, "other passwords of the letter are masked, too"
    assert (adding.field("host"), adding.field("protocol")) == ("hosting.northlight.example", "ftps")

    adding.attempt()
    adding.see("trial-good")
    assert adding.step("identity") == adding.step("listing") == "good"
    adding.fill("name", "Plates")
    adding.see("add-site").reach()

    files = Files(adding.driver, adding.address)
    assert files.joint("plates") in ("only there", "not read", "both changed")
    files.go("/sites")
    assert "Plates" in files.driver.find_element(By.TAG_NAME, "main").text


def test_a_trial_leads_from_one_slip_to_the_next(adding: Adding) -> None:
    """The wrong port, a blank behind the password, a start folder that is not there: each one button."""
    adding.paste(letter("tidepool"))
    adding.fill("port", "21")
    adding.fill("password", "tide-table-61 ")
    adding.fill("start_there", "/public_html")

    adding.attempt()
    adding.fix("Use SFTP on port 22")
    adding.wait(lambda: adding.driver.find_elements(By.CSS_SELECTOR, '[data-test="trust"], [data-test="fix"]'))
    if adding.driver.find_elements(By.CSS_SELECTOR, '[data-test="trial"] [data-test="trust"]'):
        adding.trust_shown()
    adding.fix("Remove the space")
    adding.fix("Start in /htdocs")

    adding.see("trial-good")
    assert adding.field("start_there") == "/htdocs"


def test_another_word_of_the_letter_can_be_picked(adding: Adding) -> None:
    adding.paste("Server: ftp.mosslane.example\nUser: seedlib\nPassword: sow-and-reap-4\nThe real user is gardener.")

    words = adding.driver.find_elements(By.CSS_SELECTOR, ".letter .word")
    next(word for word in words if word.text == "gardener.").click()
    menu = adding.driver.find_element(By.CSS_SELECTOR, ".mark-menu")
    next(one for one in menu.find_elements(By.TAG_NAME, "button") if one.text == "the user").click()

    adding.wait(lambda: adding.field("user_name") == "gardener")
    assert "selected by you" in adding.driver.find_element(By.CSS_SELECTOR, '[data-why="user_name"]').text


def test_what_the_server_asks_is_asked_in_the_page(adding: Adding) -> None:
    adding.paste("Server: ssh.puffinhost.example\nUser: puffin\nPassword: burrow-and-bill\nSSH port: 22")
    adding.attempt()
    adding.fix("Allow old algorithms")
    adding.trust_shown()

    question = adding.see("question")
    assert "Name of the harbour seal" in question.text
    question.find_element(By.CSS_SELECTOR, "[data-answer]").send_keys("Umber" + Keys.ENTER)

    adding.see("trial-good")


def test_a_one_time_code_is_made_from_its_secret(adding: Adding) -> None:
    adding.paste("Server: ssh.otterhost.example\nUser: otter\nPassword: holt-by-the-burn\nSSH port: 22")
    adding.driver.find_element(By.CSS_SELECTOR, "[data-sign-in-more] summary").click()
    adding.fill("one_time_secret", scenario.ONE_TIME_SECRET)
    adding.attempt()
    adding.trust_shown()

    adding.see("trial-good")


def test_plain_ftp_is_a_choice_and_marked_everywhere(adding: Adding) -> None:
    adding.paste(letter("moss-lane"))
    adding.attempt()
    assert "was not sent" in adding.see("reading").text
    adding.fix("without encryption")

    adding.see("trial-good")
    assert adding.driver.find_element(By.CSS_SELECTOR, "[data-plain-warning]").is_displayed()
    files = Files(adding.driver, adding.address)
    files.open_site("Moss Lane Seed Library")
    assert files.joint("%C3%B6ffnungszeiten.html") == "newer there"
    assert files.joint("style.css") == "same", "its clock is two hours off, which is reckoned with"
    assert "without encryption" in files.driver.find_element(By.CSS_SELECTOR, ".sitehead").text


def test_a_file_goes_up_over_ftp_and_is_taken_back(maren: Files, demo: Demo) -> None:
    there = demo.home / "hosts" / "northlight" / "public" / "index.html"
    before = there.read_bytes()
    maren.open_site("Northlight Observatory")
    maren.pick("index.html")
    assert "1 replaced" in maren.plan("upload")
    maren.carry_out()

    assert maren.becomes("index.html", "same")
    assert there.read_bytes() == (demo.home / "here" / "northlight" / "index.html").read_bytes()
    maren.pick("index.html")
    maren.take_back()
    maren.wait(lambda: there.read_bytes() == before, "the old page never came back")


def test_a_full_account_says_so_and_keeps_what_was_there(maren: Files, demo: Demo) -> None:
    maren.go("/sites/2/files?here=/studio/northlight/plates&there=/public/plates")
    maren.pick("plate-1966.tif")
    maren.plan("upload")
    maren.carry_out()

    maren.go("/jobs")
    maren.sees_text("no space")
    assert not (demo.home / "hosts" / "northlight" / "public" / "plates" / "plate-1966.tif").exists()


def test_sites_are_moved_by_keys_and_stay_there(maren: Files) -> None:
    def order() -> list[str]:
        return [one.text for one in maren.driver.find_elements(By.CSS_SELECTOR, '[data-test="open-site"]')]

    maren.go("/sites")
    before = order()
    link = maren.driver.find_element(By.CSS_SELECTOR, '[data-test="site"] h3 a')
    maren.driver.execute_script("arguments[0].focus()", link)
    maren.keys(Keys.ARROW_DOWN, holding=Keys.ALT)
    maren.sees_text("The order is stored")

    maren.go("/sites")
    assert order()[:2] == [before[1], before[0]]
    maren.see("search-sites").send_keys("gannet")
    maren.wait(lambda: [one for one in order() if one] == ["Gorse & Gannet"])


def test_a_guarded_folder_is_opened_for_a_while(files: Files) -> None:
    files.go("/sites/1/files?here=/studio/skerry/mail&there=/mail")
    files.see("new-folder").click()
    files.see("ask-text").send_keys("new")
    files.see("ask-go").click()
    files.sees_text("guarded folder")

    files.go("/sites/1/files?here=/studio/skerry/mail&there=/mail")
    files.see("open-guard").click()
    files.sees_text("more minutes")
    files.see("new-folder").click()
    files.see("ask-text").send_keys("new")
    files.see("ask-go").click()
    assert files.joint("new") == "only there"


def test_a_link_says_which_folder_it_is_and_places_are_pinned(files: Files) -> None:
    files.go("/sites/1/files?here=/studio/skerry&there=/")
    files.row("www")
    files.go("/sites/1/files?here=/studio/skerry/htdocs&there=/www")
    assert "/htdocs" in files.see("same-place").text
    files.see("pin-place").click()

    files.wait(lambda: "/www" in files.driver.find_element(By.CSS_SELECTOR, ".folders").text.partition("PINNED")[2])
    files.see("back").click()
    files.wait(lambda: "there=/www" not in files.driver.current_url)


def test_the_wire_shows_the_conversation_without_secrets(files: Files, demo: Demo) -> None:
    files.go("/sites/1/connection")

    text = files.see("connection-log").text
    assert "read folder /htdocs" in text
    assert "tide-table-61" not in files.driver.page_source
    ports = json.loads((demo.home / "ports.json").read_text())
    files.driver.get(f"http://127.0.0.1:{ports['desk']['web']}/")
    files.sees_text("The demo's hosting servers")
