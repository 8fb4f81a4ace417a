"""Who gets in, and what no page may do."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from typing import Any

import pytest

from nailer.web.shell.guard import cookie_name
from tests.builders import write
from tests.web.conftest import FIRST, PAGE, Visitor

PAGES = ["/sites", "/jobs", "/jobs?show=ended", "/patterns", "/nowhere"]


def test_the_first_visit_makes_the_first_account_and_only_the_first(visitor: Visitor) -> None:
    assert visitor.get("/").url.path == "/first-account"
    visitor.first_account()
    assert visitor.get("/").url.path == "/sites"

    visitor.client.cookies.clear()
    again = visitor.client.post(
        "/first-account", data={"name": "intruder", "password": "x" * 20, "again": "x" * 20}, headers=PAGE
    )

    assert again.url.path == "/sign-in"
    assert visitor.get("/sites").url.path == "/sign-in"


@pytest.mark.parametrize(
    ("fields", "problem"),
    [
        ({"name": "maren", "password": "short", "again": "short"}, "at least 10"),
        ({"name": "maren", "password": "Football2024", "again": "Football2024"}, "too common"),
        ({"name": " ", "password": "long-enough-1", "again": "long-enough-1"}, "1 to 80"),
        ({"name": "maren", "password": "long-enough-1", "again": "long-enough-2"}, "do not match"),
    ],
)
def test_a_poor_first_account_is_refused(visitor: Visitor, fields: dict[str, str], problem: str) -> None:
    word = visitor.nailer.people.accounts.first_word
    response = visitor.client.post("/first-account", data=fields | {"word": word}, headers=PAGE)

    assert (response.status_code, problem in response.text) == (422, True)


@pytest.mark.parametrize("word", ["", "guess", "é", "aaaa-aaaa-aaaa"])
def test_the_first_account_needs_the_word_that_was_printed(visitor: Visitor, word: str) -> None:
    response = visitor.client.post("/first-account", data=FIRST | {"word": word}, headers=PAGE)

    assert (response.status_code, "The setup code is wrong" in response.text) == (422, True)
    assert visitor.get("/").url.path == "/first-account"


@pytest.mark.parametrize("address", ["/sites", "/jobs", "/sites/1/files", "/events", "/sites/1/fetch?side=here&path=/"])
def test_nothing_is_shown_to_strangers(maren: Visitor, address: str) -> None:
    maren.client.cookies.clear()

    page = maren.client.get(address, headers=PAGE, follow_redirects=False)
    assert (page.status_code, page.headers["location"][:8]) == (303, "/sign-in")
    assert maren.client.get(address).status_code == 401
    assert maren.client.post("/sites/1/plans/transfer", json={}).status_code == 401


def test_signing_in_goes_on_to_where_one_was_going(maren: Visitor) -> None:
    maren.client.cookies.clear()
    fields = {"name": "maren", "password": "gannets-and-gorse", "next": "/jobs?show=ended"}

    response = maren.client.post("/sign-in", data=fields, headers=PAGE)

    assert response.url.path == "/jobs"


@pytest.mark.parametrize(
    "target", ["//evil.example/", "https://evil.example/", "/\\evil.example", "javascript:alert(1)"]
)
def test_signing_in_never_leads_to_another_website(maren: Visitor, target: str) -> None:
    fields = {"name": "maren", "password": "gannets-and-gorse", "next": target}

    response = maren.client.post("/sign-in", data=fields, headers=PAGE, follow_redirects=False)

    assert response.headers["location"] == "/"


def test_refused_sign_ins_are_slowed_down_even_for_the_right_password(maren: Visitor) -> None:
    maren.client.cookies.clear()
    for _ in range(4):
        wrong = maren.client.post("/sign-in", data={"name": "maren", "password": "wrong"}, headers=PAGE)
        assert wrong.status_code == 403

    right = maren.client.post("/sign-in", data={"name": "maren", "password": "gannets-and-gorse"}, headers=PAGE)

    assert "Try again in" in right.text
    assert cookie_name(secure=False) not in maren.client.cookies


def test_signing_out_ends_the_session_on_the_server(maren: Visitor) -> None:
    token = maren.client.cookies[cookie_name(secure=False)]
    maren.post_form("/sign-out")
    maren.client.cookies.set(cookie_name(secure=False), token)

    assert maren.client.get("/sites").status_code == 401


def test_the_session_cookie_is_out_of_reach_of_scripts(visitor: Visitor) -> None:
    visitor.first_account()
    response = visitor.client.post(
        "/sign-in", data={"name": "maren", "password": "gannets-and-gorse"}, headers=PAGE, follow_redirects=False
    )

    assert "HttpOnly" in response.headers["set-cookie"]
    assert "samesite=lax" in response.headers["set-cookie"].lower()


def test_a_request_without_the_token_changes_nothing(maren: Visitor) -> None:
    for send in (
        lambda: maren.client.post("/sites", data={"name": "x"}),
        lambda: maren.client.post("/sites", data={"name": "x", "csrf": "guessed"}),
        lambda: maren.client.post("/sites/1/plans/transfer", json={}),
        lambda: maren.client.post("/jobs/1/stop", headers={"x-csrf": "guessed"}),
        lambda: maren.client.put("/drops/1/items/1", content=b"x"),
    ):
        assert send().status_code == 403


def test_a_request_from_another_website_is_refused_even_with_the_token(maren: Visitor) -> None:
    csrf = maren.csrf

    for more in ({"sec-fetch-site": "cross-site"}, {"origin": "https://evil.example"}):
        response = maren.client.post("/jobs/1/stop", headers={"x-csrf": csrf} | more)
        assert (response.status_code, "another website" in response.text) == (403, True)


@pytest.mark.parametrize("address", PAGES)
def test_every_answer_is_strict_about_scripts(maren: Visitor, address: str) -> None:
    response = maren.get(address)

    policy = response.headers["content-security-policy"]
    assert "script-src 'self'" in policy
    assert "unsafe" not in policy
    assert response.headers["x-content-type-options"] == "nosniff"
    assert response.headers["cache-control"] == "no-store"


class _Inline(HTMLParser):
    """Finds what a strict policy would block: scripts, styles and handlers written into a page."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, Any]]) -> None:
        names = dict(attrs)
        if tag == "script" and "src" not in names and names.get("type") != "application/json":
            self.found.append("script")
        if tag == "style" or "style" in names:
            self.found.append(f"style in {tag}")
        self.found += [f"{name} in {tag}" for name in names if re.fullmatch(r"on[a-z]+", name)]


@pytest.mark.parametrize("address", [*PAGES, "files", "changes", "settings"])
def test_no_page_holds_what_the_policy_blocks(maren: Visitor, address: str) -> None:
    if not address.startswith("/"):
        address = f"{maren.open_site()}/{address}"
    parser = _Inline()

    parser.feed(maren.get(address).text)

    assert parser.found == []


def test_assets_are_kept_for_long_and_cannot_climb(maren: Visitor) -> None:
    page = maren.get("/sites").text
    style = re.search(r'href="(/static/[^"]+app\.css)"', page)
    assert style

    response = maren.client.get(style[1])
    assert "immutable" in response.headers["cache-control"]
    for climb in (
        "/static/x/../../app.py",
        "/static/x/%2e%2e/app.py",
        "/static/x/..%2f..%2fapp.py",
        "/static/x//etc/passwd",
    ):
        assert maren.client.get(climb).status_code in (404, 401)


def test_markup_in_names_is_text(maren: Visitor) -> None:
    name = "<img src=x onerror=alert(1)>.html"
    write(maren.there, name)
    site = maren.open_site()

    page = maren.get(f"{site}/files").text

    assert "<img src=x" not in page
    assert "&lt;img src=x onerror=alert(1)&gt;.html" in page


def test_another_site_of_the_same_domain_is_another_site(maren: Visitor) -> None:
    """`same-site` is somebody else's page under a name beside ours."""
    site = maren.open_site()

    answer = maren.post(f"{site}/guards", {}, **{"Sec-Fetch-Site": "same-site"})

    assert answer.status_code == 403
    assert "another website" in answer.json()["what"]
