"""The pages of what is known of a site, and who may see and mend it."""

from __future__ import annotations

import re
import time

import pytest

from nailer.standins.demo.pictures import photograph
from tests.builders import write
from tests.web.conftest import Visitor

PAGE = "<!doctype html><title>Moss Lane</title>"


def read(maren: Visitor, site: str) -> str:
    """Read the site and return its page then."""
    assert maren.post(f"{site}/checks/read").status_code == 200
    for _ in range(400):
        page = maren.get(f"{site}/checks/overview").text
        if "data-busy" not in page:
            return str(page)
        time.sleep(0.05)
    raise AssertionError("the reading never ended")


def test_a_site_that_was_never_read_says_what_reading_does(maren: Visitor) -> None:
    site = maren.open_site()
    page = maren.get(f"{site}/checks").text
    assert "Scan the site" in page
    assert "It changes nothing" in page


def test_what_was_found_is_shown_with_its_pages_and_mended_by_a_plan(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", f"{PAGE}<img src=deck.png><img src='a<b>.png'>")
    write(maren.here, "deck.png", "picture")

    page = read(maren, site)

    assert "2 pictures are missing on 1 page" in page
    assert "a&lt;b&gt;.png" in page
    first = re.search(r'data-first="(\d+)"', page)
    assert first
    wish = {"sort": "gone-picture", "mend": "send", "first": int(first[1])}
    plan = maren.post(f"{site}/checks/mend", wish).text
    assert "1 new" in plan
    assert "deck.png" in plan
    shown = maren.get(f"{site}/checks/pages?path=/htdocs/index.html").text
    assert "only here" in shown
    assert "no such file" in shown
    listed = maren.get(f"{site}/checks/pages").text
    assert "index.html" in listed
    number = re.search(r'data-test="pages">([^<]+)</a>', maren.get(f"{site}/checks").text)
    assert number is not None
    assert f'data-test="pages-title">{number[1]}<' in listed, "the number leads to as many"


def test_a_page_and_what_belongs_to_it_are_put_into_the_tray(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", f"{PAGE}<link rel=stylesheet href=style/site.css>")
    write(maren.there, "style/site.css", "a { color: teal }")
    read(maren, site)
    assert maren.post(f"{site}/checks/tray", {"path": "/htdocs/index.html"}).json() == {"text": "2 items of 2 folders"}
    assert maren.post(f"{site}/checks/tray", {"path": "/htdocs/none.html"}).status_code == 404


def test_a_button_of_a_finding_that_is_gone_says_so(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", PAGE)
    read(maren, site)
    answer = maren.post(f"{site}/checks/mend", {"sort": "gone-picture", "mend": "send"})
    assert answer.status_code == 404
    assert "Scan the site again" in answer.json()["what"]


def test_a_finding_is_ignored_with_a_reason_and_counts_again(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", f"{PAGE}<img src=gone.png>")
    page = read(maren, site)
    number = int(re.findall(r'data-finding="(\d+)"', page)[0])

    assert maren.post(f"{site}/checks/ignore", {"findings": [number], "why": ""}).status_code == 422
    ignored = maren.post(f"{site}/checks/ignore", {"findings": [number], "why": "comes on Monday"}).text
    assert "1 finding ignored" in ignored
    assert "comes on Monday" in ignored
    assert "is missing" not in ignored
    assert "is missing" in maren.post(f"{site}/checks/heed/{number}").text


def test_room_is_walked_into_and_what_could_go_becomes_a_plan(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", PAGE)
    write(maren.there, "art/poster.psd", b"8BPS" + bytes(90_000))
    read(maren, site)

    page = maren.get(f"{site}/checks/room").text
    assert "Working files not meant for visitors" in page
    assert "art/, 90.0 kB, 2 items: open" in page
    assert "poster.psd" in maren.get(f"{site}/checks/room?folder=/htdocs/art&colours=age").text
    assert maren.get(f"{site}/checks/room?folder=/nowhere").status_code == 404
    plan = maren.post(f"{site}/checks/savings", {"paths": ["/htdocs/art/poster.psd"]}).text
    assert "Remove 1 file" in plan
    assert maren.post(f"{site}/checks/savings", {"paths": []}).status_code == 422
    assert "no known reason" in maren.get(f"{site}/checks/alone").text


@pytest.mark.parametrize(("at", "status"), [("03:30", 200), ("25:99", 422), ("soon", 422)])
def test_a_site_is_read_by_itself_each_day(maren: Visitor, at: str, status: int) -> None:
    site = maren.open_site()
    answer = maren.post_form(f"{site}/checks/time", each_day="on", at=at)
    assert answer.status_code == status
    assert ("Next" in maren.get(f"{site}/checks").text) is (status == 200)
    maren.post_form(f"{site}/checks/time", at=at)
    assert "Next" not in maren.get(f"{site}/checks").text


def test_the_room_of_a_site_that_was_never_read_leads_to_where_it_is_read(maren: Visitor) -> None:
    site = maren.open_site()
    assert "Scan the site" in maren.get(f"{site}/checks/room?need=5000").text


def test_a_site_without_a_web_address_cannot_be_read_and_says_what_to_do(maren: Visitor) -> None:
    site = maren.open_site_at(maren.add_site(web_address_0=""))
    answer = maren.post(f"{site}/checks/read")
    assert answer.status_code == 422
    assert "which folder each web address shows" in answer.json()["what"]


def test_a_picture_stands_beside_its_smaller_copy_and_becomes_a_plan(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", f"{PAGE}<img src=wide.jpg width=100>")
    write(maren.there, "wide.jpg", photograph(1200, 800, 5, places=True))
    read(maren, site)

    page = maren.get(f"{site}/checks/picture?path=/htdocs/wide.jpg").text
    copy = maren.get(f"{site}/checks/picture/smaller?path=/htdocs/wide.jpg&width=200&quality=80")
    plan = maren.post(f"{site}/checks/picture", {"path": "/htdocs/wide.jpg", "width": 200, "quality": 80}).text

    assert "1200 pixels wide and shown at 100" in page
    assert "contains its location" in page
    assert copy.headers["content-type"] == "image/jpeg"
    assert "sandbox" in copy.headers["content-security-policy"]
    assert "200 pixels wide" in plan
    refused = maren.post(f"{site}/checks/picture", {"path": "/htdocs/wide.jpg", "width": 0, "quality": 80})
    assert refused.status_code == 422


def test_an_upload_says_what_its_pages_lack_and_adds_it(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "index.html", f"{PAGE}<img src=deck.png>")
    write(maren.here, "deck.png", "picture")
    wish = {"to_side": "there", "here": "/studio/moss", "there": "/htdocs", "names": ["index.html"]}
    plan = maren.post(f"{site}/plans/transfer", wish).text
    job = re.search(r'data-job="(\d+)"', plan)
    assert job

    assert "1 file that is here, but neither there nor in this plan" in maren.get(f"/plans/{job[1]}/lacking").text
    assert "2 new" in maren.post(f"/plans/{job[1]}/add-lacking").text


def test_the_ways_in_are_shown_and_a_folder_is_proved_only_by_who_may_change(maren: Visitor) -> None:
    site = maren.open_site()
    page = maren.get(f"{site}/checks/address").text
    assert "http://www.mosslane.example/" in page
    assert "not tested yet" in page
    answer = maren.post(f"{site}/checks/prove").text
    assert "The address does not answer, so nothing could be tested" in answer
    assert list(maren.there.iterdir()) == []
