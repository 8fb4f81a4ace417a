"""Sync, sieves and timers over HTTP: what the pages show, what they refuse, and that nothing is another person's."""

from __future__ import annotations

import re
import time
from typing import Any

import pytest

from nailer.core.jobs.schedule import Every
from tests.builders import NOON_S, tree, write
from tests.web.conftest import Visitor


def opened(maren: Visitor) -> str:
    """The site open; return its address."""
    return maren.open_site()


def pair_of(maren: Visitor, site: str) -> int:
    found = re.search(r'data-pair="(\d+)"', maren.get(f"{site}/sync").text)
    assert found
    return int(found[1])


def read(maren: Visitor, pair: int, **wish: str) -> str:
    """Read both sides; return the plan's address."""
    token = maren.post(
        f"/pairs/{pair}/read", {"direction": "level", "removals": "ask", "compare": "size-and-time"} | wish
    ).json()["token"]
    for _ in range(400):
        told = maren.client.get(f"/sync/{token}/progress").json()
        assert not told["problem"], told
        if told["ready"]:
            return f"/sync/{token}"
        time.sleep(0.02)
    raise AssertionError("it was never read")


def carry_out(maren: Visitor, plan: str, **more: object) -> Any:
    """Carry a plan out as its page shows it now."""
    shown = re.search(r'data-number="(\d+)"', maren.get(plan).text)
    assert shown
    return maren.post(f"{plan}/carry-out", {"number": int(shown[1]), **more})


def number_of(page: str, path: str) -> int:
    found = re.search(rf'<tr data-row="(\d+)"(?:(?!</tr>).)*?title="{re.escape(path)}"', page, re.S)
    assert found, page
    return int(found[1])


def ended(maren: Visitor, address: str) -> str:
    for _ in range(400):
        page = maren.get(address).text
        if 'data-state="running"' not in page.split("data-jobs")[0]:
            return page
        time.sleep(0.02)
    raise AssertionError("the run never ended")


def test_a_plan_is_read_decided_and_carried_out(maren: Visitor) -> None:
    site = opened(maren)
    write(maren.here, "index.html", "new here", NOON_S + 60)
    write(maren.there, "index.html", "old")
    write(maren.here, "site.css", "x")
    plan = read(maren, pair_of(maren, site))

    page = maren.get(plan).text
    assert "your decision" in page
    assert "To decide 1" in page
    assert "Upload 1" in page
    assert carry_out(maren, plan).status_code == 409
    answer = maren.post(f"{plan}/choose", {"numbers": [number_of(page, "index.html")], "doing": "upload"})
    assert answer.json() == {"count": 1}
    assert "2 steps" in maren.get(plan).text
    done = ended(maren, carry_out(maren, plan).json()["address"])

    assert 'data-test="run-state">done' in done
    assert tree(maren.there) == tree(maren.here)
    assert maren.client.get(plan).status_code == 404


def test_rows_are_filtered_and_decided_in_bulk(maren: Visitor) -> None:
    site = opened(maren)
    for number in range(6):
        write(maren.here, f"a{number}.html", "here", NOON_S + 60)
        write(maren.there, f"a{number}.html", "there, older")
        write(maren.there, f"b{number}.css", "x")
    plan = read(maren, pair_of(maren, site))

    assert "Use the newer version for 6 files" in maren.get(plan).text
    assert maren.post(f"{plan}/choose", {"everything": True, "text": "a1", "doing": "leave"}).json() == {"count": 1}
    assert maren.post(f"{plan}/choose", {"everything": True, "group": "decide", "doing": "newer"}).json() == {
        "count": 5
    }
    up = maren.get(f"{plan}?group=up").text
    assert up.count("data-row=") == 5
    assert maren.get(f"{plan}?text=b&by=folder").text.count("data-row=") == 6
    window = maren.get(f"{plan}?from=4&rows=3").text
    assert window.count("data-row=") == 3
    assert "5 more rows" in window
    assert maren.post(f"{plan}/wish", {"direction": "fetch", "removals": "keep"}).status_code == 200
    assert "12 files down" in maren.get(plan).text


def test_two_texts_are_compared_and_merged(maren: Visitor) -> None:
    site = opened(maren)
    write(maren.here, "a.html", "one\nmine\nthree\n", NOON_S + 60)
    write(maren.there, "a.html", "one\ntheirs\nthree\n", NOON_S + 90)
    plan = read(maren, pair_of(maren, site))

    shown = maren.get(f"{plan}/rows/0/difference").text
    assert "mine" in shown
    assert "theirs" in shown
    assert "data-merge-row" in shown
    assert 'data-test="conflict"' in maren.get(f"{plan}/rows/0/merge").text
    maren.post(f"{plan}/rows/0/merged", {"text": "one\nmine\ntheirs\nthree\n"})
    assert tree(maren.here)["a.html"] == b"one\nmine\nthree\n"
    ended(maren, carry_out(maren, plan).json()["address"])

    assert tree(maren.here) == tree(maren.there) == {"a.html": b"one\nmine\ntheirs\nthree\n"}


def test_pictures_are_shown_side_by_side_and_hostile_names_are_text(maren: Visitor) -> None:
    site = opened(maren)
    write(maren.here, "pier.svg", "<svg xmlns='http://www.w3.org/2000/svg'/>", NOON_S + 60)
    write(maren.there, "pier.svg", "<svg/>")
    write(maren.here, "<script>alert(1)<", "x")
    plan = read(maren, pair_of(maren, site))

    page = maren.get(plan).text
    assert "<script>alert" not in page
    shown = maren.client.get(f"{plan}/rows/{number_of(page, 'pier.svg')}/difference").text
    assert shown.count("data:image/svg+xml;base64,") == 2


def test_a_whole_run_is_taken_back_from_its_page(maren: Visitor) -> None:
    site = opened(maren)
    write(maren.here, "a.html", "here")
    write(maren.there, "b.html", "there")
    plan = read(maren, pair_of(maren, site))
    address = carry_out(maren, plan).json()["address"]
    assert "Take the whole run back" in ended(maren, address)

    dialog = maren.post(f"/runs/{address.rpartition('/')[2]}/plans/take-back").text
    jobs = re.search(r'data-job="([\d ]+)"', dialog)
    assert jobs
    for job in jobs[1].split():
        assert maren.post(f"/plans/{job}/carry-out", {"choice": "replace"}).status_code == 200
    for _ in range(200):
        if (tree(maren.here), tree(maren.there)) == ({"a.html": b"here"}, {"b.html": b"there"}):
            break
        time.sleep(0.02)

    assert (tree(maren.here), tree(maren.there)) == ({"a.html": b"here"}, {"b.html": b"there"})


def test_what_needs_a_word_or_an_open_folder_says_so(maren: Visitor) -> None:
    site = opened(maren)
    pair = pair_of(maren, site)
    for number in range(4):
        write(maren.here, f"{number}.html", "x")
    write(maren.here, "mail/box", "x")
    plan = read(maren, pair, direction="publish", removals="follow")
    page = maren.get(plan).text
    assert "Unlock the guarded /htdocs/mail" in page
    assert carry_out(maren, plan).status_code == 409
    ended(maren, carry_out(maren, plan, guarded_confirmed=True).json()["address"])
    (maren.here / "1.html").unlink()

    plan = read(maren, pair, direction="publish", removals="follow")
    assert 'data-test="typed"' in maren.get(plan).text
    assert carry_out(maren, plan).status_code == 422
    assert carry_out(maren, plan, typed="htdocs").status_code == 200


def test_a_server_that_is_away_is_said_with_what_can_be_done(maren: Visitor) -> None:
    site = opened(maren)
    pair = pair_of(maren, site)
    maren.nailer.settings.routes["ftp.mosslane.example:22"] = "127.0.0.1:1"
    portal = maren.client.portal
    assert portal is not None
    portal.call(maren.nailer.sites.pool.close_site, int(site.rpartition("/")[2]))

    token = maren.post(f"/pairs/{pair}/read", {"compare": "size"}).json()["token"]
    told: dict[str, Any] = {}
    for _ in range(400):
        told = maren.client.get(f"/sync/{token}/progress").json()
        if told["problem"]:
            break
        time.sleep(0.02)

    assert told["problem"]
    assert told["advice"]
    assert maren.post(f"/sync/{token}/let-go").status_code == 200


def test_a_reading_is_nobody_elses(maren: Visitor) -> None:
    plan = read(maren, pair_of(maren, opened(maren)))
    portal = maren.client.portal
    assert portal is not None
    portal.call(maren.nailer.people.accounts.make, "tam", "a-long-password")
    maren.post_form("/sign-out")
    maren.client.post("/sign-in", data={"name": "tam", "password": "a-long-password"})

    assert maren.get("/sites").status_code == 200
    assert maren.client.get(plan).status_code == 404


def test_another_pair_is_made_and_forgotten(maren: Visitor) -> None:
    site = opened(maren)
    first = pair_of(maren, site)

    page = maren.post_form(f"{site}/pairs", here="studio/moss/img", there="/htdocs/img", name="pictures")
    assert "pictures" in page.text
    second = re.search(r'data-pair="(\d+)"', page.text)
    assert second
    assert int(second[1]) != first
    maren.post_form(f"/pairs/{second[1]}/remove")
    assert "pictures" not in maren.get(f"{site}/sync").text
    assert maren.post(f"/pairs/{first}/remove").status_code == 409
    assert maren.post_form(f"{site}/pairs", here="", there="/htdocs").status_code == 422


# --- sieves

RULE = {"how": "any", "parts": [{"test": "kind", "value": "layered"}, {"test": "larger", "value": "1.5 MB"}]}


def test_a_sieve_is_built_tried_stored_and_holds_back(maren: Visitor) -> None:
    site = opened(maren)
    pair = pair_of(maren, site)
    write(maren.here, "poster.psd", "x" * 10)
    write(maren.here, "index.html", '<img src="large.jpg">')
    write(maren.here, "large.jpg", b"\xff\xd8" + bytes(1_600_000))

    tried = maren.post("/sieves/try", {"name": "Working", "rule": RULE, "pair": pair}).text
    assert 'data-test="tried-count">2' in tried
    assert "is larger than 1.5 MB" in tried
    assert "1 file is used by a page" in tried
    stored = maren.post("/sieves", {"name": "Working", "rule": RULE, "always": ["press/*.psd"], "pair": pair}).json()
    assert "but always transfer press/*.psd" in maren.get("/sieves").text
    plan = read(maren, pair, direction="publish")
    page = maren.get(plan).text

    assert page.count("sieve: Working") >= 2
    assert 'data-test="held"' in maren.get(f"{site}/files").text
    assert maren.get(f"/sieves/{stored['id']}/ignore.txt").text.startswith("# Working\n")
    maren.post(f"/sieves/{stored['id']}/off")
    assert "sieve: Working" not in maren.client.get(read(maren, pair, direction="publish")).text
    maren.post(f"/sieves/{stored['id']}/remove")
    assert "Working" not in maren.get("/sieves").text


def test_sieves_change_their_order_and_read_ignore_files(maren: Visitor) -> None:
    opened(maren)
    ids = [int(one) for one in re.findall(r'data-sieve="(\d+)"', maren.get("/sieves").text)]
    maren.post("/sieves/order", {"sieves": ids[::-1]})
    assert [int(one) for one in re.findall(r'data-sieve="(\d+)"', maren.get("/sieves").text)] == ids[::-1]

    read = maren.post("/sieves/read-ignore", {"text": "*.tmp\n!keep.tmp\n/\n"}).json()
    assert read["parts"] == [{"test": "pattern", "value": "*.tmp"}]
    assert read["always"] == ["keep.tmp"]
    assert read["notes"]


@pytest.mark.parametrize(
    "body",
    [
        {"name": "", "rule": RULE},
        {"name": "x", "rule": {"test": "kind", "value": "dragon"}},
        {"name": "x", "rule": {"how": "any", "parts": [{"test": "larger", "value": "a lot"}]}},
        {"name": "x", "rule": RULE, "always": ["!no"]},
    ],
)
def test_what_is_no_sieve_is_refused(maren: Visitor, body: dict[str, Any]) -> None:
    answer = maren.post("/sieves", body)

    assert answer.status_code == 422
    assert answer.json()["what"]


def test_what_is_picked_by_its_name_goes_and_what_lies_in_a_folder_is_sieved(maren: Visitor) -> None:
    site = opened(maren)
    write(maren.here, "sub/a.html", "x")
    write(maren.here, "sub/old.bak", "x")
    write(maren.here, "one.bak", "x")
    wish = {"here": "/studio/moss", "there": "/htdocs", "names": ["sub", "one.bak"], "to_side": "there"}

    dialog = maren.post(f"{site}/plans/transfer", wish).text

    assert "1 item stays behind" in dialog
    assert "2 new" in dialog
    assert "3 new" in maren.post(f"{site}/plans/transfer", wish | {"despite_sieves": True}).text


def test_what_nobody_should_publish_is_made_a_sieve(maren: Visitor) -> None:
    site = opened(maren)
    for name in ("site.zip", "odd [1]*.zip", "a.html"):
        write(maren.here, f"sub/{name}", "x")
    wish = {"here": "/studio/moss", "there": "/htdocs", "names": ["sub"], "to_side": "there"}
    dialog = maren.post(f"{site}/plans/transfer", wish).text
    plan = re.search(r'data-job="(\d+)"', dialog)
    assert plan
    assert "2 items that should not be published" in dialog

    after = maren.post(f"/plans/{plan[1]}/leave-out", {"what": "private", "as_sieve": True}).text

    assert "1 new" in after
    again = maren.post(f"{site}/plans/transfer", wish).text
    assert "behind because of the sieve" in again
    assert "1 new" in again


# --- timers


def a_timer(pair: int, **more: object) -> dict[str, object]:
    return {
        "pair": pair,
        "name": "Every morning",
        "direction": "publish",
        "removals": "keep",
        "every": Every.DAILY.value,
        "spec": "6:30",
        "zone": "Europe/London",
    } | more


def test_an_upload_is_made_a_timer_from_its_plan(maren: Visitor) -> None:
    site = opened(maren)
    write(maren.here, "feed/a.xml", "x")
    wish = {"here": "/studio/moss", "there": "/htdocs", "names": ["feed"], "to_side": "there"}
    plan = re.search(r'data-job="(\d+)"', maren.post(f"{site}/plans/transfer", wish).text)
    assert plan

    form = maren.get(f"/timers?job={plan[1]}").text
    assert "Upload of feed from /studio/moss to /htdocs" in form
    assert 'name="direction"' not in form
    timer = maren.post("/timers", a_timer(0, job=int(plan[1]), removals="ask")).json()["id"]
    page = maren.get("/timers").text
    assert "Upload of feed from /studio/moss to /htdocs" in page
    maren.post(f"/timers/{timer}/run")
    for _ in range(200):
        if not maren.client.get(f"/timers/{timer}/state").json()["busy"] and "timer-run" in maren.get("/timers").text:
            break
        time.sleep(0.05)
    page = maren.get("/timers").text
    assert 'data-test="timer-run">done' in page
    assert "1 file, 1 B" in page
    assert tree(maren.there) == {"feed/a.xml": b"x"}
    assert "1 timer" in maren.get(f"{site}/remove").text

    maren.post(f"/timers/{timer}", a_timer(0, every="weekly", spec="0,4 7:00"))
    assert "Mondays and Fridays at 07:00" in maren.get(f"/timers?edit={timer}").text
    assert maren.post("/timers", a_timer(0)).status_code == 404
    assert maren.post("/timers", a_timer(0, job=999)).status_code == 404


def test_a_timer_is_made_run_changed_and_removed(maren: Visitor) -> None:
    site = opened(maren)
    pair = pair_of(maren, site)
    write(maren.here, "a.html", "x")
    assert "No timer yet" in maren.get("/timers").text
    assert "daily at 06:30" in maren.post("/timers/preview", a_timer(pair)).text.lower()

    timer = maren.post("/timers", a_timer(pair)).json()["id"]
    page = maren.get("/timers").text
    assert "Every morning" in page
    assert page.count("<li title=") == 5
    maren.post(f"/timers/{timer}/run")
    for _ in range(400):
        if not maren.client.get(f"/timers/{timer}/state").json()["busy"] and "timer-run" in maren.get("/timers").text:
            break
        time.sleep(0.02)
    assert tree(maren.there) == tree(maren.here)
    assert 'data-test="timer-run">done' in maren.get("/timers").text
    maren.post(f"/timers/{timer}", a_timer(pair, every="weekly", spec="0,4 7:00"))
    assert "Mondays and Fridays at 07:00" in maren.get("/timers").text
    maren.post(f"/timers/{timer}/off")
    assert "It is turned off" in maren.get("/timers").text
    maren.post(f"/timers/{timer}/remove")
    assert "No timer yet" in maren.get("/timers").text


@pytest.mark.parametrize(
    "wrong",
    [
        {"name": " "},
        {"removals": "ask"},
        {"spec": "25:00"},
        {"zone": "Nowhere"},
        {"every": "cron", "spec": "0 0 30 2 *"},
    ],
)
def test_what_is_no_timer_is_refused(maren: Visitor, wrong: dict[str, object]) -> None:
    answer = maren.post("/timers", a_timer(pair_of(maren, opened(maren)), **wrong))

    assert answer.status_code == 422


def test_a_page_that_shows_an_older_decision_is_told(maren: Visitor) -> None:
    site = opened(maren)
    write(maren.here, "index.html", "new here", NOON_S + 60)
    plan = read(maren, pair_of(maren, site))
    shown = re.search(r'data-number="(\d+)"', maren.get(plan).text)
    assert shown
    maren.post(f"{plan}/choose", {"numbers": [0], "doing": "leave"})

    answer = maren.post(f"{plan}/carry-out", {"number": int(shown[1])})
    assert answer.status_code == 409
    assert "has changed since this page showed it" in answer.text
    assert not (maren.there / "index.html").exists()
