"""Editing, permissions and checks by hand in a real browser."""

from __future__ import annotations

import stat

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser


def in_editor(files: Files, script: str) -> str:
    """What a script says of the editor's text, which lies in a tree of its own; `it` is that text."""
    found: str = files.wait(
        lambda: files.driver.execute_script(
            "const it = document.querySelector('[data-test=editor-text]')?.shadowRoot?.querySelector('.cm-content');"
            f"if (!it) return null; {script}"
        ),
        "never saw the editor's text",
    )
    return found


def text_of(files: Files) -> str:
    return in_editor(files, "return it.innerText || ' ';")


def open_in_editor(files: Files, name: str) -> None:
    files.go("/sites/1/files?here=/studio/skerry/htdocs&there=/htdocs")
    files.pick(name)
    files.see("edit").click()
    in_editor(files, "it.focus(); return 'yes';")


def test_a_page_is_edited_compared_saved_and_put_back(files: Files, demo: Demo) -> None:
    page = demo.there / "contact.html"
    before = page.read_text()
    open_in_editor(files, "contact.html")
    files.keys(Keys.HOME, holding=Keys.CONTROL)
    files.keys("<!-- winter -->", Keys.ENTER)
    files.wait(lambda: "Draft saved in Nailer" in files.see("draft-state").text)
    assert page.read_text() == before

    files.go("/drafts")
    files.sees_text("/htdocs/contact.html")
    files.driver.back()
    files.wait(lambda: "<!-- winter -->" in text_of(files), "the draft did not survive a closed page")
    files.see("differences-toggle").click()
    files.wait(lambda: files.see("differences-toggle").element.get_attribute("aria-pressed") == "true")
    files.keys("s", holding=Keys.CONTROL)
    files.wait(lambda: page.read_text() == "<!-- winter -->\n" + before)
    assert "Visitors get what is on the server now" in files.see("live-verdict").text

    files.see("put-back").click()
    files.wait(lambda: "<!-- winter -->" not in text_of(files))
    files.see("save").click()
    files.wait(lambda: page.read_text() == before)


def test_somebody_elses_change_is_merged_by_hand(files: Files, demo: Demo) -> None:
    page = demo.there / "freight.html"
    before = page.read_text()
    open_in_editor(files, "freight.html")
    files.keys(Keys.HOME, holding=Keys.CONTROL)
    files.keys("mine ")
    files.wait(lambda: "Draft saved in Nailer" in files.see("draft-state").text)
    page.write_text("theirs " + before)

    files.see("save").click()
    files.see("conflict")
    files.driver.find_element(By.CSS_SELECTOR, '[data-choice="both"]').click()
    files.see("settle").click()
    files.wait(lambda: "theirs" in text_of(files))
    assert page.read_text() == "theirs " + before
    files.see("save").click()

    first = before.split("\n")[0]
    files.wait(lambda: page.read_text().startswith(f"mine {first}\ntheirs {first}\n"))
    page.write_text(before)


def test_risky_permissions_are_mended_and_taken_back(files: Files, demo: Demo) -> None:
    risky = demo.there / "old-site.zip"
    was = stat.S_IMODE(risky.stat().st_mode)
    files.go("/sites/1/permissions?side=there&path=/htdocs")
    files.see("only-risky").click()
    files.wait(lambda: "666" in files.see("transitions").text and "469" not in files.see("transitions").text)

    files.see("set-permissions").click()
    files.wait(lambda: stat.S_IMODE(risky.stat().st_mode) == 0o644)
    files.go("/sites/1/changes")
    files.see("job-back").click()
    files.carry_out()

    files.wait(lambda: stat.S_IMODE(risky.stat().st_mode) == was)


def test_the_forms_of_permissions_follow_each_other(files: Files) -> None:
    files.go("/sites/1/files?here=/studio/skerry/htdocs&there=/htdocs")
    files.pick("robots.txt")
    files.unfold("permissions")
    octal = files.see("octal")
    octal.send_keys(Keys.BACKSPACE * 4, "750", Keys.TAB)

    files.wait(lambda: files.see("rwx").element.get_attribute("value") == "rwxr-x---")
    assert files.see("symbolic").element.get_attribute("value") == "u=rwx,g=rx,o="
    assert "everyone may no longer read" in files.see("permissions-difference").text
    assert "750" in files.see("set-one").text


def test_a_broken_script_is_mended_step_by_step(files: Files, demo: Demo) -> None:
    script = demo.there / "cgi-bin" / "next-boat.cgi"
    well = script.read_bytes()
    script.write_bytes(well.replace(b"\n", b"\r\n"))
    script.chmod(0o644)
    files.go("/sites/1/checks")
    files.driver.find_element(By.CSS_SELECTOR, '[data-test="scripts"] summary').click()
    files.see("repair-permissions").click()
    files.wait(lambda: stat.S_IMODE(script.stat().st_mode) == 0o755)

    files.see("repair-first-line").click()

    files.wait(lambda: script.read_bytes() == well)
    files.sees_text("no problems found")
