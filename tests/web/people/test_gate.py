"""The gate before sign-in details, tokens and permissions; what a password change ends; streams and jobs end with rights."""

from __future__ import annotations

import asyncio
import json
import threading
from typing import Any

import pyotp
import pytest

from nailer.core.people.rights import Right
from nailer.services.people import gate
from nailer.web.shell.policy import GATED
from tests.builders import write
from tests.web.conftest import PAGE, Visitor
from tests.web.people.conftest import another, grant, number_of, portal_of
from tests.web.shell.test_fuzz import routes


def sent(visitor: Visitor, address: str, **form: str) -> Any:
    """A form sent once, whatever is answered."""
    data = {"csrf": visitor.csrf} | form
    return visitor.client.post(address, data=data, headers=PAGE, follow_redirects=False)


def leads_to_the_gate(answer: Any) -> bool:
    return answer.status_code == 303 and answer.headers["location"].startswith("/account/confirm")


@pytest.mark.parametrize("address", sorted(GATED))
def test_no_credential_token_or_right_is_changed_before_somebody_proves_who_they_are(
    maren: Visitor, address: str
) -> None:
    """Also just after the sign-in: an open session is not its person."""
    own = portal_of(maren).call(maren.nailer.people.accounts.by_name, "maren").id
    path = address.removeprefix("POST ").replace("{account_id}", str(own))

    asked = sent(maren, path, code="123456", name="x", days="30", all="yes", right_look="yes", site="1")
    script = maren.client.post(path, json={"credential": {}, "name": "x"}, headers={"x-csrf": maren.csrf})

    assert leads_to_the_gate(asked)
    assert (script.status_code, script.json()["kind"]) == (403, "ConfirmFirst")
    proofs = portal_of(maren).call(maren.nailer.people.second.of, own)
    assert not proofs.has_codes
    assert not portal_of(maren).call(maren.nailer.people.tokens.of_account, own)


def test_the_gate_knows_every_route_that_it_keeps() -> None:
    assert {f"{method} {route.path}" for method, route in routes()} >= GATED


def test_the_gate_opens_by_the_password_for_some_minutes(maren: Visitor, monkeypatch: pytest.MonkeyPatch) -> None:
    wanted = {"name": "ci", "days": "30", "all": "yes", "right_look": "yes"}
    assert leads_to_the_gate(sent(maren, "/account/tokens", **wanted))

    maren.confirm()

    assert sent(maren, "/account/tokens", **wanted).status_code == 200
    monkeypatch.setattr(gate.time, "monotonic", lambda: __import__("time").perf_counter() + 10**9)
    assert leads_to_the_gate(sent(maren, "/account/tokens", **wanted))


def test_the_gate_opens_by_a_code_of_the_second_factor_once(maren: Visitor) -> None:
    portal, nailer = portal_of(maren), maren.nailer
    account_id = portal.call(nailer.people.accounts.by_name, "maren").id
    portal.call(nailer.stores.proofs.set_codes, account_id, pyotp.random_base32(), 0, ["abcde-fgh23", "stuvw-xyz45"])
    wanted = {"name": "ci", "days": "30", "all": "yes", "right_look": "yes"}

    def _proved(proof: str) -> bool:
        nailer.people.gate._open_until_s.clear()
        form = {"csrf": maren.csrf, "proof": proof, "next": "/account"}
        maren.client.post("/account/confirm", data=form, headers=PAGE)
        return not leads_to_the_gate(sent(maren, "/account/tokens", **wanted))

    assert [_proved(one) for one in ("abcde-fgh23", "abcde-fgh23", "000000")] == [True, False, False]
    assert _proved(maren.password)


def test_the_gate_of_one_session_is_not_open_for_another(maren: Visitor) -> None:
    maren.confirm()
    with another(maren, "tam", {}) as tam:
        assert leads_to_the_gate(sent(tam, "/account/tokens", name="x", days="3", all="yes", right_look="yes"))


def test_guesses_at_the_gate_are_counted_and_end_the_session(maren: Visitor) -> None:
    with another(maren, "tam", {}) as tam:
        csrf = tam.csrf
        answers = [
            tam.client.post("/account/confirm", data={"csrf": csrf, "proof": f"guess-{n}"}, headers=PAGE)
            for n in range(12)
        ]

        assert any("Try again in" in one.text for one in answers)
        assert tam.client.get("/sites", headers=PAGE).url.path == "/sign-in"


def test_the_gate_leads_back_to_a_page_of_ours_only(maren: Visitor) -> None:
    form = {"csrf": maren.csrf, "proof": maren.password, "next": "//evil.example/"}
    answer = maren.client.post("/account/confirm", data=form, headers=PAGE, follow_redirects=False)
    assert answer.headers["location"] == "/"


def test_a_password_change_ends_tokens_and_sessions_but_those_that_stay(maren: Visitor) -> None:
    portal, nailer = portal_of(maren), maren.nailer
    with another(maren, "tam", {}) as tam:
        mine = portal.call(nailer.people.accounts.session, tam.client.cookies["nailer"])
        others = [sign_in_again(tam) for _ in range(2)]
        tokens = [
            portal.call(nailer.people.tokens.make, mine.account_id, f"t{n}", None, [Right.LOOK], 3) for n in (1, 2)
        ]
        known = {one.name: one.id for one in portal.call(nailer.people.tokens.of_account, mine.account_id)}
        kept = portal.call(nailer.people.accounts.session, others[0])

        change = {"old": tam.password, "password": "kelp-and-kittiwake", "again": "kelp-and-kittiwake"}
        tam.post_form("/account/password", **change, **{f"session_{kept.id}": "stays", f"token_{known['t1']}": "stays"})

        left = [portal.call(nailer.people.accounts.session, one) is not None for one in others]
        assert left == [True, False]
        assert tam.get("/sites").url.path == "/sites"
        assert [api_status(maren, one) for one in tokens] == [200, 401]


def sign_in_again(visitor: Visitor) -> str:
    portal, from_ = portal_of(visitor), __import__("nailer.services.people", fromlist=["From"]).From("192.0.2.9")
    token: str = portal.call(visitor.nailer.people.accounts.sign_in, "tam", visitor.password, from_)
    return token


def api_status(visitor: Visitor, token: str) -> int:
    headers = {"authorization": f"Bearer {token}"}
    status: int = visitor.client.get("/api/v1/sites", headers=headers).status_code
    return status


class Listening:
    """A stream of events that is read beside the test."""

    def __init__(self, visitor: Visitor, address: str, **headers: str) -> None:
        self.told = b""
        self._args = (visitor, address, headers)
        self.thread = threading.Thread(target=self._listen, daemon=True)
        self.thread.start()

    def _listen(self) -> None:
        visitor, address, headers = self._args
        with visitor.client.stream("GET", address, headers=headers) as stream:
            for part in stream.iter_raw():
                self.told += part

    def ended(self) -> bool:
        self.thread.join(20)
        return not self.thread.is_alive()


def wait_for_stream(maren: Visitor) -> None:
    for _ in range(500):
        if maren.nailer.people.streams._open:
            return
        threading.Event().wait(0.01)
    raise AssertionError("no stream was opened")


def test_a_stream_tells_nothing_of_a_site_that_was_taken(maren: Visitor) -> None:
    """The stream goes on, under what its person may know by now."""
    write(maren.here, "secret-plan.html", "x")
    site = maren.open_site()
    nailer, portal = maren.nailer, portal_of(maren)
    with another(maren, "tam", {number_of(site): grant(*Right)}) as tam:
        account_id = portal.call(nailer.people.accounts.by_name, "tam").id
        stored = portal.call(nailer.stores.sites.get, number_of(site))
        listening = Listening(tam, "/events?since=0")
        wait_for_stream(maren)

        portal.call(nailer.people.rights.take, account_id, stored)
        transfer(maren, site, "secret-plan.html")
        portal.call(nailer.people.accounts.end_others, account_id)

        assert listening.ended()
    assert b"secret-plan" not in listening.told


def test_a_programs_stream_ends_as_its_token_is_revoked(maren: Visitor) -> None:
    write(maren.here, "a.html", "x")
    site = maren.open_site()
    nailer, portal = maren.nailer, portal_of(maren)
    job_id = plan(maren, site, "a.html")
    account_id = portal.call(nailer.people.accounts.by_name, "maren").id
    token = portal.call(nailer.people.tokens.make, account_id, "ci", None, list(Right), 3)
    listening = Listening(maren, f"/api/v1/jobs/{job_id}/events", authorization=f"Bearer {token}")
    wait_for_stream(maren)

    (known,) = portal.call(nailer.people.tokens.of_account, account_id)
    portal.call(nailer.people.tokens.revoke, account_id, known.id)

    assert listening.ended()


def test_a_token_and_a_person_have_only_so_many_streams(maren: Visitor) -> None:
    write(maren.here, "a.html", "x")
    site = maren.open_site()
    nailer, portal = maren.nailer, portal_of(maren)
    job_id = plan(maren, site, "a.html")
    account_id = portal.call(nailer.people.accounts.by_name, "maren").id
    token = portal.call(nailer.people.tokens.make, account_id, "ci", None, list(Right), 3)
    (known,) = portal.call(nailer.people.tokens.of_account, account_id)
    headers = {"authorization": f"Bearer {token}"}

    nailer.people.streams._open[f"token {known.id}".encode()] = 24
    of_token = maren.client.get(f"/api/v1/jobs/{job_id}/events", headers=headers)
    nailer.people.streams._open.clear()
    nailer.people.streams._of_person[account_id] = 60
    of_person = [maren.client.get(f"/api/v1/jobs/{job_id}/events", headers=headers), maren.client.get("/events")]

    assert of_token.status_code == 503
    assert [one.status_code for one in of_person] == [503, 503]


def plan(visitor: Visitor, site: str, name: str) -> int:
    body = {"here": "/studio/moss", "there": "/htdocs", "names": [name], "to_side": "there", "resend_same": True}
    return int(visitor.post(f"{site}/plans/transfer", body).text.split('data-job="')[1].split('"')[0])


def transfer(visitor: Visitor, site: str, name: str) -> None:
    job_id = plan(visitor, site, name)
    visitor.post(f"/plans/{job_id}/carry-out", {"choice": "replace"})

    async def _ended() -> None:
        while (await visitor.nailer.stores.jobs.get(job_id)).state in ("waiting", "running"):
            await asyncio.sleep(0.02)

    portal_of(visitor).call(_ended)


def test_a_running_job_stops_at_the_next_file_once_its_right_is_taken(maren: Visitor) -> None:
    for number in range(60):
        write(maren.here, f"f{number}.html", "x" * 50_000)
    site = maren.open_site()
    nailer, portal = maren.nailer, portal_of(maren)
    maren.host.fault = __import__("nailer.standins.faults", fromlist=["Slow"]).Slow(0.02)
    with another(maren, "tam", {number_of(site): grant(*Right)}) as tam:
        account_id = portal.call(nailer.people.accounts.by_name, "tam").id
        stored = portal.call(nailer.stores.sites.get, number_of(site))
        body = {
            "here": "/studio/moss",
            "there": "/htdocs",
            "names": [f"f{n}.html" for n in range(60)],
            "to_side": "there",
        }
        job_id = int(tam.post(f"{site}/plans/transfer", body).text.split('data-job="')[1].split('"')[0])
        tam.post(f"/plans/{job_id}/carry-out", {"choice": "replace"})

        async def _some_done() -> None:
            while not (live := nailer.engine.live.jobs.get(job_id)) or not live.tally.done.files:
                await asyncio.sleep(0.005)

        portal.call(_some_done)
        portal.call(nailer.people.rights.take, account_id, stored)

        async def _ended() -> Any:
            while (job := await nailer.stores.jobs.get(job_id)).state in ("waiting", "running"):
                await asyncio.sleep(0.02)
            return job

        job = portal.call(_ended)

    assert (job.state, job.trouble_kind) == ("needs-you", "RightTaken")
    assert 0 < len(list(maren.there.glob("f*.html"))) < 60
    assert all(one.stat().st_size == 50_000 for one in maren.there.glob("f*.html"))


def test_events_of_the_page_are_json_of_what_its_person_may_see(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "a.html", "x")
    listening = Listening(maren, "/events?since=0")
    wait_for_stream(maren)
    transfer(maren, site, "a.html")
    account_id = portal_of(maren).call(maren.nailer.people.accounts.by_name, "maren").id
    for _ in range(500):
        if b'"id"' in listening.told:
            break
        threading.Event().wait(0.01)
    portal_of(maren).call(maren.nailer.people.accounts.end_others, account_id)

    assert listening.ended()
    bodies = [json.loads(line[6:]) for line in listening.told.decode().splitlines() if line.startswith("data: ")]
    assert any(body["running"] or body["ended"] for body in bodies)
