"""One page: why it is broken, both sides of it in frames of another origin, and another first page."""

from __future__ import annotations

import re

import pytest
from starlette.testclient import TestClient

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.site.apart import Got
from nailer.services.checks import PageView, SideView, Viewer
from nailer.web.checks.views import _answer, create_views
from tests.builders import a_site, write
from tests.web.conftest import Visitor

PAGE = "<!doctype html><title>Moss Lane</title><img src=/a.png>"


def views_of(visitor: Visitor) -> TestClient:
    return TestClient(create_views(visitor.nailer), base_url="http://testserver:9")


def opened(visitor: Visitor, site: str, asked: str = "") -> tuple[str, str, str]:
    """Open both sides of the first page; return the view's name and the addresses of its sides, here and live."""
    visitor.client.app.state.view_port = 9  # type: ignore[attr-defined]
    page = visitor.get(f"{site}/checks/apart{asked}").text
    found = re.findall(r'src="http://testserver:9(/[0-9a-f]{32}/)"', page)
    assert len(found) == 2, page
    token = re.search(r'data-token="([0-9a-f]{32})"', page)
    assert token
    return token[1], found[0], found[1]


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
    assert "is not a page of this site" in maren.get(f"{site}/checks/broken/look?address=x").text
    assert "<script>" not in maren.get(f"{site}/checks/broken?address=<script>alert(1)</script>").text


def test_views_that_are_not_served_are_said(maren: Visitor) -> None:
    site = maren.open_site()
    assert "The page view is not available" in maren.get(f"{site}/checks/apart").text


def test_both_sides_are_framed_from_another_origin_and_nothing_else_is(maren: Visitor) -> None:
    site = maren.open_site()
    opened(maren, site)
    answer = maren.get(f"{site}/checks/apart")
    policy = answer.headers["content-security-policy"]
    assert re.search(r"frame-src http://testserver:9/[0-9a-f]{32}/ http://testserver:9/[0-9a-f]{32}/;", policy)
    assert "script-src 'self';" in policy
    assert answer.text.count('sandbox=""') == 2, "scripts do not run unless somebody wants them to"
    assert maren.get(f"{site}/checks/apart?scripts=yes").text.count('sandbox="allow-scripts"') == 2


def test_the_settings_say_where_views_are_reached(maren: Visitor) -> None:
    site = maren.open_site()
    maren.nailer.settings.view_address = "https://{view}.views.nailer.example/"
    page = maren.get(f"{site}/checks/apart")
    origins = set(re.findall(r"https://([0-9a-f]{16})[.]views[.]nailer[.]example/[0-9a-f]{32}/", page.text))
    assert len(origins) == 2, "each side has an origin of its own"
    assert all(one in page.headers["content-security-policy"] for one in origins)


def test_on_this_machine_each_side_has_a_name_below_localhost(maren: Visitor) -> None:
    site = maren.open_site()
    maren.client.app.state.view_port = 9  # type: ignore[attr-defined]
    signed_in = {"accept": "text/html", "cookie": f"nailer={maren.client.cookies['nailer']}"}
    page = maren.client.get(f"http://127.0.0.1:8642{site}/checks/apart", headers=signed_in)
    assert len(set(re.findall(r"http://([0-9a-f]{16})[.]localhost:9/", page.text))) == 2


def test_a_view_is_in_a_sandbox_and_knows_no_session(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "index.html", PAGE + "<link rel=preconnect href=//spy.example>")
    token, here, live = opened(maren, site)
    answer = views_of(maren).get(here)
    assert answer.status_code == 200
    assert f"{here}a.png" in answer.text
    assert "spy.example" not in answer.text
    policy = answer.headers["content-security-policy"]
    assert "sandbox;" in policy
    assert "script-src 'none'; connect-src 'none'" in policy
    assert "webrtc 'block'" in policy
    assert f"img-src http://testserver:9{here} data:;" in policy
    assert live.strip("/") not in policy
    assert "frame-ancestors http://testserver http://testserver:9" in policy
    assert answer.headers["referrer-policy"] == "no-referrer"
    assert answer.headers["access-control-allow-origin"] == "null"
    assert "set-cookie" not in answer.headers
    told = maren.get(f"{site}/checks/apart/{token}").text
    assert "1 request" in told


def test_scripts_run_where_somebody_wants_them_and_still_have_no_origin(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "index.html", PAGE)
    _, here, _ = opened(maren, site, "?scripts=yes")
    policy = views_of(maren).get(here).headers["content-security-policy"]
    assert "sandbox allow-scripts;" in policy
    assert "allow-same-origin" not in policy
    assert "require-trusted-types-for 'script'; trusted-types default" in policy
    assert "RTCPeerConnection" in views_of(maren).get(here).text.partition("<title>")[0], "ours is the first script"
    assert f"connect-src http://testserver:9{here}" in policy


def test_a_view_ends_as_its_person_signs_out(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "index.html", PAGE)
    _, here, live = opened(maren, site)
    portal = maren.client.portal
    assert portal is not None
    assert views_of(maren).get(here).status_code == 200
    maren.post_form("/sign-out")
    assert [views_of(maren).get(one).status_code for one in (here, live)] == [404, 404]


@pytest.mark.parametrize("host", ["127.0.0.1:9", "evil.example", "localhost:9", "[::1", "x.testserver"])
def test_views_answer_at_the_host_they_were_opened_for(maren: Visitor, host: str) -> None:
    _, here, _ = opened(maren, maren.open_site())
    assert views_of(maren).get(here, headers={"host": host}).status_code in (400, 404)


@pytest.mark.parametrize(
    "address", ["/", "/x", "/health", "/sites", "/static/x.js", "/{token}/", "/" + "0" * 32 + "/here/"]
)
def test_the_views_serve_nothing_else(maren: Visitor, address: str) -> None:
    token, here, _ = opened(maren, maren.open_site())
    answer = views_of(maren).get(address.replace("{token}", token))
    assert answer.status_code == 404
    assert views_of(maren).post(here).status_code == 405


@pytest.mark.parametrize("status", [999, 600, 299, 100, 42])
def test_a_status_that_no_standard_knows_is_an_answer(status: int) -> None:
    side = SideView("0" * 32, "http://x.localhost:9")
    viewer = Viewer(1, 1, "http://127.0.0.1:8642")
    root = DocumentRoot(SitePath.parse(b"/htdocs"), "https://a.example/")
    view = PageView("t", viewer, a_site(), root, "", 0.0, {SideName.HERE: side, SideName.THERE: side})
    answer = _answer(view, side, Got(status, 2), b"hi")
    assert answer.status_code == 502
    assert str(status).encode() in bytes(answer.body)


def test_a_view_of_somebody_else_is_not_told(maren: Visitor) -> None:
    site = maren.open_site()
    assert maren.get(f"{site}/checks/apart/{'0' * 32}").status_code == 404


def test_a_page_becomes_the_first_page_by_a_plan(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "winter.html", PAGE)
    plan = maren.post(f"{site}/checks/first-page", {"path": "/studio/moss/winter.html", "side": "here"}).text
    assert "there is none yet" in plan
    assert "takes the change back automatically" in plan
    job = re.search(r'data-job(?:-id)?="(\d+)"|/plans/(\d+)', plan)
    assert job
    assert "before and after" in maren.get(f"/jobs/{job[1] or job[2]}").text


def test_a_page_may_become_the_first_page_and_other_names_may_not(maren: Visitor) -> None:
    site = maren.open_site()
    for name in ("winter.html", "index.html", "a.png"):
        write(maren.here, name, PAGE)

    def offers(name: str) -> bool:
        wish = {"here": "/studio/moss", "there": "/htdocs", "names": [name]}
        return "Make it the start page" in maren.post(f"{site}/inspect", wish).text

    assert offers("winter.html")
    assert not offers("index.html")
    assert not offers("a.png")
