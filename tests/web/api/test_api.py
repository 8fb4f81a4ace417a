"""The API as a program meets it: a night's publishing, the same rights, one doing for one key, and clear problems."""

from __future__ import annotations

import re
import time
from dataclasses import dataclass
from typing import Any

import pytest
from starlette.testclient import TestClient

from nailer.core.people.rights import Right
from tests.builders import write
from tests.web.conftest import Visitor
from tests.web.people.conftest import another, grant, number_of, portal_of

ALL = frozenset(Right)


@dataclass
class Program:
    """Something that holds a token."""

    client: TestClient
    token: str
    site: int

    def ask(self, method: str, address: str, body: Any = None, **headers: str) -> Any:
        given = {"authorization": f"Bearer {self.token}"} | headers
        return self.client.request(method, f"/api/v1{address}", json=body, headers=given)

    def get(self, address: str) -> Any:
        answer = self.ask("GET", address)
        assert answer.status_code == 200, answer.text
        return answer.json()

    def post(self, address: str, body: Any = None, **headers: str) -> Any:
        answer = self.ask("POST", address, body or {}, **headers)
        assert answer.status_code == 200, answer.text
        return answer.json()

    def plan(self, *names: str, **more: Any) -> Any:
        usual = {"here": "/studio/moss", "there": "/htdocs", "names": list(names)}
        return self.post(f"/sites/{self.site}/plans", usual | more)

    def ended(self, job_id: int) -> Any:
        for _ in range(500):
            job = self.get(f"/jobs/{job_id}")
            if job["state"] not in ("waiting", "running"):
                return job
            time.sleep(0.02)
        raise AssertionError(f"it did not end: {job}")


def program(
    visitor: Visitor, name: str, site: int, rights: frozenset[Right] = ALL, sites: set[int] | None = None
) -> Program:
    """A program with a token of somebody."""
    nailer, portal = visitor.nailer, portal_of(visitor)
    account = portal.call(nailer.people.accounts.by_name, name)
    token = portal.call(nailer.people.tokens.make, account.id, "nightly", sites, rights, 30)
    client = TestClient(visitor.client.app)
    client.portal = visitor.client.portal
    return Program(client, token, site)


@pytest.fixture
def nightly(maren: Visitor) -> Program:
    """A program of Maren's on her site, which was met."""
    write(maren.here, "index.html", "new")
    write(maren.there, "index.html", "old", 1_700_000_000)
    write(maren.here, "news/today.html", "today")
    return program(maren, "maren", number_of(maren.open_site()))


def test_a_night_of_publishing(nightly: Program, maren: Visitor) -> None:
    (site,) = nightly.get("/sites")["items"]
    assert (site["name"], site["start_there"], "host" in site) == ("Moss Lane", "/htdocs", True)
    plan = nightly.plan("index.html", "news")
    assert (plan["summary"]["new"], plan["summary"]["replaced"]) == (1, 1)
    assert (maren.there / "index.html").read_text() == "old", "a plan changes nothing"
    items = nightly.get(f"/jobs/{plan['id']}/items")["items"]
    assert {one["target"] for one in items} >= {"/htdocs/index.html", "/htdocs/news/today.html"}

    job = nightly.ended(nightly.post(f"/plans/{plan['id']}/carry-out")["id"])

    assert (job["state"], job["files_done"], job["person"]) == ("done", 2, "maren")
    assert (maren.there / "news" / "today.html").read_text() == "today"
    listed = nightly.get(f"/sites/{nightly.site}/entries?side=there&path=/htdocs")
    assert ([one["name"] for one in listed["items"]], listed["whole"]) == (["index.html", "news"], True)
    back = nightly.post(f"/jobs/{job['id']}/plans/take-back")
    nightly.ended(nightly.post(f"/plans/{back['id']}/carry-out")["id"])
    assert (maren.there / "index.html").read_text() == "old"
    assert "nightly" in maren.get("/account/tokens").text


def test_pages_of_a_listing_and_of_changes_follow_one_another(nightly: Program, maren: Visitor) -> None:
    for number in range(7):
        write(maren.here, f"many/plate-{number}.html")
    seen: list[str] = []
    after: str | None = ""
    while after is not None:
        page = nightly.get(f"/sites/{nightly.site}/entries?side=here&path=/studio/moss/many&limit=3&after={after}")
        seen += [one["name"] for one in page["items"]]
        after = page["next"]
    assert seen == [f"plate-{number}.html" for number in range(7)]

    nightly.ended(nightly.post(f"/plans/{nightly.plan('many')['id']}/carry-out")["id"])
    first = nightly.get(f"/sites/{nightly.site}/changes?limit=5")
    second = nightly.get(f"/sites/{nightly.site}/changes?limit=5&after={first['next']}")
    numbers = [one["id"] for one in (*first["items"], *second["items"])]
    assert numbers == sorted(set(numbers), reverse=True)
    assert second["next"] is None


def test_a_request_with_a_key_is_done_once(nightly: Program) -> None:
    body = {"here": "/studio/moss", "there": "/htdocs", "names": ["index.html"]}
    key = {"idempotency-key": "night-1"}

    first = nightly.post(f"/sites/{nightly.site}/plans", body, **key)
    again = nightly.post(f"/sites/{nightly.site}/plans", body, **key)
    other = nightly.ask("POST", f"/sites/{nightly.site}/plans", body | {"names": ["news"]}, **key)

    assert first == again
    assert (other.status_code, other.json()["kind"]) == (422, "InvalidInput")
    fresh = nightly.post(f"/sites/{nightly.site}/plans", body, **{"idempotency-key": "night-2"})
    assert fresh["id"] != first["id"]
    wrong = {"idempotency-key": "night-3"}
    assert (
        nightly.ask("POST", f"/sites/{nightly.site}/plans", body | {"there": "/nowhere/x/.."}, **wrong).status_code
        == 422
    )
    assert nightly.post(f"/sites/{nightly.site}/plans", body, **wrong)["id"], "a refused one may be tried again"


def test_a_removal_needs_its_word_where_much_goes(nightly: Program, maren: Visitor) -> None:
    for number in range(30):
        write(maren.there, f"old/plate-{number}.html")
    plan = nightly.plan("old", does="remove", to_side="there")
    assert plan["summary"]["removed"] == 30

    if plan["must_type"]:
        refused = nightly.ask("POST", f"/plans/{plan['id']}/carry-out", {})
        assert (refused.status_code, refused.json()["fields"]["typed"]) == (422, plan["must_type"])
    job = nightly.post(f"/plans/{plan['id']}/carry-out", {"typed": plan["must_type"]})

    assert nightly.ended(job["id"])["state"] == "done"
    assert not (maren.there / "old").exists()


def test_a_pair_is_planned_and_brought_into_sync(nightly: Program, maren: Visitor) -> None:
    write(maren.there, "only-there.html", "there")
    (pair,) = nightly.get(f"/sites/{nightly.site}/pairs")["items"]

    plan = nightly.post(f"/pairs/{pair['id']}/sync", {"direction": "publish"})
    assert plan["sent_there"] == 2
    assert not (maren.there / "news").exists()
    run = nightly.post(f"/sync/{plan['token']}/carry-out")
    for job_id in run["jobs"]:
        assert nightly.ended(job_id)["state"] == "done"

    assert (maren.there / "news" / "today.html").read_text() == "today"
    assert nightly.ask("POST", f"/sync/{plan['token']}/carry-out", {}).status_code == 404, "a plan is carried out once"


def test_sieves_and_timers_are_listed_and_a_timer_runs_at_once(nightly: Program, maren: Visitor) -> None:
    (pair,) = nightly.get(f"/sites/{nightly.site}/pairs")["items"]
    wish = {"pair": pair["id"], "name": "Nightly", "every": "daily", "spec": "04:30", "zone": "UTC"}
    assert maren.post("/timers", wish | {"direction": "publish", "removals": "keep"}).status_code == 200
    (timer,) = nightly.get("/timers")["items"]
    assert (timer["name"], timer["on"]) == ("Nightly", True)

    nightly.post(f"/timers/{timer['id']}/run")
    for _ in range(500):
        if (maren.there / "news" / "today.html").exists():
            break
        time.sleep(0.02)

    assert (maren.there / "news" / "today.html").read_text() == "today"
    assert {one["name"] for one in nightly.get("/sieves")["items"]} == {"House rules", "Secrets"}


def test_a_job_is_followed_to_its_end(nightly: Program) -> None:
    job = nightly.post(f"/plans/{nightly.plan('news')['id']}/carry-out")
    headers = {"authorization": f"Bearer {nightly.token}"}

    with nightly.client.stream("GET", f"/api/v1/jobs/{job['id']}/events", headers=headers) as stream:
        said = "".join(stream.iter_text())

    states = re.findall(r'"state":"([a-z-]+)"', said)
    assert states[-1] == "done"


def test_a_token_reaches_no_further_than_it_says(nightly: Program, maren: Visitor) -> None:
    looks = program(maren, "maren", nightly.site, frozenset({Right.LOOK}))
    elsewhere = program(maren, "maren", nightly.site, ALL, sites={nightly.site + 1})

    assert looks.get(f"/sites/{nightly.site}")["rights"] == ["look"]
    body = {"here": "/studio/moss", "there": "/htdocs", "names": ["index.html"]}
    assert looks.ask("POST", f"/sites/{nightly.site}/plans", body).status_code == 403
    assert elsewhere.get("/sites") == {"items": [], "next": None}
    assert elsewhere.ask("GET", f"/sites/{nightly.site}/entries?side=there").status_code == 404
    assert looks.client.get("/sites", headers={"authorization": f"Bearer {looks.token}"}).status_code == 401


def test_a_token_of_a_clerk_ends_at_the_folder(nightly: Program, maren: Visitor) -> None:
    part = grant(Right.LOOK, Right.DOWNLOAD, Right.CHANGE, there="/htdocs/news", here="/studio/moss/news")
    write(maren.there, "news/old.html", "old")
    with another(maren, "clerk", {nightly.site: part}):
        theirs = program(maren, "clerk", nightly.site)
        (site,) = theirs.get("/sites")["items"]
        assert (site["start_there"], sorted(site["rights"])) == ("/htdocs/news", ["change", "download", "look"])
        assert [one["name"] for one in theirs.get(f"/sites/{nightly.site}/entries?side=there")["items"]] == ["old.html"]
        for path in ("/htdocs", "/", "/htdocs/news/../.."):
            answer = theirs.ask("GET", f"/sites/{nightly.site}/entries?side=there&path={path}")
            assert answer.status_code in (403, 422), path
        body = {"here": "/studio/moss", "there": "/htdocs", "names": ["index.html"]}
        assert theirs.ask("POST", f"/sites/{nightly.site}/plans", body).status_code == 403


def test_no_token_an_old_one_and_a_revoked_one_are_told_alike(nightly: Program, maren: Visitor) -> None:
    account = portal_of(maren).call(maren.nailer.people.accounts.by_name, "maren")
    (token,) = portal_of(maren).call(maren.nailer.people.tokens.of_account, account.id)
    assert token.used_at is None
    nightly.get("/sites")
    maren.post_form(f"/account/tokens/{token.id}/revoke")

    for given in ({}, {"authorization": "Bearer nailer_guess"}, {"authorization": "Basic eA=="}):
        answer = nightly.client.get("/api/v1/sites", headers=given)
        assert (answer.status_code, answer.headers["www-authenticate"]) == (401, "Bearer")
        assert answer.headers["content-type"] == "application/problem+json"
    revoked = nightly.ask("GET", "/sites")
    assert (revoked.status_code, revoked.json()["kind"]) == (401, "SignedOut")


def test_a_cookie_opens_nothing_of_the_api(maren: Visitor) -> None:
    assert maren.client.get("/api/v1/sites").status_code == 401
    assert maren.client.post("/api/v1/sites/1/plans", json={}, headers={"x-csrf": maren.csrf}).status_code == 401


def test_a_token_is_made_on_the_page_and_shown_once(maren: Visitor) -> None:
    site = maren.add_site()
    poor = maren.post_form("/account/tokens", name="", days="0")
    made = maren.post_form(
        "/account/tokens", name="Nightly", days="30", right_look="yes", **{f"site_{number_of(site)}": "yes"}
    )
    shown = re.search(r'value="(nailer_[\w-]+)"', made.text)

    assert poor.status_code == 422
    assert shown
    assert shown[1] not in maren.get("/account/tokens").text
    assert shown[1] not in maren.get("/log").text
    listed = maren.client.get("/api/v1/sites", headers={"authorization": f"Bearer {shown[1]}"}).json()
    assert [one["name"] for one in listed["items"]] == ["Moss Lane"]
    described = maren.client.get("/api/v1/openapi.json", headers={"authorization": f"Bearer {shown[1]}"}).json()
    assert described["openapi"].startswith("3.1")
    assert "/api/v1/sites/{site_id}/plans" in described["paths"]
