"""A person's own settings, and what they change."""

from __future__ import annotations

import html
import json
import re

from tests.web.conftest import Visitor
from tests.web.files.test_files import write

USUAL = {"text_px": "13", "column_times": "yes", "column_permissions": "yes"}


def test_what_is_chosen_changes_the_pages_and_outlasts_the_session(maren: Visitor) -> None:
    write(maren.there, "a.html")
    site = maren.open_site()

    stored = maren.post_form(
        "/account/preferences",
        **USUAL,
        first_page="last",
        theme="dark",
        density="close",
        double_click="edit",
        zone="Asia/Tokyo",
        key_upload="x",
        wraps="yes",
    )

    assert "Preferences saved." in stored.text
    page = maren.get(f"{site}/files").text
    assert 'data-wanted-theme="dark" data-density="close"' in page
    assert 'data-double="edit"' in page
    assert "no-kind" in page
    keys = re.search(r'data-keys="([^"]*)"', page)
    assert keys
    acts = json.loads(html.unescape(keys[1]))
    assert (acts["x"], "u" in acts, "?" in acts) == ("upload", False, False)
    assert str(maren.client.get("/", headers={"accept": "text/html"}).url).endswith(
        "/files?here=/studio/moss&there=/htdocs"
    )
    editor = maren.get(f"{site}/edit?side=there&path=/htdocs/a.html").text
    assert 'data-wraps="yes"' in editor


def test_a_slip_is_said_beside_its_field_and_stores_nothing(maren: Visitor) -> None:
    for slip, said in (
        ({"zone": "Mars/Olympus"}, "from the list"),
        ({"key_upload": "d"}, "already"),
        ({"text_px": "9"}, "From 11 to 24"),
        ({"theme": "neon"}, "not available"),
    ):
        answer = maren.post_form("/account/preferences", **(USUAL | slip))
        assert answer.status_code == 422, slip
        assert said in answer.text or "Nothing was saved" in answer.text or said in str(answer.text), slip
    assert 'data-wanted-theme="device"' in maren.get("/sites").text


def test_times_are_those_of_the_persons_zone(maren: Visitor) -> None:
    write(maren.there, "a.html")
    site = maren.open_site()
    here = maren.get(f"{site}/files").text
    maren.post_form("/account/preferences", **USUAL, zone="Pacific/Kiritimati")

    there = maren.get(f"{site}/files").text

    times = [re.findall(r'class="t num muted when"[^>]*>([^<]*)<', page) for page in (here, there)]
    assert times[0] != times[1]
