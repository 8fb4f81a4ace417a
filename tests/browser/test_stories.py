"""What people come to do, done by hand in a real browser on the demo."""

from __future__ import annotations

import os
import shutil
import urllib.request
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Demo
from tests.browser.pages import Files

pytestmark = pytest.mark.browser

AXE = Path(__file__).parent.parent / "vendor" / "axe.min.js"


def served(demo: Demo, name: str) -> str:
    with urllib.request.urlopen(demo.public + name, timeout=5) as response:
        return str(response.read().decode())


def test_meet_the_server_upload_see_it_live_and_take_it_back(maren: Files, demo: Demo) -> None:
    maren.forget_identity("ftp.skerryferries.example")
    maren.open_site("Skerry Ferries")
    assert "SHA256:" in maren.see("fingerprint").text
    maren.trust()
    maren.see("ledger")
    before = served(demo, "")
    assert maren.joint("index.html") == "newer here"

    maren.pick("index.html", "winter-sailings.html")
    summary = maren.plan("upload")
    assert "1 new, 1 replaced" in summary
    assert served(demo, "") == before, "reading a plan changes nothing"
    maren.carry_out()

    assert maren.becomes("index.html", "same")
    assert maren.becomes("winter-sailings.html", "same")
    assert served(demo, "") == (demo.here / "index.html").read_text() != before
    assert maren.see("public-address").get_attribute("href") == demo.public
    maren.pick("index.html")
    maren.take_back()
    assert maren.becomes("index.html", "newer here")
    assert served(demo, "") == before


def test_every_joint_is_there_and_can_be_read_without_colour(files: Files) -> None:
    expected = {
        "index.html": "newer here",
        "fares.html": "both changed",
        "site.css": "newer there",
        "placeholder.html": "only there",
        "timetable.html": "same",
        "men%FC-bistro.txt": "only there",
    }
    for name, joint in expected.items():
        assert files.joint(name) == joint
    assert files.becomes("data", "newer here")
    assert files.becomes("img", "same")
    assert files.becomes("skins", "newer there")
    shapes = {
        row.find_element(By.CSS_SELECTOR, "svg.joint").get_attribute("innerHTML").split("</title>")[1]  # type: ignore[union-attr]
        for row in (
            files.row(name) for name in ("index.html", "fares.html", "site.css", "placeholder.html", "timetable.html")
        )
    }
    assert len(shapes) == 5, "each joint has a shape of its own"


PAGES = [
    "/sites",
    "/sites/add",
    "/sites/import",
    "/sites/1/files",
    "/sites/1/connection",
    "/sites/1/settings",
    "/sites/1/remove",
    "/sites/1/changes",
    "/sites/1/search?side=there",
    "/sites/1/edit?side=there&path=/htdocs/index.html",
    "/sites/1/permissions?side=there&path=/htdocs",
    "/sites/1/checks",
    "/sites/1/checks/room",
    "/sites/1/checks/pages",
    "/sites/1/checks/pages?path=/htdocs/crew/index.html",
    "/sites/1/checks/alone",
    "/sites/1/sync",
    "/sieves",
    "/timers",
    "/drafts",
    "/identities",
    "/jobs",
    "/people",
    "/people/1",
    "/account",
    "/account/codes",
    "/account/preferences",
    "/sites/1/files?here=/studio/skerry/htdocs&there=/htdocs/news&apart=1",
    "/log",
    "/patterns",
]

NOTICES = """for (const look of ["", "bad"]) dispatchEvent(new CustomEvent("nailer:notice",
  {detail: {text: "Upload of index.html", look, back: 1, href: "/jobs", link: "Look"}}))"""


@pytest.mark.timeout(900)
@pytest.mark.parametrize("theme", ["light", "dark"])
def test_pages_are_accessible(files: Files, theme: str) -> None:
    """WCAG 2.1 A and AA, as far as a program can tell."""
    broken = []
    files.read_site()
    for address in PAGES:
        files.driver.execute_script(f"localStorage.setItem('nailer-theme', '{theme}')")
        files.go(address)
        if address.endswith("files"):
            files.row("index.html").find_element(By.CSS_SELECTOR, ".j").click()
            files.see("picked-title")
        if address.endswith("sync"):
            files.see("sync-foot")
        if address.endswith("checks"):
            files.see("room")
        files.wait(lambda: files.driver.find_elements(By.CSS_SELECTOR, "[data-alive]"))
        files.driver.execute_script(NOTICES)
        files.see("notice-back")
        files.driver.execute_script(AXE.read_text())
        result = files.driver.execute_async_script(
            "axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']}).then(arguments[0])"
        )
        broken += [
            (address, one["id"], one["nodes"][0]["html"][:160], one["nodes"][0]["failureSummary"])
            for one in result["violations"]
        ]
        mains = files.driver.find_elements(By.TAG_NAME, "main")
        broken += [] if len(mains) == 1 else [(address, "main", f"{len(mains)} landmarks", "")]
    files.driver.execute_script("localStorage.clear()")

    assert not broken


def test_download_brings_the_newer_file_here(files: Files, demo: Demo) -> None:
    files.pick("site.css")
    files.plan("download")
    files.carry_out()

    assert files.becomes("site.css", "same")
    assert (demo.here / "site.css").read_bytes() == (demo.there / "site.css").read_bytes()


def test_keep_both_leaves_the_one_and_adds_the_other(files: Files, demo: Demo) -> None:
    theirs = (demo.there / "fares.html").read_bytes()

    files.pick("fares.html")
    assert files.plan("upload").startswith("1 changed on both sides")
    files.see("carry-out").click()
    files.wait(lambda: "First decide" in files.see("plan").text, "nothing was asked to be decided")
    files.see("clashes-keep-both").click()
    files.carry_out()

    files.row("fares-2.html")
    assert (demo.there / "fares.html").read_bytes() == theirs
    assert (demo.there / "fares-2.html").read_bytes() == (demo.here / "fares.html").read_bytes()


def test_a_whole_folder_goes_up_and_the_job_is_taken_back(files: Files, demo: Demo) -> None:
    folder = demo.here / "brochure"
    for number in range(60):
        (folder / f"part-{number % 4}").mkdir(parents=True, exist_ok=True)
        (folder / f"part-{number % 4}" / f"leaf-{number}.html").write_text(f"leaf {number}")
    files.see("refresh").click()

    files.pick("brochure")
    assert "60 new" in files.plan("upload")
    files.carry_out()
    assert files.becomes("brochure", "same")
    tree = files.wait(
        lambda: files.driver.find_element(By.CSS_SELECTOR, ".folders").find_element(By.LINK_TEXT, "brochure")
    )
    files.wait(lambda: "only" not in tree.get_attribute("class"), "the tree never followed")
    assert sum(1 for one in (demo.there / "brochure").rglob("*.html")) == 60

    files.go("/jobs")
    files.wait(lambda: files.driver.find_element(By.LINK_TEXT, "Upload of brochure")).click()
    assert "leaf-59.html" in files.see("receipts").text
    files.see("take-job-back").click()
    files.see("carry-out").click()
    files.wait(lambda: not (demo.there / "brochure").exists(), "the folder never went")


def test_drop_files_from_the_desktop_on_either_side(files: Files, demo: Demo) -> None:
    assert "THERE /htdocs as skerryferries.example/" in files.see("drop-there").text

    files.drop("drop-there", {"dropped there.txt": "up it goes"})
    assert "1 new" in files.see("plan-summary").text
    files.carry_out()
    files.row("dropped%20there.txt")
    files.drop("drop-here", {"dropped-here.txt": "stays here"})
    files.carry_out()
    files.row("dropped-here.txt")

    files.wait((demo.there / "dropped there.txt").exists)
    assert (demo.there / "dropped there.txt").read_text() == "up it goes"
    files.wait((demo.here / "dropped-here.txt").exists)


def test_choose_a_large_file_from_this_computer(files: Files, demo: Demo, tmp_path: Path) -> None:
    large = tmp_path / "film.bin"
    large.write_bytes(os.urandom(30_000_000))

    files.choose("choose-files", large)
    files.carry_out()

    assert files.becomes("film.bin", "only there")
    files.wait(lambda: (demo.there / "film.bin").stat().st_size == 30_000_000)
    assert (demo.there / "film.bin").read_bytes() == large.read_bytes()


def test_choose_a_whole_folder_and_files_for_here(files: Files, demo: Demo, tmp_path: Path) -> None:
    folder = tmp_path / "leaflet"
    (folder / "deep").mkdir(parents=True)
    (folder / "index.html").write_text("front")
    (folder / "deep" / "back.html").write_text("back")

    files.choose("choose-folder", folder)
    assert "2 new" in files.see("plan-summary").text
    files.carry_out()
    files.row("leaflet")
    files.choose("choose-here", folder / "index.html")
    files.see("plan")
    files.answer("replace")
    files.see("put-away").click()

    files.wait((demo.there / "leaflet" / "deep" / "back.html").exists)
    assert (demo.there / "leaflet" / "index.html").read_text() == "front"
    assert (demo.here / "index.html").read_text() != "front", "what is put away is not done"


def test_everything_by_keyboard(files: Files, demo: Demo) -> None:
    (demo.here / "a-key.txt").write_text("one")
    files.see("refresh").click()
    files.row("a-key.txt")
    files.see("ledger").send_keys("/")
    files.keys("a-key")
    files.wait(lambda: files.names() == ["a-key.txt"])
    files.keys(Keys.ESCAPE)
    files.wait(lambda: len(files.names()) > 5)

    files.keys(Keys.HOME)
    for _ in range(60):
        if files.picked() == {"a-key.txt"}:
            break
        files.keys(Keys.ARROW_DOWN)
    files.see("upload")
    files.keys("u")
    files.see("carry-out")
    files.keys(Keys.ENTER)
    assert files.becomes("a-key.txt", "same")

    files.pick("a-key.txt")
    files.see("ledger").send_keys("r")
    files.see("ask-text").send_keys(Keys.CONTROL + "a" + Keys.NULL, "z-key.txt", Keys.ENTER)
    files.row("z-key.txt")
    assert (demo.there / "z-key.txt").read_text() == "one"
    files.see("ledger").send_keys("n")
    files.see("ask-text").send_keys("by-keyboard", Keys.ENTER)
    files.row("by-keyboard")
    assert (demo.there / "by-keyboard").is_dir()


def test_whatever_the_keyboard_reaches_can_be_seen(files: Files) -> None:
    """Tab through the files view: no stop without an extent. What stands for the browser's own file chooser is its label."""
    files.driver.execute_script("document.querySelector('.tick-all').focus()")
    unseen = []
    for _ in range(12):
        files.keys(Keys.TAB)
        unseen += files.driver.execute_script(
            "const one = document.activeElement, box = one.getBoundingClientRect();"
            "return one.type === 'file' || one === document.body || (box.width > 4 && box.height > 4) ? [] : [one.outerHTML]"
        )
    assert unseen == []


def test_a_plan_that_takes_its_time_is_carried_out_by_enter(files: Files, demo: Demo) -> None:
    """The sheet is open already when the plan comes."""
    (demo.here / "a-slow-key.txt").write_text("one")
    files.see("refresh").click()
    files.pick("a-slow-key.txt")
    slow = (
        "const ask = window.fetch; window.fetch = async (...all) => { const got = await ask(...all);"
        " if (String(all[0]).includes('/plans/')) await new Promise((go) => setTimeout(go, 700)); return got; };"
    )
    files.driver.execute_script(slow)

    files.keys("u")
    files.wait(lambda: files.driver.find_elements(By.CSS_SELECTOR, ".plan-busy"), "it never said that it works")
    files.see("carry-out")
    files.keys(Keys.ENTER)
    files.wait((demo.there / "a-slow-key.txt").exists)


def test_a_folder_of_many_names_takes_the_whole_width(files: Files, demo: Demo) -> None:
    """What stands for rows that are not drawn adds no column of its own."""
    folder = demo.here / "many-names"
    folder.mkdir()
    for number in range(400):
        (folder / f"sailing-{number:03}.html").write_text("x")
    files.go("/sites/1/files?here=/studio/skerry/htdocs/many-names&there=/htdocs/many-names&fresh=1")
    files.row("sailing-000.html")

    table, scroller = files.driver.execute_script(
        "return [document.querySelector('table.ledger').offsetWidth, document.querySelector('.ledger-scroll').clientWidth]"
    )
    columns = files.driver.execute_script(
        "return [...document.querySelectorAll('.ledger thead th')].reduce((sum, one) => sum + one.offsetWidth, 0)"
    )
    shutil.rmtree(folder)
    assert table == scroller
    assert columns >= scroller - 1, "a column without a head has taken a share"


def test_pick_ranges_and_all(files: Files) -> None:
    names = files.names()
    files.see("ledger").send_keys(Keys.HOME)
    files.keys(Keys.ARROW_DOWN, Keys.ARROW_DOWN, holding=Keys.SHIFT)
    files.wait(lambda: files.picked() == set(names[:3]), "shift and arrows did not pick three")

    files.see("ledger").send_keys(Keys.CONTROL + "a")
    files.wait(lambda: len(files.picked()) == len(files.names()))
    files.see("ledger").send_keys(Keys.ESCAPE)
    files.wait(lambda: files.picked() == set())


def test_removing_keeps_a_copy(files: Files, demo: Demo) -> None:
    content = (demo.there / "placeholder.html").read_bytes()
    files.pick("placeholder.html")
    assert "removed there" in files.plan("remove-there")
    assert "1 file, 55 B would be deleted" in files.see("gone").text
    files.see("carry-out").click()
    files.wait(lambda: "Type placeholder.html to confirm" in files.see("plan").text, "no word was asked for")
    assert (demo.there / "placeholder.html").exists()
    assert files.looks_ready("carry-out") is False, "before the word is whole"
    files.see("typed").send_keys("placeholder.html")
    files.wait(lambda: files.looks_ready("carry-out"))
    files.carry_out()
    files.wait(lambda: not (demo.there / "placeholder.html").exists())

    files.go("/sites/1/changes")
    files.driver.find_element(By.CSS_SELECTOR, '[data-test="changes"] [data-take-back]').click()

    files.wait((demo.there / "placeholder.html").exists)
    assert (demo.there / "placeholder.html").read_bytes() == content


def test_the_sides_move_together_and_apart(files: Files) -> None:
    files.open_folder("img")
    assert "here=/studio/skerry/htdocs/img&there=/htdocs/img" in files.driver.current_url
    files.driver.find_element(By.CSS_SELECTOR, '[data-test="path-there"] .crumb a:nth-of-type(2)').click()
    files.wait(lambda: files.driver.current_url.endswith("here=/studio/skerry/htdocs&there=/htdocs"))

    files.see("hinge").click()
    files.wait(lambda: "apart=1" in files.driver.current_url)
    files.driver.find_element(By.CSS_SELECTOR, '[data-test="path-there"] .crumb a').click()

    files.wait(lambda: "here=/studio/skerry/htdocs&there=/&apart=1" in files.driver.current_url)
    files.row("logs")


def test_filters_narrow_the_ledger(files: Files) -> None:
    files.see("chip-newer-here").click()
    files.wait(lambda: "joint=newer-here" in files.driver.current_url)
    assert "index.html" in files.names()
    assert "timetable.html" not in files.names()
    files.see("chip-all").click()
    files.see("hidden").click()
    files.row(".htaccess")


def test_ten_thousand_names_scroll(files: Files, demo: Demo, request: pytest.FixtureRequest) -> None:
    folder = demo.there / "plates"
    folder.mkdir()
    request.addfinalizer(lambda: shutil.rmtree(folder))
    for number in range(10_000):
        (folder / f"plate-{number}.txt").touch()
    files.go("/sites/1/files?here=/studio/skerry/htdocs/plates&there=/htdocs/plates")
    files.see("ledger")
    assert "does not exist here yet" in files.see("missing-here").text
    assert len(files.names()) <= 400, "only windows are drawn"

    files.driver.execute_script("document.querySelector('[data-test=ledger]').scrollTop = 33 * 5000")
    files.row("plate-5000.txt")
    files.see("ledger").send_keys(Keys.END)
    files.row("plate-9999.txt")
    files.see("ledger").send_keys(Keys.CONTROL + "a")

    files.wait(lambda: "10 000 SELECTED" in files.see("inspector").text)


def test_the_changed_key_stops_everything(maren: Files) -> None:
    maren.open_site("Gorse & Gannet")

    maren.sees_text("shows a different identity than before")
    maren.sees_text("no password was sent")
    assert not maren.driver.find_elements(By.CSS_SELECTOR, ".sitehead-name > .chip.good"), "no key is known beside it"
    maren.go("/sites")
    maren.sees_text("The server identity has changed")


def test_the_go_to_box_goes_to_a_site(maren: Files) -> None:
    maren.keys("k", holding=Keys.CONTROL)
    maren.wait(lambda: maren.driver.find_elements(By.CSS_SELECTOR, ".goto-box[open]"))
    maren.keys("staging" + Keys.ENTER)

    maren.wait(lambda: "/sites/4/files" in maren.driver.current_url)
    assert maren.see("ledger")


def test_the_theme_is_kept(maren: Files) -> None:
    maren.driver.find_element(By.CSS_SELECTOR, ".rail-foot .rail-button").click()
    maren.go("/jobs")

    theme = maren.driver.find_element(By.TAG_NAME, "html").get_attribute("data-theme")
    maren.driver.execute_script("localStorage.clear()")

    assert theme == "dark"


def test_it_can_be_used_on_a_narrow_screen(files: Files) -> None:
    files.driver.set_window_size(520, 900)
    try:
        files.go("/sites/1/files")
        files.driver.execute_script("arguments[0].scrollIntoView()", files.row("index.html"))
        files.press("index.html", ".pick")
        files.see("bar-more").click()
        assert files.see("upload").is_displayed()
        overflow = "return document.documentElement.scrollWidth - document.documentElement.clientWidth"
        assert files.driver.execute_script(overflow) <= 0
    finally:
        files.driver.set_window_size(1280, 800)


def test_sides_that_are_led_apart_compare_nothing_and_are_mended_by_one_press(files: Files) -> None:
    files.go("/sites/1/files?here=/studio/skerry/htdocs&there=/htdocs/news&apart=1")
    files.see("broken")
    assert "are not a pair" in files.see("apart").text
    assert files.joint("index.html") == "not read"
    assert not files.driver.find_elements(By.CSS_SELECTOR, '[data-test="pick-newer"]')

    files.see("mend-here").click()

    files.see("hinge")
    assert files.driver.find_element(By.CSS_SELECTOR, "[data-test=files]").get_attribute("data-here").endswith("/news")


def test_a_mistyped_path_is_said_and_a_pasted_address_picks_its_file(files: Files) -> None:
    def typed(text: str) -> None:
        files.driver.find_element(By.CSS_SELECTOR, '[data-test="path-there"] button').click()
        box = files.driver.find_element(By.CSS_SELECTOR, '[data-test="path-there"] input[name="go"]')
        # Not emptied by the driver: that takes the focus away, and the box goes with it.
        files.wait(lambda: files.driver.switch_to.active_element == box, "the box for a path never came")
        box.send_keys(Keys.CONTROL + "a" + Keys.NULL + text + Keys.ENTER)

    typed("/htdcos")
    assert "There is no /htdcos there" in files.see("missing-path").text
    files.see("near").click()
    files.row("index.html")
    typed(" 'https://skerryferries.example/img/pier.svg' ")

    files.wait(lambda: files.picked() == {"pier.svg"}, "the file of the address was never picked")


def test_a_plan_that_takes_long_says_so_and_can_be_given_up(files: Files) -> None:
    files.pick("timetable.html")
    line = {"offline": False, "latency": 1500, "downloadThroughput": -1, "uploadThroughput": -1}
    files.driver.execute_cdp_cmd("Network.enable", {})
    files.driver.execute_cdp_cmd("Network.emulateNetworkConditions", line)
    try:
        files.see("download").click()
        files.wait(lambda: "Preparing the plan" in files.driver.find_element(By.ID, "sheet").text)
        files.driver.find_element(By.CSS_SELECTOR, "#sheet [data-sheet=close]").click()
        files.wait(lambda: not files.driver.find_elements(By.CSS_SELECTOR, "#sheet[open]"))
    finally:
        files.driver.execute_cdp_cmd("Network.emulateNetworkConditions", line | {"latency": 0})


def test_nothing_is_watched_before_it_is_said_how(files: Files, demo: Demo) -> None:
    files.pick("contact.html")
    files.see("own-program").click()
    files.see("choice-offer")
    files.driver.find_element(By.CSS_SELECTOR, "#sheet footer [data-sheet=close]").click()
    files.go("/drafts")
    files.sees_text("Drafts")
    assert not files.driver.find_elements(By.CSS_SELECTOR, '[data-test="own-files"]'), "leaving it watches nothing"

    files.go("/sites/1/files")
    files.pick("contact.html")
    files.see("own-program").click()
    files.see("choice-offer").click()
    files.see("ask-go").click()
    files.sees_text("Nailer asks before it uploads a save.")
