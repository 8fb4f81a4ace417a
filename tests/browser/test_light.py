"""How much a page asks of a line: a cold first view of each main view, in requests and in bytes."""

from __future__ import annotations

import pytest

from tests.browser.pages import Files

pytestmark = pytest.mark.browser

MOST_REQUESTS, MOST_BYTES, MOST_BYTES_EDITOR = 20, 250_000, 550_000
EDITOR = "/sites/1/edit?side=there&path=/htdocs/index.html"
VIEWS = [
    "/sites",
    "/sites/add",
    "/sites/1/files",
    "/sites/1/sync",
    "/sites/1/search?side=there",
    "/sites/1/changes",
    "/sites/1/checks",
    "/sites/1/packages",
    "/sites/1/copies",
    "/sites/1/recovery",
    "/sites/1/connection",
    "/sites/1/settings",
    "/sites/1/permissions?side=there&path=/htdocs&names=index.html/img",
    EDITOR,
    "/jobs",
    "/timers",
    "/sieves",
    "/drafts",
    "/account",
    "/help",
]
ASKED = """
const all = [...performance.getEntriesByType("navigation"), ...performance.getEntriesByType("resource")];
return [all.length, all.reduce((sum, one) => sum + one.transferSize, 0), all.map((one) => one.name)];
"""


def test_a_first_view_asks_little_of_a_line(maren: Files) -> None:
    maren.go("/sites/1/files")
    heavy = {}
    for view in VIEWS:
        maren.driver.execute_cdp_cmd("Network.clearBrowserCache", {})
        maren.go(view)
        maren.driver.execute_async_script("setTimeout(arguments[0], 1000)")
        requests, size, names = maren.driver.execute_script(ASKED)
        assert size > 50_000, "the browser had it already, and nothing was measured"
        if requests > MOST_REQUESTS or size > (MOST_BYTES_EDITOR if view == EDITOR else MOST_BYTES):
            heavy[view] = (requests, size, names)

    assert heavy == {}
