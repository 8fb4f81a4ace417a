"""Every answer passes the guard: its headers, its bounds, the names it answers to, and what goes wrong before a route."""

from __future__ import annotations

import asyncio
import errno
import json
from collections.abc import Iterator
from typing import Any

import pytest
from starlette.testclient import TestClient

from nailer.app import join
from nailer.errors import StoreUnavailable
from nailer.web.app import create_app
from nailer.web.shell import headers as strict
from tests.web.conftest import FIRST, PAGE, Visitor
from tests.world import LIGHT, settings_for


def all_headers(answer: Any) -> bool:
    return all(name in answer.headers for name in strict.ALWAYS)


@pytest.mark.parametrize(
    ("address", "status"),
    [
        ("/static/x/%00", 404),
        ("/static/x/" + "a" * 5000, 404),
        ("/static/x/..%2f..%2f..%2fapp.py", 404),
        ("/static/x/css", 404),
        ("/static/", 404),
        ("/" + "a" * 20_000, 404),
        ("/sites/" + "9" * 5000 + "/files", 404),
        ("/sites/" + str(2**70) + "/files", 404),
        ("/sites/x/files", 404),
        ("/%ff%fe", 404),
    ],
)
def test_an_address_that_leads_nowhere_is_answered_with_all_headers(maren: Visitor, address: str, status: int) -> None:
    answer = maren.client.get(address)

    assert (answer.status_code, all_headers(answer)) == (status, True)


@pytest.mark.parametrize(
    "headers",
    [
        {"origin": "http://[x"},
        {"origin": "null"},
        {"cookie": "nailer=\xe9\xff; ="},
        {"x-csrf": "\xe9"},
        {"content-type": "\xff"},
        {"content-length": "9" * 50},
        {"range": "bytes=" + "9" * 5000 + "-"},
        {"last-event-id": "9" * 5000},
    ],
)
def test_headers_that_make_no_sense_are_refused_before_and_after_sign_in(
    maren: Visitor, headers: dict[str, str]
) -> None:
    raw = {name: value.encode("latin-1") for name, value in headers.items()}
    for _ in range(2):
        for address in ("/sign-out", "/sites/letter"):
            answer = maren.client.post(address, headers=raw, content=b"x")  # type: ignore[arg-type]
            assert (answer.status_code in (401, 403, 413), all_headers(answer)) == (True, True), answer.text
        maren.client.cookies.clear()


@pytest.mark.parametrize(
    "host", ["evil.example", "testserver.evil.example", "", "a@testserver", "[x", "127.0.0.1.evil.example"]
)
def test_a_name_that_is_not_nailers_is_not_answered_to(maren: Visitor, host: str) -> None:
    answer = maren.client.get("/sites", headers=PAGE | {"host": host})

    assert (answer.status_code, all_headers(answer)) == (421, True)
    assert "Moss Lane" not in answer.text


@pytest.mark.parametrize("host", ["testserver", "localhost:8642", "127.0.0.1:1", "[::1]:8642", "192.0.2.7"])
def test_its_own_names_and_bare_addresses_are_answered_to(maren: Visitor, host: str) -> None:
    assert maren.client.get("/sites", headers=PAGE | {"host": host}).status_code == 200


def test_a_body_has_its_bounds(maren: Visitor, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("nailer.web.shell.bodies._JSON_BYTES", 10_000)
    csrf = {"x-csrf": maren.csrf, "content-type": "application/json"}

    def _in_pieces() -> Iterator[bytes]:
        for _ in range(30):
            yield b" " * 1000

    said = maren.client.post("/sites/letter", headers=csrf, content=b" " * 20_000)
    streamed = maren.client.post("/sites/letter", headers=csrf, content=_in_pieces())
    form = maren.client.post("/sign-in", data={"name": "x" * 300_000}, headers=PAGE)
    fits = maren.client.post("/sites/letter", headers=csrf, content=json.dumps({"text": "Server: ftp.a.example"}))

    assert [one.status_code for one in (said, streamed, form, fits)] == [413, 413, 413, 200]
    assert all(map(all_headers, (said, streamed, form, fits)))


def test_a_field_that_cannot_be_used_is_named(maren: Visitor) -> None:
    site = maren.add_site()

    wrong = maren.post(
        f"{site}/plans/transfer", {"here": "/studio/moss", "there": "/htdocs", "names": [], "to_side": "up"}
    )
    broken = maren.client.post(
        f"{site}/plans/transfer", content=b"{", headers={"x-csrf": maren.csrf, "content-type": "application/json"}
    )

    assert (wrong.status_code, list(wrong.json()["fields"])) == (422, ["to_side"])
    assert (broken.status_code, all_headers(broken)) == (422, True)
    assert maren.client.put(f"{site}/files", headers={"x-csrf": maren.csrf}).status_code == 405


def test_a_failure_nobody_foresaw_and_a_full_disk_are_said_with_all_headers(
    maren: Visitor, monkeypatch: pytest.MonkeyPatch
) -> None:
    def _fails(error: Exception) -> Any:
        async def _all() -> None:
            raise error

        return _all

    for error, status, words in (
        (RuntimeError("secret words"), 500, "Details are in Nailer"),
        (OSError(errno.ENOSPC, "No space left"), 507, "machine is full"),
    ):
        monkeypatch.setattr(maren.nailer.sites.book, "all", _fails(error))
        answer = maren.get("/sites")
        assert (answer.status_code, words in answer.text, all_headers(answer)) == (status, True, True)
        assert "secret words" not in answer.text


def test_without_its_database_nailer_says_so_on_a_page(maren: Visitor, monkeypatch: pytest.MonkeyPatch) -> None:
    async def _away(*_: object) -> None:
        raise StoreUnavailable("The database does not answer.")

    monkeypatch.setattr(maren.nailer.people.accounts, "session", _away)

    page, script = maren.get("/sites"), maren.client.get("/sites")

    assert (page.status_code, script.status_code) == (503, 503)
    assert "<h2>The database does not answer</h2>" in page.text
    assert script.json()["kind"] == "StoreUnavailable"
    assert all_headers(page)


def test_over_tls_the_cookie_is_this_hosts_alone_and_browsers_stay_with_tls(maren: Visitor) -> None:
    client = TestClient(maren.client.app, base_url="https://testserver", follow_redirects=False)
    client.portal = maren.client.portal

    answer = client.post("/sign-in", data={"name": "maren", "password": FIRST["password"]}, headers=PAGE)

    cookie = answer.headers["set-cookie"]
    assert cookie.startswith("__Host-nailer=")
    assert "Secure" in cookie
    assert "Path=/;" in cookie + ";"
    assert "Domain" not in cookie
    assert "max-age=31536000" in answer.headers["strict-transport-security"]
    assert "strict-transport-security" not in maren.client.get("/health").headers
    client.cookies.clear()
    client.cookies.set("nailer", cookie.split("=", 1)[1].split(";")[0])
    assert client.get("/sites").status_code == 401, "over TLS the plain cookie counts for nothing"


async def test_what_stops_coming_ends(tmp_path: Any, migrated_url: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A body of which nothing more comes is answered 408."""
    monkeypatch.setattr("nailer.web.shell.bodies._QUIET_S", 0.05)
    nailer = await asyncio.to_thread(join, settings_for(tmp_path), migrated_url, hasher=LIGHT)
    app = create_app(nailer)
    sent: list[Any] = []
    first = [{"type": "http.request", "body": b"name=ma", "more_body": True}]

    async def _receive() -> Any:
        if first:
            return first.pop()
        return await asyncio.Event().wait()

    async def _send(message: Any) -> None:
        sent.append(message)

    scope = {
        "type": "http",
        "method": "POST",
        "path": "/sign-in",
        "raw_path": b"/sign-in",
        "query_string": b"",
        "root_path": "",
        "scheme": "http",
        "http_version": "1.1",
        "headers": [(b"host", b"localhost"), (b"content-type", b"application/x-www-form-urlencoded")],
        "client": ("192.0.2.7", 1),
        "server": ("127.0.0.1", 80),
    }
    try:
        async with asyncio.timeout(20):
            await app(scope, _receive, _send)
    finally:
        nailer.people.accounts.close()
        nailer.stores.database.close()

    assert sent[0]["status"] == 408
    assert b"content-security-policy" in dict(sent[0]["headers"])
