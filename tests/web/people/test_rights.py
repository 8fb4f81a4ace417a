"""What a person may do, and nothing beyond: every route walked without the right, and every way out of one folder."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.files.entry import SideName
from nailer.core.files.keeping import KeepMark
from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import RIGHT_WORDS, Person, Right
from nailer.web.shell.policy import POLICY
from tests.builders import write
from tests.web.conftest import PAGE, Visitor
from tests.web.people.conftest import another, grant, number_of, portal_of
from tests.web.shell.test_fuzz import LEFT_OUT, routes

NEWS = {"there": "/htdocs/news", "here": "/studio/moss/news"}
# What everybody who is signed in may ask for: it shows them what is theirs.
SETTINGS = {
    "name": "Moss Lane",
    "port": "22",
    "user_name": "seedlib",
    "protocol": "sftp",
    "start_here": "studio/moss",
    "start_there": "/htdocs",
}
OWN = {key for key, asks in POLICY.items() if asks.__name__ in ("_own", "_anybody")}


@pytest.fixture
def site(maren: Visitor) -> str:
    """Maren's site, with things of hers in it that a clerk must not see."""
    write(maren.here, "index.html", "here")
    write(maren.there, "index.html", "there")
    write(maren.here, "news/today.html", "<p>today")
    write(maren.there, "news/today.html", "<p>yesterday")
    write(maren.there, "news/old.html", "<p>old")
    write(maren.there, "secret/accounts.csv", "maren;1000")
    (maren.there / "news" / "out").symlink_to("../secret")
    return maren.open_site()


@pytest.fixture
def clerk(maren: Visitor, site: str) -> Iterator[Visitor]:
    """May look, download, upload and edit in `news` of the site."""
    rights = grant(Right.LOOK, Right.DOWNLOAD, Right.CHANGE, **NEWS)
    with another(maren, "clerk", {number_of(site): rights}) as person:
        yield person


def names(*given: str) -> list[str]:
    return list(given)


def carried(
    visitor: Visitor, site: str, to_side: str, *given: str, here: str = NEWS["here"], there: str = NEWS["there"]
) -> Any:
    """A plan is made and carried out; the job's state at its end."""
    plan = visitor.post(
        f"{site}/plans/transfer",
        {"here": here, "there": there, "names": list(given), "to_side": to_side, "resend_same": True},
    )
    if plan.status_code != 200:
        return plan
    job_id = plan.text.split('data-job="')[1].split('"')[0]
    done = visitor.post(f"/plans/{job_id}/carry-out", {"choice": "replace"})
    assert done.status_code == 200, done.text
    portal_of(visitor).call(ended, visitor, int(job_id))
    return plan


async def ended(visitor: Visitor, job_id: int) -> None:
    while (await visitor.nailer.stores.jobs.get(job_id)).state in ("waiting", "running"):
        await asyncio.sleep(0.02)


def token_of(visitor: Visitor) -> str:
    """A token of whoever is signed in, for all that they have."""
    session = portal_of(visitor).call(visitor.nailer.people.accounts.session, visitor.client.cookies["nailer"])
    tokens = visitor.nailer.people.tokens
    token: str = portal_of(visitor).call(tokens.make, session.account_id, "walk", None, list(Right), 30)
    return token


def filled(path: str, known: dict[str, str]) -> str:
    for name, value in known.items():
        path = path.replace(f"{{{name}}}", value)
    return path.replace("{name:path}", "x")


@pytest.fixture
def marens(maren: Visitor, site: str) -> dict[str, str]:
    """Things of Maren's that addresses can name: a job, a draft, a pair, a change, a timer, a sync reading."""
    nailer, portal = maren.nailer, portal_of(maren)
    carried(maren, site, "there", "index.html", here="/studio/moss", there="/htdocs")
    draft = maren.get(f"{site}/edit?side=there&path=/htdocs/index.html").text
    pair = portal.call(nailer.stores.pairs.of_site, number_of(site))
    if not pair:
        maren.get(f"{site}/sync")
        pair = portal.call(nailer.stores.pairs.of_site, number_of(site))
    (change, *_) = portal.call(lambda: nailer.stores.changes.latest(number_of(site)))
    jobs = portal.call(nailer.stores.jobs.ended)
    account = portal.call(nailer.people.accounts.by_name, "maren")
    return {
        "site_id": str(number_of(site)),
        "job_id": str(jobs[0].id),
        "item_id": "1",
        "draft_id": draft.split('data-draft="')[1].split('"')[0],
        "pair_id": str(pair[0].id),
        "change_id": str(change.id),
        "account_id": str(account.id),
        "run_id": "1",
        "timer_id": "1",
        "sieve_id": "1",
        "own_id": "1",
        "number": "0",
        "token": "guess",
        "token_of_plan": "guess",
        "token_id": "1",
        "passkey_id": "1",
        "key": "guess",
        "session_id": "1",
        "group_id": "1",
        "pinned_id": "1",
        "invitation_id": "1",
        "version": "now",
        "one": "base",
        "other": "now",
        "act": "remove",
    }


BODY = {
    "here": "/studio/moss",
    "there": "/htdocs",
    "names": ["index.html"],
    "side": "there",
    "to_side": "there",
    "folder": "/htdocs",
    "path": "/htdocs/index.html",
    "name": "stolen.html",
    "to": "/htdocs/x",
    "paths": ["/htdocs/index.html"],
    "text": "changed",
    "octal": "777",
    "pinned": True,
    "files": [],
    "repair": "permissions",
    "sends": True,
    "number": 1,
}


def without_right(visitor: Visitor, marens: dict[str, str], csrf: str) -> Iterator[tuple[str, Any]]:
    """Every route but those that show everybody what is theirs, asked for with things of Maren's; programs' with a token."""
    program = {"authorization": f"Bearer {token_of(visitor)}"}
    for method, route in routes():
        key = f"{method} {route.path}"
        if key in OWN or route.path in LEFT_OUT:
            continue
        fields = getattr(route.body_field and route.body_field.field_info.annotation, "model_fields", {})
        body = (
            json.dumps({name: BODY[name] for name in fields if name in BODY}) if route.body_field is not None else None
        )
        kind = {"content-type": "application/json"} if body else {}
        query = "side=there&path=/htdocs/index.html&here=/studio/moss&there=/htdocs&folder=/htdocs"
        yield (
            key,
            visitor.client.request(
                method,
                f"{filled(route.path, marens)}?{query}",
                headers={"x-csrf": csrf} | kind | (program if route.path.startswith("/api/") else {}),
                content=body,
                follow_redirects=False,
            ),
        )


def test_every_route_is_shut_to_somebody_without_the_site(maren: Visitor, site: str, marens: dict[str, str]) -> None:
    before = {str(one): one.read_bytes() for one in maren.there.rglob("*") if one.is_file()}
    with another(maren, "stranger", {}) as stranger:
        csrf = stranger.csrf
        answers = dict(without_right(stranger, marens, csrf))
        connected = stranger.client.get("/connections").json()
        shown = [stranger.get(address).text for address in ("/sites", "/jobs", "/timers", "/sieves", "/finder?q=o")]

    assert connected == {"open": []}
    assert not [page for page in shown if "Moss Lane" in page or "mosslane" in page]
    open_ = {key: answer.status_code for key, answer in answers.items() if answer.status_code not in (403, 404)}
    assert len(answers) > 130
    assert not open_
    said = [key for key, answer in answers.items() if "Moss" in answer.text or "mosslane" in answer.text]
    assert not said, "nobody hears the name of a site that is none of theirs"
    assert {str(one): one.read_bytes() for one in maren.there.rglob("*") if one.is_file()} == before


def test_every_route_is_shut_outside_the_folder(
    maren: Visitor, clerk: Visitor, site: str, marens: dict[str, str]
) -> None:
    """The clerk asks for the site's own top everywhere: not one answer shows it, and nothing there changes."""
    before = {str(one): one.read_bytes() for one in maren.there.rglob("*") if one.is_file()}
    csrf = clerk.csrf

    answers = dict(without_right(clerk, marens, csrf))

    assert len(answers) > 130
    shown = {key for key, one in answers.items() if "accounts.csv" in one.text or one.text in ("here", "there")}
    assert not shown
    assert {str(one): one.read_bytes() for one in maren.there.rglob("*") if one.is_file()} == before
    assert not [key for key, one in answers.items() if one.status_code >= 500 and one.status_code != 502]


# What a person's own visit leaves: their session, what the log says of them, where they were last.
_OF_A_VISIT = {
    "migrations",
    "sessions",
    "log",
    "recent_places",
    "tokens",
    "api_answers",
    "accounts",
    "tray",
    "refusals",
}


def everything_stored(maren: Visitor) -> dict[str, dict[bytes, str]]:
    """Every row of the database by its first column, but for what a visit leaves."""

    def _read() -> dict[str, dict[bytes, str]]:
        with maren.nailer.stores.database.reading() as work:
            work._cursor.execute(
                "SELECT table_name AS name FROM information_schema.tables WHERE table_schema = DATABASE()"
            )
            tables = [row["name"] for row in work._cursor.fetchall() if row["name"] not in _OF_A_VISIT]
            found: dict[str, dict[bytes, str]] = {}
            for table in tables:
                work._cursor.execute(f"SELECT * FROM `{table}`")
                rows = [tuple(row.values()) for row in work._cursor.fetchall()]
                found[table] = {repr(row[:2]).encode(): repr(row) for row in rows}
                if table == "sites":  # when somebody last opened it is no secret and no harm
                    work._cursor.execute("SELECT * FROM sites")
                    rows = [{**row, "opened_at": None} for row in work._cursor.fetchall()]
                    found[table] = {str(row["id"]).encode(): repr(row) for row in rows}
            return found

    stored: dict[str, dict[bytes, str]] = portal_of(maren).call(lambda: asyncio.to_thread(_read))
    return stored


def what_changed(before: dict[str, dict[bytes, str]], after: dict[str, dict[bytes, str]]) -> list[str]:
    """Rows that were there before, and are other ones or gone now. What somebody adds of their own is no harm."""
    return [
        f"{table}: {row[:160]}"
        for table, rows in before.items()
        for key, row in rows.items()
        if after[table].get(key) != row
    ]


@pytest.fixture
def more_of_marens(maren: Visitor, site: str, marens: dict[str, str]) -> dict[str, str]:
    """What is written down about places outside the clerk's folder: keep marks on both sides, a finding that is ignored."""
    nailer, portal = maren.nailer, portal_of(maren)
    number = number_of(site)
    account = int(marens["account_id"])
    for side, place in ((SideName.THERE, b"/htdocs/index.html"), (SideName.HERE, b"/studio/moss/index.html")):
        mark = KeepMark(side, SitePath.parse(place), None, "not yours")
        portal.call(nailer.stores.marks.set, number, mark, account)
    return marens


@pytest.mark.parametrize("rights", [[Right.LOOK], list(Right)], ids=["look", "everything"])
def test_no_route_changes_what_is_stored_about_places_outside_the_folder(
    maren: Visitor, site: str, more_of_marens: dict[str, str], rights: list[Right]
) -> None:
    """Every route that writes, asked for with a foreign folder and with Maren's own things, by a person with one folder."""
    before = everything_stored(maren)
    with another(maren, "clerk", {number_of(site): grant(*rights, **NEWS)}) as clerk:
        csrf = clerk.csrf
        asked = dict(without_right(clerk, more_of_marens, csrf))
        changed = what_changed(before, everything_stored(maren))

    writing = {f"{method} {route.path}" for method, route in routes() if method != "GET"}
    unknown = writing - set(asked) - OWN - {f"{method} {path}" for path in LEFT_OUT for method in ("POST", "PUT")}
    assert not unknown, "a route that writes and that nobody tried"
    assert not changed


def test_a_mark_in_another_folder_is_not_taken_off(maren: Visitor, clerk: Visitor, site: str) -> None:
    maren.post(
        f"{site}/keep", {"side": "there", "path": token("/htdocs/index.html"), "until": "", "why": "the start page"}
    )

    answers = [
        clerk.post(f"{site}/let-go", {"side": "there", "path": token("/htdocs/index.html")}),
        clerk.post(f"{site}/keep", {"side": "there", "path": token("/htdocs/index.html"), "until": "", "why": "mine"}),
    ]

    keeps = portal_of(maren).call(maren.nailer.files.keeping.of_site, number_of(site))
    assert [one.status_code for one in answers] == [404, 404]
    mark = keeps.own(SideName.THERE, SitePath.parse(b"/htdocs/index.html"))
    assert mark is not None
    assert mark.why == "the start page"


def token(path: str) -> str:
    return SitePath.parse(path.encode()).token


def test_the_scan_of_the_whole_site_is_not_ended_from_one_folder(maren: Visitor, clerk: Visitor, site: str) -> None:
    assert clerk.post(f"{site}/checks/give-up").status_code == 403
    assert clerk.post(f"{site}/packages/give-up").status_code == 403


def test_a_guard_above_the_own_folder_holds_in_it(maren: Visitor, site: str) -> None:
    """Nobody sees the guarded folder above, and it guards all the same."""
    portal, nailer = portal_of(maren), maren.nailer
    stored = portal.call(nailer.stores.sites.get, number_of(site))
    portal.call(nailer.stores.sites.add_guards, stored, [SitePath.parse(b"/htdocs")])
    with another(maren, "clerk", {number_of(site): grant(*Right, **NEWS)}) as clerk:
        body = {"side": "there", "path": token("/htdocs/news/today.html"), "name": "renamed.html"}
        answer = clerk.post(f"{site}/rename", body)

    assert answer.status_code == 409 or "guarded" in answer.text
    assert (maren.there / "news" / "today.html").exists()


def test_what_is_unsent_elsewhere_is_not_counted_for_one_folder(
    maren: Visitor, site: str, marens: dict[str, str]
) -> None:
    nailer = maren.nailer
    not_sent = nailer.pairs.not_sent
    (pair,) = portal_of(maren).call(nailer.stores.pairs.of_site, number_of(site))
    not_sent._known, not_sent._counts = {pair.id: pair}, {pair.id: 7}
    part = Person(9, "clerk", grants={number_of(site): grant(*Right, **NEWS)})
    whole = Person(9, "clerk", grants={number_of(site): grant(*Right)})

    with acting_as(Acting(part)):
        assert (not_sent.of_site(number_of(site)), not_sent.of_sites()) == (0, {number_of(site): 0})
    with acting_as(Acting(whole)):
        assert not_sent.of_site(number_of(site)) in (0, 7)


def test_looking_alone_changes_nothing(maren: Visitor, site: str, marens: dict[str, str]) -> None:
    with another(maren, "looker", {number_of(site): grant(Right.LOOK)}) as looker:
        csrf = looker.csrf
        before = {str(one): one.read_bytes() for one in maren.there.rglob("*") if one.is_file()}
        answers = dict(without_right(looker, marens, csrf))
        page = looker.get(f"{site}/files")

    assert "index.html" in page.text
    assert {str(one): one.read_bytes() for one in maren.there.rglob("*") if one.is_file()} == before
    for key in (
        "GET /sites/{site_id}/fetch",
        "POST /sites/{site_id}/plans/remove",
        "POST /sites/{site_id}/plans/transfer",
        "POST /sites/{site_id}/folders",
        "GET /sites/{site_id}/edit",
        "POST /sites/{site_id}/permissions/one",
        "GET /sites/{site_id}/sync",
        "GET /sites/{site_id}/settings",
        "GET /sites/{site_id}/connection-log",
        "POST /sites/{site_id}/trust",
        "POST /jobs/{job_id}/plans/take-back",
        "POST /pairs/{pair_id}/read",
    ):
        assert answers[key].status_code == 403, (key, answers[key].text[:200])


def test_the_clerk_comes_to_the_folder_and_sees_nothing_else(clerk: Visitor, site: str) -> None:
    page = clerk.get("/")

    assert page.url.path == f"{site}/files"
    assert "today.html" in page.text
    assert "index.html" not in page.text
    assert "accounts.csv" not in page.text
    assert "seedlib" not in page.text, "nor who signs in there"
    for address in ("/sites", "/jobs", "/timers", "/sieves", "/drafts", "/account", "/finder?q=m"):
        text = clerk.get(address).text
        assert clerk.get(address).status_code == 200, address
        assert "accounts.csv" not in text
    for address in ("/people", "/log", "/identities", "/sites/add", "/sites/import", "/sites/export"):
        assert clerk.get(address).status_code == 403, address


@pytest.mark.parametrize(
    "there",
    ["/htdocs", "/", "/htdocs/secret", "/htdocs/news/out", "/htdocs/newsletter", "/htdocs/news/../secret"],
)
def test_no_folder_outside_is_listed_searched_or_fetched(maren: Visitor, clerk: Visitor, site: str, there: str) -> None:
    maren.get(f"{site}/files?here=/studio/moss&there=/htdocs/secret")  # what somebody else has read is remembered
    asked = f"here={NEWS['here']}&there={there}"
    for address in (
        f"{site}/files?{asked}",
        f"{site}/ledger?{asked}",
        f"{site}/tree?{asked}",
        f"{site}/names?{asked}",
        f"{site}/complete?side=there&text={there}/",
        f"{site}/search/hits?side=there&folder={there}&name=csv",
        f"{site}/fetch?side=there&path={there}/accounts.csv",
        f"{site}/fetch?side=there&path={there}",
        f"{site}/look/raw?side=there&path={there}/accounts.csv",
        f"{site}/edit?side=there&path={there}/accounts.csv",
        f"/finder?q=secret&site={number_of(site)}",
    ):
        answer = clerk.client.get(address, headers=PAGE)
        assert "maren;1000" not in answer.text, address
        assert "accounts.csv</" not in answer.text, address
        assert answer.status_code < 500, address


def test_a_whole_site_ends_at_its_own_folder_here(maren: Visitor, site: str) -> None:
    """Beside it lie the folders of other sites."""
    write(maren.here.parent, "elsewhere/letters.csv", "other people's")
    (maren.here / "beside").symlink_to("../elsewhere")
    whole = grant(*Right)
    with another(maren, "tam", {number_of(site): whole}) as tam:
        assert "index.html" in tam.get(f"{site}/files").text
        for here in ("/studio/elsewhere", "/studio", "/", "/studio/moss/beside"):
            for address in (f"files?here={here}&there=/htdocs", f"ledger?here={here}&there=/htdocs"):
                assert "letters.csv" not in tam.client.get(f"{site}/{address}", headers=PAGE).text, address
            fetched = tam.client.get(f"{site}/fetch?side=here&path={here}/letters.csv")
            assert "other people" not in fetched.text, here
            plan = {"here": here, "there": "/htdocs", "names": ["letters.csv", "elsewhere"], "to_side": "there"}
            assert tam.post(f"{site}/plans/transfer", plan).status_code in (403, 404, 422), here
        moved = tam.post_form(
            f"{site}/settings", **SETTINGS | {"start_here": "studio/elsewhere"}, host="ftp.mosslane.example"
        )
        assert moved.status_code == 403


def test_the_clerk_works_in_the_folder(maren: Visitor, clerk: Visitor, site: str) -> None:
    assert carried(clerk, site, "there", "today.html").status_code == 200
    assert (maren.there / "news" / "today.html").read_text() == "<p>today"
    assert carried(clerk, site, "here", "old.html").status_code == 200
    assert (maren.here / "news" / "old.html").read_text() == "<p>old"
    fetched = clerk.client.get(f"{site}/fetch?side=there&path=/htdocs/news/old.html")
    assert fetched.text == "<p>old"
    assert "today.html" in clerk.get(f"{site}/changes").text


def test_no_plan_of_the_clerk_reaches_out(maren: Visitor, clerk: Visitor, site: str) -> None:
    write(maren.here, "news/evil.html", "evil")
    for folders in (
        {"here": NEWS["here"], "there": "/htdocs"},
        {"here": "/studio/moss", "there": NEWS["there"]},
        {"here": NEWS["here"], "there": "/htdocs/news/out"},
        {"here": NEWS["here"], "there": "/htdocs/secret"},
    ):
        for to_side in ("here", "there"):
            picked = ["evil.html"] if to_side == "there" else ["accounts.csv", "index.html"]
            answer = clerk.post(f"{site}/plans/transfer", folders | {"names": picked, "to_side": to_side})
            assert answer.status_code in (403, 404, 422), (folders, to_side, answer.text[:200])
    move = {"here": NEWS["here"], "there": NEWS["there"], "names": ["old.html"], "side": "there"}
    for target in ("/htdocs/secret", "/htdocs", "/htdocs/news/out", "../secret"):
        answer = clerk.post(f"{site}/plans/copy", move | {"to": target, "move": True})
        assert answer.status_code in (403, 404, 422), (target, answer.text[:200])
    rename = {"side": "there", "path": "/htdocs/secret/accounts.csv", "name": "mine.csv"}
    assert clerk.post(f"{site}/rename", rename).status_code in (403, 404)
    assert not list(maren.there.rglob("evil*"))
    assert (maren.there / "secret" / "accounts.csv").read_text() == "maren;1000"


def test_a_right_that_was_taken_back_ends_a_job_before_it_begins(maren: Visitor, clerk: Visitor, site: str) -> None:
    plan = clerk.post(
        f"{site}/plans/transfer",
        {"here": NEWS["here"], "there": NEWS["there"], "names": ["today.html"], "to_side": "there"},
    )
    job_id = int(plan.text.split('data-job="')[1].split('"')[0])
    nailer, portal = maren.nailer, portal_of(maren)
    clerk_id = portal.call(nailer.people.accounts.by_name, "clerk").id

    portal.call(nailer.engine.runner.stop)
    assert clerk.post(f"/plans/{job_id}/carry-out", {"choice": "replace"}).status_code == 200
    portal.call(nailer.stores.grants.take, clerk_id, number_of(site))

    async def _again() -> None:
        nailer.engine.runner.start()

    portal.call(_again)
    portal.call(ended, maren, job_id)
    job = portal.call(nailer.stores.jobs.get, job_id)

    assert job.state == "needs-you"
    assert (maren.there / "news" / "today.html").read_text() == "<p>yesterday"


def test_settings_of_a_site_are_no_way_to_its_password(maren: Visitor, site: str) -> None:
    rights = grant(Right.LOOK, Right.SETTINGS)
    with another(maren, "keeper", {number_of(site): rights}) as keeper:
        page = keeper.get(f"{site}/settings")
        moved = keeper.post_form(f"{site}/settings", **SETTINGS, host="evil.example")
        kept = keeper.post_form(f"{site}/settings", **SETTINGS, host="ftp.mosslane.example", note="checked")

    assert page.status_code == 200
    assert "sow-and-reap" not in page.text
    assert (moved.status_code, kept.status_code) == (403, 200)
    stored = portal_of(maren).call(maren.nailer.stores.sites.get, number_of(site))
    assert (stored.host, stored.note) == ("ftp.mosslane.example", "checked")


@pytest.mark.parametrize(
    ("field", "value", "status"),
    [
        ("store", "no", 422),
        ("agent", "yes", 403),
        ("key_file", "/home/nailer/.ssh/id_ed25519", 403),
        ("credential_id", "99", 403),
        ("group_id", "7", 403),
        ("proxy_kind", "socks5", 403),
        ("user_name", "root", 403),
        ("start_here", "studio/other", 403),
        ("old_allowed", "yes", 403),
        ("charset", "zzz", 422),
    ],
)
def test_settings_change_what_is_listed_and_refuse_all_else(
    maren: Visitor, site: str, field: str, value: str, status: int
) -> None:
    """A form may hold any field: what is not open to a person is refused, and the site stays as it is for everybody."""
    stored = replace(portal_of(maren).call(maren.nailer.stores.sites.get, number_of(site)), guards_proposed=True)
    proxy = {"proxy_host": "evil.example", "proxy_port": "1080"} if field == "proxy_kind" else {}
    with another(maren, "keeper", {number_of(site): grant(Right.LOOK, Right.SETTINGS)}) as keeper:
        given = SETTINGS | {"host": "ftp.mosslane.example", "note": "mine"} | proxy | {field: value}
        answer = keeper.post_form(f"{site}/settings", **given)

    assert answer.status_code == status
    now = portal_of(maren).call(maren.nailer.stores.sites.get, number_of(site))
    assert replace(now, guards_proposed=True) == stored
    portal_of(maren).call(maren.nailer.stores.sites.forget_fleeting)
    assert "Moss Lane" in maren.get("/sites").text


def test_a_stored_site_does_not_vanish_because_a_form_says_so(maren: Visitor, site: str) -> None:
    """Not by an administrator's form either."""
    answer = maren.post_form(f"{site}/settings", **SETTINGS, host="ftp.mosslane.example", store="no")

    assert answer.status_code == 422
    portal_of(maren).call(maren.nailer.stores.sites.forget_fleeting)
    assert "Moss Lane" in maren.get("/sites").text


def test_sign_in_details_that_other_sites_share_are_not_changed_from_one_of_them(maren: Visitor, site: str) -> None:
    maren.post_form(f"{site}/duplicate")
    before = portal_of(maren).call(maren.nailer.stores.sites.get, number_of(site))
    with another(maren, "keeper", {number_of(site): grant(Right.LOOK, Right.SETTINGS)}) as keeper:
        given = SETTINGS | {"host": "ftp.mosslane.example", "password": "another-one"}
        answer = keeper.post_form(f"{site}/settings", **given)

    assert answer.status_code == 403
    secrets = portal_of(maren).call(maren.nailer.stores.sites.secrets, before)
    assert secrets.password == "sow-and-reap"


@pytest.mark.parametrize("parent", ["0", "4711"])
def test_a_group_in_none_that_exists_is_said(maren: Visitor, parent: str) -> None:
    answer = maren.post_form("/groups", name="Clients", parent_id=parent)

    assert answer.status_code == 404
    assert "does not exist" in answer.text


def test_every_right_has_a_word_and_every_route_that_is_not_listed_is_shut() -> None:
    known = {f"{method} {route.path}" for method, route in routes()}

    assert set(RIGHT_WORDS) == set(Right)
    left_out = {f"{method} {path}" for method in ("GET", "POST") for path in LEFT_OUT}
    assert not set(POLICY) - known - {"GET /", "GET /health"} - left_out
