"""The tray: names picked in several folders are carried as one plan."""

from __future__ import annotations

import re

from nailer.core.jobs.states import JobState
from tests.builders import tree
from tests.web.conftest import Visitor
from tests.web.files.test_files import ended, write

TOP, NEWS = {"here": "/studio/moss", "there": "/htdocs"}, {"here": "/studio/moss/news", "there": "/htdocs/news"}


def test_names_of_several_folders_are_carried_as_one_plan(maren: Visitor) -> None:
    write(maren.here, "a.html", b"a")
    write(maren.here, "news/b.html", b"b")
    write(maren.here, "news/deep/c.html", b"c")
    write(maren.here, "stays.html", b"stays")
    site = maren.open_site()

    maren.post(f"{site}/tray", TOP | {"names": ["a.html"]})
    told = maren.post(f"{site}/tray", NEWS | {"names": ["b.html", "deep"]}).json()

    assert told == {"count": 3, "text": "3 items of 2 folders"}
    page = maren.get(f"{site}/files").text
    assert 'data-test="tray-upload"' in page, "it is there after a reload"
    assert page.count('data-test="in-tray"') == 1
    plan = maren.post(f"{site}/plans/transfer-tray", {"to_side": "there"})
    assert "3 new" in plan.text
    assert "Upload of a.html, b.html, deep from 2 folders" in plan.text
    found = re.search(r'data-job="(\d+)"', plan.text)
    assert found
    job = found[1]
    maren.post(f"/plans/{job}/carry-out", {})
    assert ended(maren, job) is JobState.DONE
    assert tree(maren.there) == {"a.html": b"a", "news/b.html": b"b", "news/deep/c.html": b"c"}


def test_names_are_taken_out_and_a_tray_is_nobody_elses(maren: Visitor) -> None:
    write(maren.here, "a.html", b"a")
    write(maren.here, "b.html", b"b")
    site = maren.open_site()
    maren.post(f"{site}/tray", TOP | {"names": ["a.html", "b.html", "a.html"]})

    assert maren.post(f"{site}/tray/take-out", TOP | {"names": ["a.html"]}).json()["count"] == 1
    other = maren.nailer.people.accounts
    portal = maren.client.portal
    assert portal is not None
    account = portal.call(lambda: other.make("tam", "kelp-and-kittiwake-7", is_admin=True))
    stored = portal.call(maren.nailer.stores.sites.all)
    assert portal.call(lambda: maren.nailer.files.tray.of(account, stored[0])).count == 0
    assert maren.post(f"{site}/tray/empty").json()["count"] == 0
    refused = maren.post(f"{site}/plans/transfer-tray", {"to_side": "there"})
    assert (refused.status_code, "tray first" in refused.text) == (422, True)


def test_a_tray_has_an_end(maren: Visitor) -> None:
    site = maren.open_site()

    refused = maren.post(f"{site}/tray", TOP | {"names": [f"n{number}" for number in range(5001)]})

    assert (refused.status_code, "at most 5000" in refused.text) == (422, True)
