"""People in a real browser: a passkey, and the clerk's day in one folder."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.virtual_authenticator import VirtualAuthenticatorOptions

from nailer.standins.demo.scenario import CLERK, CLERKS_PASSWORD, COLLEAGUE, COLLEAGUES_PASSWORD, INVITATION
from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser


@pytest.fixture
def device(chromium: webdriver.Chrome) -> Iterator[webdriver.Chrome]:
    """The browser on a device that makes passkeys."""
    options = VirtualAuthenticatorOptions()
    options.protocol = VirtualAuthenticatorOptions.Protocol.CTAP2
    options.has_user_verification = options.is_user_verified = True
    chromium.add_virtual_authenticator(options)
    yield chromium
    chromium.remove_virtual_authenticator()
    chromium.get_log("browser")


def test_a_passkey_is_made_asked_for_and_taken_away(device: webdriver.Chrome, demo: Demo) -> None:
    tam = Files(device, demo.address.replace("127.0.0.1", "localhost"))
    tam.sign_in(COLLEAGUE, COLLEAGUES_PASSWORD)
    tam.sees_text("Skerry Ferries, staging")
    tam.go("/account")
    tam.confirm(COLLEAGUES_PASSWORD)
    device.find_element(By.CSS_SELECTOR, ".passkey-name").send_keys("The desk")
    tam.see("make-passkey").click()
    assert "The desk" in tam.see("passkey").text

    device.delete_all_cookies()
    tam.sign_in(COLLEAGUE, COLLEAGUES_PASSWORD)
    tam.sees_text("Confirm that it is you")
    tam.go("/sites")
    assert "/sign-in/second" in device.current_url, "nothing is open before"
    tam.see("use-passkey").click()
    tam.sees_text("Skerry Ferries, staging")

    tam.go("/account")
    row = tam.see("passkey")
    row.find_element(By.NAME, "old").send_keys(COLLEAGUES_PASSWORD)
    row.find_element(By.TAG_NAME, "button").click()
    tam.sees_text("Your second factors have been changed.")
    assert not device.find_elements(By.CSS_SELECTOR, '[data-test="passkey"]')


def test_the_clerk_works_in_one_folder_and_sees_nothing_else(files: Files, demo: Demo) -> None:
    (demo.here / "news" / "harbour-day.html").write_text("<p>Harbour day on Saturday")
    files.driver.delete_all_cookies()
    orla = Files(files.driver, demo.address)
    orla.sign_in(CLERK, CLERKS_PASSWORD)

    orla.see("ledger")
    orla.see("refresh").click()  # the folder may have been read a moment ago, for the row above it
    orla.see("ledger")
    assert orla.joint("harbour-day.html") == "only here"
    page = files.driver.find_element(By.TAG_NAME, "body").text
    assert "fares.html" not in page
    assert "Sync" not in page, "what she may not do is not offered"
    orla.pick("harbour-day.html")
    assert "1 new" in orla.plan("upload")
    orla.carry_out()
    assert orla.becomes("harbour-day.html", "same")
    assert (demo.there / "news" / "harbour-day.html").read_text() == "<p>Harbour day on Saturday"

    orla.go("/sites/1/files?here=/studio/skerry/htdocs&there=/htdocs")
    assert "fares.html" not in files.driver.find_element(By.TAG_NAME, "body").text
    orla.go("/people")
    orla.sees_text("Only an administrator can do that")
    files.driver.get_log("browser")  # the browser notes each refusal


def test_somebody_comes_in_by_an_invitation_and_changes_the_password(chromium: webdriver.Chrome, demo: Demo) -> None:
    chromium.delete_all_cookies()
    guest = Files(chromium, demo.address)
    guest.go(f"/invited/{INVITATION}")
    for name, typed in (("name", "iver"), ("password", "tide-table-lantern"), ("again", "tide-table-lantern")):
        field = chromium.find_element(By.NAME, name)
        field.clear()
        field.send_keys(typed)
    chromium.find_element(By.CSS_SELECTOR, "[data-test=invited] button").click()
    guest.sees_text("Skerry Ferries")

    guest.go("/account")
    form = guest.see("password")
    for name, typed in (
        ("old", "tide-table-lantern"),
        ("password", "winch-and-windlass"),
        ("again", "winch-and-windlass"),
    ):
        form.find_element(By.NAME, name).send_keys(typed)
    form.find_element(By.TAG_NAME, "button").click()
    guest.sees_text("Your password has been changed")
    chromium.delete_all_cookies()
    guest.go(f"/invited/{INVITATION}")
    guest.sees_text("has been used or has expired")
    chromium.get_log("browser")
