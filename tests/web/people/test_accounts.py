"""Accounts: an invitation that works once, one's own account, sessions that end, and what is written down."""

from __future__ import annotations

import re
import threading

import pytest

from nailer.core.people.rights import Right
from nailer.store.people.accounts import From
from tests.builders import write
from tests.web.conftest import PAGE, Visitor
from tests.web.people.conftest import PASSWORD, another, grant, number_of, portal_of


def invited(maren: Visitor, site: str, **fields: str) -> str:
    """The path of an invitation's link for somebody who gets a part of a site."""
    usual = {
        "name": "Clerk",
        "site": str(number_of(site)),
        "there": "/htdocs/news",
        "right_look": "yes",
        "right_change": "yes",
    }
    answer = maren.post_form("/people/invite", **(usual | fields))
    assert answer.status_code == 200, answer.text
    found = re.search(r'value="http://[^/"]+(/invited/[^"]+)"', answer.text)
    assert found, answer.text
    return found[1]


def come_in(visitor: Visitor, link: str, **fields: str):  # type: ignore[no-untyped-def]
    usual = {"name": "clerk", "password": PASSWORD, "again": PASSWORD}
    return visitor.client.post(link, data=usual | fields, headers=PAGE)


def test_an_invitation_makes_one_account_with_its_folder_and_works_once(maren: Visitor) -> None:
    write(maren.there, "news/today.html", "today")
    site = maren.open_site()
    link = invited(maren, site)
    assert "Clerk" in maren.get("/people").text

    maren.client.cookies.clear()
    assert "maren has invited you" in maren.get(link).text
    first = come_in(maren, link)

    assert first.url.path == f"{site}/files"
    assert "today.html" in first.text
    maren.client.cookies.clear()
    again = come_in(maren, link, name="somebody-else")
    assert (again.status_code, "has been used or has expired" in again.text) == (404, True)
    assert maren.client.get(link).status_code == 404


@pytest.mark.parametrize(
    ("fields", "problem"),
    [
        ({"password": "short", "again": "short"}, "at least 10"),
        ({"again": "another-one-of-them"}, "do not match"),
        ({"name": ""}, "1 to 80"),
        ({"name": "maren"}, "already taken"),
        ({"password": "Baseball99", "again": "Baseball99"}, "too common"),
    ],
)
def test_an_invitation_stays_where_the_account_cannot_be_made(
    maren: Visitor, fields: dict[str, str], problem: str
) -> None:
    site = maren.add_site()
    link = invited(maren, site)
    maren.client.cookies.clear()

    refused = come_in(maren, link, **fields)

    assert refused.status_code in (409, 422)
    assert problem in refused.text
    assert come_in(maren, link).status_code == 200


def test_an_invitation_that_was_withdrawn_or_has_ended_lets_nobody_in(maren: Visitor) -> None:
    site = maren.add_site()
    withdrawn, ended = invited(maren, site), invited(maren, site)
    nailer, portal = maren.nailer, portal_of(maren)
    last, first = portal.call(nailer.stores.invitations.all)
    portal.call(nailer.people.invitations.withdraw, first.id)

    def _end() -> None:
        with nailer.stores.database.writing() as work:
            work._cursor.execute("UPDATE invitations SET ends_at = '2020-01-01' WHERE id = %s", (last.id,))

    _end()
    maren.client.cookies.clear()
    for link in (withdrawn, ended):
        assert come_in(maren, link).status_code == 404
    assert maren.client.get("/invited/guess").status_code == 404


@pytest.mark.parametrize(
    ("fields", "problem"),
    [
        ({"site": ""}, "Choose a site"),
        ({"site": "999"}, "Choose a site"),
        ({"right_look": "", "right_change": ""}, "Choose at least one"),
        ({"there": "/elsewhere"}, "folder here that belongs"),
        ({"there": "/"}, "Type a folder"),
        ({"there": "/htdocs/../x"}, "may not contain"),
    ],
)
def test_an_invitation_to_nothing_is_not_made(maren: Visitor, fields: dict[str, str], problem: str) -> None:
    site = maren.add_site()
    usual = {"name": "Clerk", "site": str(number_of(site)), "there": "/htdocs/news", "right_look": "yes"}

    answer = maren.post_form("/people/invite", **(usual | fields))

    assert (answer.status_code, problem in answer.text) == (422, True), answer.text


def test_one_changes_name_mail_and_password_and_other_sessions_end(maren: Visitor) -> None:
    nailer, portal = maren.nailer, portal_of(maren)
    other = portal.call(nailer.people.accounts.sign_in, "maren", "gannets-and-gorse", From("192.0.2.9", "a phone"))
    assert "a phone" in maren.get("/account").text

    assert maren.post_form("/account/profile", name="maren", mail="nowhere").status_code == 422
    maren.post_form("/account/profile", name="Maren H.", mail="maren@gorsegannet.example")
    wrong = maren.post_form("/account/password", old="guess", password=PASSWORD, again=PASSWORD)
    common = maren.post_form("/account/password", old="gannets-and-gorse", password="1234567890", again="1234567890")
    changed = maren.post_form("/account/password", old="gannets-and-gorse", password=PASSWORD, again=PASSWORD)

    assert "not your current password" in wrong.text
    assert "too common" in common.text
    assert "has been changed" in changed.text
    assert portal.call(nailer.people.accounts.session, other) is None
    assert maren.get("/sites").url.path == "/sites", "one's own session goes on"
    assert portal.call(nailer.people.accounts.sign_in, "Maren H.", PASSWORD, From("192.0.2.9"))


def test_sessions_end_one_by_one_all_at_once_and_when_nobody_uses_them(maren: Visitor) -> None:
    nailer, portal = maren.nailer, portal_of(maren)
    accounts = nailer.people.accounts
    first, second = (
        portal.call(accounts.sign_in, "maren", "gannets-and-gorse", From("192.0.2.9", name)) for name in ("one", "two")
    )
    numbers = {
        one.device: one.id for one in portal.call(accounts.sessions_of, portal.call(accounts.session, first).account_id)
    }

    maren.post_form(f"/account/sessions/{numbers['one']}/end")
    assert portal.call(accounts.session, first) is None
    assert portal.call(accounts.session, second) is not None
    maren.post_form("/account/sessions/end-others")
    assert portal.call(accounts.session, second) is None

    with nailer.stores.database.writing() as work:
        work._cursor.execute("UPDATE sessions SET seen_at = '2020-01-01'")
    assert maren.get("/sites").url.path == "/sign-in"


def test_nobody_ends_the_session_of_another(maren: Visitor) -> None:
    accounts, portal = maren.nailer.people.accounts, portal_of(maren)
    with another(maren, "clerk", {}) as clerk:
        (own,) = portal.call(accounts.sessions_of, portal.call(accounts.by_name, "maren").id)
        clerk.post_form(f"/account/sessions/{own.id}/end")

    assert maren.get("/sites").url.path == "/sites"


def test_whoever_is_switched_off_is_out_at_once_and_comes_back(maren: Visitor) -> None:
    with another(maren, "clerk", {}) as clerk:
        number = portal_of(maren).call(maren.nailer.people.accounts.by_name, "clerk").id
        maren.post_form(f"/people/{number}/standing", off="yes")
        assert clerk.get("/sites").url.path == "/sign-in"
        refused = clerk.client.post("/sign-in", data={"name": "clerk", "password": PASSWORD}, headers=PAGE)
        assert refused.status_code == 403
        maren.post_form(f"/people/{number}/standing", off="")
        assert (
            clerk.client.post("/sign-in", data={"name": "clerk", "password": PASSWORD}, headers=PAGE).status_code == 200
        )


def test_somebody_runs_nailer_always(maren: Visitor) -> None:
    number = portal_of(maren).call(maren.nailer.people.accounts.by_name, "maren").id

    for fields in ({"admin": ""}, {"off": "yes"}):
        assert maren.post_form(f"/people/{number}/standing", **fields).status_code == 409
    with another(maren, "tam", {}):
        gone = maren.post_form(f"/people/{number}/remove", heir="tam", typed="maren")
    assert (gone.status_code, "needs at least one administrator" in gone.text) == (409, True)


def test_a_person_who_is_removed_leaves_jobs_to_another(maren: Visitor) -> None:
    write(maren.there, "news/today.html", "today")
    site = maren.open_site()
    whole = grant(Right.LOOK, Right.CHANGE, Right.DOWNLOAD)
    nailer, portal = maren.nailer, portal_of(maren)
    with another(maren, "tam", {number_of(site): whole}) as tam:
        tam.post(
            f"{site}/plans/transfer", {"here": "/studio/moss", "there": "/htdocs", "names": ["news"], "to_side": "here"}
        )
        number = portal.call(nailer.people.accounts.by_name, "tam").id
        assert maren.post_form(f"/people/{number}/remove", heir="maren", typed="wrong").status_code == 422
        assert maren.post_form(f"/people/{number}/remove", heir="maren", typed="tam").status_code == 200
        assert tam.get("/sites").url.path == "/sign-in"

    (job,) = [portal.call(nailer.stores.jobs.get, one) for one in _planned(maren)]
    assert job.account_name == "maren"


def _planned(maren: Visitor) -> list[int]:
    with maren.nailer.stores.database.reading() as work:
        work._cursor.execute("SELECT id FROM jobs")
        return [row["id"] for row in work._cursor.fetchall()]


def test_what_was_done_is_written_down_searched_and_taken_out(maren: Visitor) -> None:
    site = maren.open_site()
    link = invited(maren, site)
    maren.client.post("/sign-in", data={"name": "maren", "password": "wrong-one"}, headers=PAGE)

    page = maren.get("/log").text
    for words in ("invited: Clerk", "trusted a server identity: ftp.mosslane.example:22", "failed to sign in"):
        assert words in page, words
    assert "testclient" in page, "and from where"
    assert link.rsplit("/", 1)[1] not in page
    assert "was refused" not in maren.get("/log?text=trusted").text
    table = maren.client.get("/log.csv").text
    assert table.splitlines()[0].startswith("at (UTC),person")
    assert "sow-and-reap" not in table + page


def test_two_people_in_a_site_see_each_other(maren: Visitor) -> None:
    site = maren.open_site()
    with another(maren, "tam", {number_of(site): grant(Right.LOOK)}) as tam:
        tam.get(f"{site}/files?there=/htdocs")
        assert "tam is working on this site now, in /htdocs" in maren.get(f"{site}/files").text
        assert "maren is working on this site now" in tam.get(f"{site}/files").text


def test_a_stream_ends_with_its_session(maren: Visitor) -> None:
    told: list[bytes] = []

    def _listen() -> None:
        with maren.client.stream("GET", "/events?since=0") as stream:
            told.extend(stream.iter_raw())

    listening = threading.Thread(target=_listen, daemon=True)
    accounts, portal = maren.nailer.people.accounts, portal_of(maren)
    session = portal.call(accounts.session, maren.client.cookies["nailer"])
    listening.start()
    for _ in range(500):
        if maren.nailer.people.streams._open[session.key]:
            break
        threading.Event().wait(0.01)

    portal.call(accounts.end_others, session.account_id)
    listening.join(20)

    assert not listening.is_alive()
    assert not maren.nailer.people.streams._open


def test_a_session_has_only_so_many_streams(maren: Visitor) -> None:
    session = portal_of(maren).call(maren.nailer.people.accounts.session, maren.client.cookies["nailer"])
    maren.nailer.people.streams._open[session.key] = 24

    answer = maren.client.get("/events")

    assert (answer.status_code, "which is the limit" in answer.text) == (503, True)
