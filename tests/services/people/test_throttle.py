"""Tries to sign in are counted before a password is looked at, and waits grow with them."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import AsyncIterator
from datetime import timedelta

import pytest
from argon2 import PasswordHasher

from nailer.errors import Busy, NotAllowed
from nailer.services.people.accounts import Accounts
from nailer.services.people.hashing import PasswordHashing
from nailer.services.people.streams import Streams
from nailer.store.database import Database, utc_now
from nailer.store.people.accounts import AccountStore, From
from tests.services.people.gate import Gate
from tests.world import LIGHT

RIGHT = "gannets-and-gorse"


def made_accounts(database: Database, hasher: PasswordHasher) -> Accounts:
    store = AccountStore(database)
    return Accounts(store, PasswordHashing(hasher), Streams(), session_hours=1, idle_hours=1)


@pytest.fixture
async def accounts(database: Database) -> AsyncIterator[Accounts]:
    accounts = made_accounts(database, LIGHT)
    await accounts.make("Maren", RIGHT)
    yield accounts
    accounts.close()


async def outcome(accounts: Accounts, password: str, *, name: str = "Maren", address: str = "192.0.2.7") -> str:
    try:
        await accounts.sign_in(name, password, From(address))
    except NotAllowed as refused:
        return "wait" if "Try again in" in refused.what else "refused"
    return "in"


async def test_of_sixty_guesses_at_once_only_the_free_ones_are_looked_at(accounts: Accounts) -> None:
    counted = Counter(await asyncio.gather(*(outcome(accounts, f"guess {number}") for number in range(60))))

    assert counted["refused"] <= 3
    assert counted["wait"] >= 57


async def test_a_name_is_throttled_under_all_its_spellings(accounts: Accounts) -> None:
    for name in ("maren", "MAREN", "Maren"):
        assert await outcome(accounts, "wrong", name=name) == "refused"

    assert await outcome(accounts, RIGHT, name=" maren") == "wait"


async def test_one_attacker_does_not_lock_a_person_out_elsewhere(accounts: Accounts) -> None:
    for _ in range(20):
        await outcome(accounts, "wrong", address="198.51.100.66")

    assert await outcome(accounts, RIGHT, address="198.51.100.66") == "wait"
    assert await outcome(accounts, RIGHT) == "in"


async def test_a_network_cannot_try_name_after_name(accounts: Accounts) -> None:
    tried = [await outcome(accounts, "wrong", name=f"name {n}", address=f"2001:db8::{n:x}") for n in range(15)]

    assert tried == ["refused"] * 10 + ["wait"] * 5
    assert await outcome(accounts, "wrong", name="other", address="2001:db8:0:1::1") == "refused"


async def test_a_password_that_fits_begins_anew_and_costs_nothing(accounts: Accounts) -> None:
    for _ in range(9):
        assert await outcome(accounts, "wrong") == "refused"
        assert await outcome(accounts, RIGHT) == "in"

    assert await outcome(accounts, RIGHT) == "in"


async def test_refusals_fade_even_where_somebody_signs_in_all_day(accounts: Accounts, database: Database) -> None:
    """An office: each hour a few slips of other people and a sign-in that fits. It must not become slower by the day."""
    for hour in range(6):
        with database._connection() as connection, connection.cursor() as cursor:
            cursor.execute("UPDATE refusals SET last_at = last_at - INTERVAL 1 HOUR")
            connection.commit()
        tried = [await outcome(accounts, "wrong", name=f"person {hour} {number}") for number in range(5)]
        assert tried == ["refused"] * 5
        assert await outcome(accounts, RIGHT) == "in"


async def test_refusals_are_forgotten_in_time(accounts: Accounts, database: Database) -> None:
    for _ in range(4):
        last = await outcome(accounts, "wrong")
    assert last == "wait"
    with database._connection() as connection, connection.cursor() as cursor:
        cursor.execute("UPDATE refusals SET last_at = %s", (utc_now() - timedelta(days=1, seconds=1),))
        connection.commit()

    assert [await outcome(accounts, "wrong") for _ in range(3)] == ["refused"] * 3
    with database._connection() as connection, connection.cursor() as cursor:
        cursor.execute("SELECT COUNT(*) AS rows_left FROM refusals WHERE failures > 3")
        assert cursor.fetchone() == {"rows_left": 0}


async def test_a_try_whose_password_was_not_looked_at_counts_nowhere(database: Database) -> None:
    """People of many networks at once: some are told to come again, and need not wait for that."""
    gate = Gate()
    gate.opened.set()
    accounts = made_accounts(database, gate)
    await accounts.make("Maren", RIGHT)
    gate.opened.clear()
    tries = [asyncio.ensure_future(accounts.sign_in("Maren", RIGHT, From(f"192.0.2.{number}"))) for number in range(16)]
    ended, _ = await asyncio.wait(tries, return_when=asyncio.FIRST_EXCEPTION)
    gate.opened.set()
    await asyncio.wait(tries)
    accounts.close()

    assert {type(one.exception()) for one in ended} == {Busy}
    assert {type(one.exception()) for one in tries} == {Busy, type(None)}
    with database._connection() as connection, connection.cursor() as cursor:
        cursor.execute("SELECT SUM(failures) AS counted FROM refusals")
        assert cursor.fetchone() == {"counted": 0}


@pytest.mark.parametrize(
    "name",
    ["\u0390" * 80, "\xdf" * 80, "x" * 4000, "\udcff"],
    ids=["folds to three", "to two", "long", "half a letter"],
)
async def test_no_name_is_too_odd_to_be_refused(accounts: Accounts, name: str) -> None:
    assert await outcome(accounts, "wrong", name=name) == "refused"
