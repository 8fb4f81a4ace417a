"""Large files in parts: what came stays, and goes on where it was when the same file is dropped again."""

from __future__ import annotations

import os
import re
import time
from typing import Any

import pytest

from nailer.core.jobs.states import JobState
from tests.web.conftest import Visitor
from tests.web.files.test_files import ended

CONTENT = os.urandom(300_000)
FILE = {"below": ["plate.tif"], "size": len(CONTENT), "modified_ms": 1_764_000_000_000}


class Sender:
    """A browser that sends one large file in parts."""

    def __init__(self, maren: Visitor, site: str, file: dict[str, Any] = FILE) -> None:
        self.maren = maren
        body = {"to_side": "there", "folder": "/htdocs", "files": [file]}
        plan = maren.post(f"{site}/plans/drop", body).text
        found = re.search(r'data-job="(\d+)"', plan)
        assert found, plan
        self.job = found[1]
        maren.post(f"/plans/{self.job}/carry-out", {})
        (item,) = maren.post(f"/drops/{self.job}/begin").json()["items"].values()
        self.address = f"/drops/{self.job}/items/{item}"

    @property
    def come(self) -> int:
        answer = self.maren.client.head(self.address)
        assert answer.headers["upload-complete"] == "?0"
        return int(answer.headers["upload-offset"])

    def send(self, at: int, until: int, *, last: bool = False, begins: int | None = None) -> Any:
        headers = {
            "x-csrf": self.maren.csrf,
            "content-type": "application/partial-upload",
            "upload-offset": str(at if begins is None else begins),
            "upload-complete": "?1" if last else "?0",
        }
        return self.maren.client.patch(self.address, content=CONTENT[at:until], headers=headers)


@pytest.fixture
def site(maren: Visitor) -> str:
    return maren.open_site()


def test_the_same_file_dropped_again_goes_on_where_it_was(maren: Visitor, site: str) -> None:
    first = Sender(maren, site)
    assert first.come == 0
    assert first.send(0, 100_000).headers["upload-offset"] == "100000"
    maren.post(f"/jobs/{first.job}/stop")
    time.sleep(0.1)

    again = Sender(maren, site)

    assert again.come == 100_000
    assert again.send(100_000, 200_000).json() == {"problem": None}
    assert not (maren.there / "plate.tif").exists(), "nothing lands before it is whole"
    assert again.send(200_000, 300_000, last=True).json() == {"problem": None}
    assert (maren.there / "plate.tif").read_bytes() == CONTENT
    assert ended(maren, again.job) is JobState.DONE
    left = list((maren.nailer.settings.home / "arriving").iterdir())
    assert left == [], "what has landed is kept no longer"


def test_a_part_at_another_place_is_refused_and_costs_nothing(maren: Visitor, site: str) -> None:
    sender = Sender(maren, site)
    sender.send(0, 100_000)

    wrong = sender.send(100_000, 200_000, begins=50_000)
    short = sender.send(100_000, 200_000, last=True)
    missing = maren.client.patch(sender.address, content=b"x", headers={"x-csrf": maren.csrf})

    assert (wrong.status_code, "100000" in wrong.text) == (409, True)
    assert (short.status_code, "Only 200000 of 300000" in short.text) == (409, True)
    assert missing.status_code == 422
    assert sender.come == 200_000
    assert sender.send(0, 200_000, begins=200_000).status_code == 409, "more than the file has"


def test_another_file_of_that_name_begins_anew(maren: Visitor, site: str) -> None:
    Sender(maren, site).send(0, 100_000)

    assert Sender(maren, site, FILE | {"modified_ms": FILE["modified_ms"] + 1000}).come == 0
    assert Sender(maren, site).come == 100_000


def test_what_nobody_came_back_to_goes_after_a_week(maren: Visitor, site: str) -> None:
    Sender(maren, site).send(0, 100_000)
    (part,) = (maren.nailer.settings.home / "arriving").iterdir()
    assert part.stat().st_mode & 0o777 == 0o600
    long_ago = time.time() - 8 * 86_400
    os.utime(part, (long_ago, long_ago))

    assert Sender(maren, site).come == 0
