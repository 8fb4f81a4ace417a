"""One page: why it is broken, both sides of it in frames of another origin, and another first page."""

from __future__ import annotations

import re

import pytest
from starlette.testclient import TestClient

from nailer.web.checks.views import create_views
from tests.builders import write
from tests.web.conftest import Visitor

PAGE = "<!doctype html><title>Moss Lane</title><img src=/a.png>"


def views_of(visitor: Visitor) -> TestClient:
    return TestClient(create_views(visitor.nailer), base_url="http://127.0.0.1:9")


def opened(visitor: Visitor, site: str) -> str:
    """Open both sides of the first page; return the name of the view."""
    visitor.client.app.state.view_port = 9  # type: ignore[attr-defined]
    page = visitor.get(f"{site}/checks/apart").text
    found = re.search(r'src="http://testserver:9/([0-9a-f]{32})/here/"', page)
    assert found, page
    return found[1]


def test_a_page_is_looked_at_by_its_path_and_leads_on(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "fares.html", "")
    write(maren.here, "fares.html", PAGE)
    page = maren.get(f"{site}/checks/broken?path=/htdocs/fares.html").text
    assert 'value="https://mosslane.example/fares.html"' in page
    found = maren.get(f"{site}/checks/broken/look?address=/htdocs/fares.html").text
    assert "Nothing answers at this address" in found
    assert "Open the checks" in found
    assert "fares.html" in found


def test_what_is_no_page_of_the_site_is_said(maren: Visitor) -> None:
    site = maren.open_site()
    assert "is no page of this site" in maren.get(f"{site}/checks/broken/look?address=x").text
    assert "<script>" not in maren.get(f"{site}/checks/broken?address=<script>alert(1)</script>").text


def test_views_that_are_not_served_are_said(maren: Visitor) -> None:
    site = maren.open_site()
    assert "Views are not served here" in maren.get(f"{site}/checks/apart").text


def test_both_sides_are_framed_from_another_origin_and_nothing_else_is(maren: Visitor) -> None:
    site = maren.open_site()
    opened(maren, site)
    answer = maren.get(f"{site}/checks/apart")
    policy = answer.headers["content-security-policy"]
    assert "frame-src http://testserver:9;" in policy
    assert "script-src 'self';" in policy
    assert answer.text.count('sandbox="allow-scripts"') == 2


def test_the_settings_say_where_views_are_reached(maren: Visitor) -> None:
    site = maren.open_site()
    maren.nailer.settings.view_address = "https://views.nailer.example/"
    page = maren.get(f"{site}/checks/apart")
    assert "frame-src https://views.nailer.example;" in page.headers["content-security-policy"]


def test_a_view_runs_in_a_sandbox_and_knows_no_session(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "index.html", PAGE)
    token = opened(maren, site)
    answer = views_of(maren).get(f"/{token}/here/")
    assert answer.status_code == 200
    assert f"/{token}/here/a.png" in answer.text
    policy = answer.headers["content-security-policy"]
    assert policy.startswith("sandbox allow-scripts;")
    assert "allow-same-origin" not in policy
    assert "frame-ancestors http://testserver 'self'" in policy
    assert answer.headers["referrer-policy"] == "no-referrer"
    assert "set-cookie" not in answer.headers
    told = maren.get(f"{site}/checks/apart/{token}").text
    assert "1 request" in told


@pytest.mark.parametrize(
    "address", ["/", "/x", "/health", "/sites", "/static/x.js", "/{token}/other/", "/" + "0" * 32 + "/here/"]
)
def test_the_views_serve_nothing_else(maren: Visitor, address: str) -> None:
    token = opened(maren, maren.open_site())
    answer = views_of(maren).get(address.replace("{token}", token))
    assert answer.status_code == 404
    assert views_of(maren).post(f"/{token}/here/").status_code == 405


def test_a_view_of_somebody_else_is_not_told(maren: Visitor) -> None:
    site = maren.open_site()
    assert maren.get(f"{site}/checks/apart/{'0' * 32}").status_code == 404


def test_a_page_becomes_the_first_page_by_a_plan(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "winter.html", PAGE)
    plan = maren.post(f"{site}/checks/first-page", {"path": "/studio/moss/winter.html", "side": "here"}).text
    assert "there is none yet" in plan
    assert "it is put back by itself" in plan
    job = re.search(r'data-job(?:-id)?="(\d+)"|/plans/(\d+)', plan)
    assert job
    assert "fetched before and after" in maren.get(f"/jobs/{job[1] or job[2]}").text


def test_a_page_may_become_the_first_page_and_other_names_may_not(maren: Visitor) -> None:
    site = maren.open_site()
    for name in ("winter.html", "index.html", "a.png"):
        write(maren.here, name, PAGE)

    def offers(name: str) -> bool:
        wish = {"here": "/studio/moss", "there": "/htdocs", "names": [name]}
        return "Make it the first page" in maren.post(f"{site}/inspect", wish).text

    assert offers("winter.html")
    assert not offers("index.html")
    assert not offers("a.png")
