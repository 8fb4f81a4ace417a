"""The second proof: one-time codes that work once, recovery codes, and nothing open before it was given."""

from __future__ import annotations

import re
import time

import pyotp
import pytest

from tests.web.conftest import PAGE, Visitor
from tests.web.people.conftest import PASSWORD, another, portal_of
from tests.web.shell.test_fuzz import OPEN, routes


def set_up(maren: Visitor) -> tuple[pyotp.TOTP, list[str]]:
    """One-time codes for Maren: what makes them, and the recovery codes."""
    page = maren.get("/account/codes").text
    found = re.search(r'data-test="secret">([A-Z2-7 ]+)<', page)
    assert found, page
    codes = pyotp.TOTP(found[1].replace(" ", ""))
    maren.confirm()  # before the code is made: it fits for so long only
    done = maren.post_form("/account/codes", code=codes.at(time.time() - 30))
    recovery = re.findall(r"<li>([a-z2-9]{5}-[a-z2-9]{5})</li>", done.text)
    assert len(recovery) == 10, done.text
    return codes, recovery


def half_way(maren: Visitor) -> None:
    """Sign in by the password alone."""
    maren.client.cookies.clear()
    maren.client.post("/sign-in", data={"name": "maren", "password": "gannets-and-gorse"}, headers=PAGE)


def prove(maren: Visitor, code: str):  # type: ignore[no-untyped-def]
    page = maren.client.get("/sign-in/second", headers=PAGE).text
    csrf = re.search(r'name="csrf" value="([^"]+)"', page)
    assert csrf, page
    return maren.client.post("/sign-in/second", data={"csrf": csrf[1], "code": code}, headers=PAGE)


def test_a_code_is_asked_for_and_works_once(maren: Visitor) -> None:
    codes, _ = set_up(maren)
    half_way(maren)
    assert maren.client.get("/sites", headers=PAGE).url.path == "/sign-in/second"

    code = codes.now()
    assert prove(maren, "000000").status_code == 403
    assert prove(maren, code).url.path == "/sites"
    half_way(maren)
    again = prove(maren, code)
    assert (again.status_code, "already been used" in again.text) == (403, True)


def test_nothing_is_open_to_half_a_session(maren: Visitor) -> None:
    set_up(maren)
    site = maren.add_site()
    half_way(maren)
    csrf = re.search(r'name="csrf" value="([^"]+)"', maren.client.get("/sign-in/second", headers=PAGE).text)
    assert csrf

    for method, route in routes():
        if route.path in OPEN or route.path.startswith(("/sign-in", "/invited")):
            continue
        address = re.sub(r"\{[^}]+\}", "1", route.path.replace("{site_id}", site.rsplit("/", 1)[1]))
        answer = maren.client.request(method, address, headers={"x-csrf": csrf[1]}, follow_redirects=False)
        assert answer.status_code == 401, f"{method} {address}: {answer.status_code}"


def test_each_recovery_code_lets_in_once_and_guessing_is_slowed(maren: Visitor) -> None:
    _, recovery = set_up(maren)
    half_way(maren)
    assert prove(maren, recovery[0].upper()).url.path == "/sites"
    assert "9 recovery codes" in maren.get("/account").text
    half_way(maren)
    assert prove(maren, recovery[0]).status_code == 403

    said = [prove(maren, f"{number:06d}").text for number in range(5)]
    assert "Try again in" in said[-1]


def test_codes_are_taken_away_with_the_password_only(maren: Visitor) -> None:
    set_up(maren)

    refused = maren.post_form("/account/codes/forget", old="guess")
    assert (refused.status_code, "not your current password" in refused.text) == (422, True)
    maren.post_form("/account/codes/forget", old="gannets-and-gorse")
    half_way(maren)

    assert maren.client.get("/sites", headers=PAGE).url.path == "/sites"


def test_a_wrong_first_code_sets_up_nothing(maren: Visitor) -> None:
    maren.get("/account/codes")
    for code in ("000000", "", "abcdef", "9" * 5000):
        assert maren.post_form("/account/codes", code=code).status_code == 422
    half_way(maren)

    assert maren.client.get("/sites", headers=PAGE).url.path == "/sites"


def test_whoever_must_have_a_second_proof_sets_one_up_first(maren: Visitor) -> None:
    with another(maren, "clerk", {}) as clerk:
        number = portal_of(maren).call(maren.nailer.people.accounts.by_name, "clerk").id
        maren.post_form(f"/people/{number}/second", act="require")

        sent = clerk.get("/sites")
        assert (sent.url.path, "must use two-factor authentication" in sent.text) == ("/account", True)
        page = clerk.get("/account/codes").text
        secret = re.search(r'data-test="secret">([A-Z2-7 ]+)<', page)
        assert secret
        token = re.search(r'name="csrf" value="([^"]+)"', page)
        assert token
        code = pyotp.TOTP(secret[1].replace(" ", "")).now()
        proof = {"csrf": token[1], "proof": PASSWORD, "next": "/account/codes"}
        assert clerk.client.post("/account/confirm", data=proof, headers=PAGE).status_code == 200
        clerk.client.post("/account/codes", data={"csrf": token[1], "code": code}, headers=PAGE)
        assert clerk.get("/sites").url.path == "/sites"

        maren.post_form(f"/people/{number}/second", act="free")
        maren.post_form(f"/people/{number}/second", act="forget")
        clerk.client.cookies.clear()
        clerk.client.post("/sign-in", data={"name": "clerk", "password": PASSWORD}, headers=PAGE)
        assert clerk.get("/sites").url.path == "/sites"


@pytest.mark.parametrize(
    "credential", [{}, {"id": "x"}, {"id": "\x00", "rawId": 1, "response": [], "type": "public-key"}]
)
def test_what_is_no_passkey_proves_nothing(maren: Visitor, credential: dict[str, object]) -> None:
    maren.post("/account/passkeys/wanted")
    made = maren.post("/account/passkeys", {"credential": credential, "name": "x"})
    proved = maren.post("/sign-in/second/passkey", {"credential": credential})

    assert (made.status_code, proved.status_code) == (422, 403)


def test_the_secret_is_sealed_in_the_database(maren: Visitor) -> None:
    codes, recovery = set_up(maren)

    with maren.nailer.stores.database.reading() as work:
        work._cursor.execute("SELECT code_secret FROM accounts")
        stored = next(iter(work._cursor.fetchall()))["code_secret"]
        work._cursor.execute("SELECT code_hash FROM recovery_codes")
        hashes = b"".join(row["code_hash"] for row in work._cursor.fetchall())

    assert codes.secret.encode() not in stored
    assert not any(one.encode() in hashes for one in recovery)
