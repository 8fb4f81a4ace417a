"""Passwords are hashed apart from everything else, a few at once."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator

import pytest

from nailer.errors import Busy
from nailer.services.people.hashing import PasswordHashing
from tests.services.people.gate import Gate
from tests.world import LIGHT


@pytest.fixture
def gate() -> Iterator[Gate]:
    gate = Gate()
    yield gate
    gate.opened.set()


async def test_of_many_at_once_a_few_wait_and_the_others_hear_so_at_once(gate: Gate) -> None:
    hashing = PasswordHashing(gate)
    tries = [asyncio.ensure_future(hashing.fits(hashing.nobodys, "guess")) for _ in range(100)]

    refused = [one for one in (await asyncio.wait(tries, return_when=asyncio.FIRST_EXCEPTION))[0] if one.exception()]
    while len(refused) < 92:
        await asyncio.sleep(0)
        refused = [one for one in tries if one.done()]
    gate.opened.set()
    ended = await asyncio.gather(*tries, return_exceptions=True)

    assert sum(isinstance(one, Busy) for one in ended) == 92
    assert sum(one is False for one in ended) == 8
    assert gate.most <= 2
    hashing.close()


async def test_files_and_database_do_not_wait_for_passwords(gate: Gate) -> None:
    hashing = PasswordHashing(gate)
    tries = [asyncio.ensure_future(hashing.fits(hashing.nobodys, "guess")) for _ in range(8)]
    await asyncio.sleep(0)

    assert await asyncio.gather(*(asyncio.to_thread(int, "7") for _ in range(64))) == [7] * 64
    assert not any(one.done() for one in tries)

    gate.opened.set()
    await asyncio.gather(*tries)
    hashing.close()


async def test_a_place_is_free_only_once_the_work_has_ended(gate: Gate) -> None:
    """A thread cannot be stopped: callers that leave must not make room for more of them."""
    hashing = PasswordHashing(gate)
    tries = [asyncio.ensure_future(hashing.fits(hashing.nobodys, "guess")) for _ in range(2)]
    while gate.in_hand < 2:
        await asyncio.sleep(0)
    for one in tries:
        one.cancel()
    others = [asyncio.ensure_future(hashing.fits(hashing.nobodys, "guess")) for _ in range(7)]
    await asyncio.wait(others, return_when=asyncio.FIRST_COMPLETED)

    assert [type(one.exception()) for one in others if one.done()] == [Busy]

    gate.opened.set()
    await asyncio.gather(*others, return_exceptions=True)
    hashing.close()


async def test_the_right_password_fits_and_another_does_not() -> None:
    hashing = PasswordHashing(LIGHT)
    stored = await hashing.hash("gannets-and-gorse")

    assert await hashing.fits(stored, "gannets-and-gorse")
    assert not await hashing.fits(stored, "gannets-and-gors")
    assert not await hashing.fits("no hash at all", "gannets-and-gorse")
    assert (hashing.is_old(stored), PasswordHashing(Gate()).is_old(stored)) == (False, False)
    hashing.close()
