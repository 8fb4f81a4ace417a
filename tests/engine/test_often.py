"""Looking every few seconds: a failure ends nothing, and stopping ends what was begun."""

from __future__ import annotations

import asyncio

import pytest

from nailer.engine.often import Often
from nailer.errors import StoreUnavailable


async def test_it_looks_again_whatever_fails_and_ends_what_it_began(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("nailer.engine.often._EVERY_S", 0.0)
    looks, enough, ended = [], asyncio.Event(), asyncio.Event()

    async def _works() -> None:
        try:
            await asyncio.sleep(60)
        finally:
            ended.set()

    async def _look() -> None:
        looks.append(len(looks))
        if len(looks) == 1:
            raise StoreUnavailable("away")
        if len(looks) == 2:
            raise ValueError("a defect")
        if len(looks) == 3:
            often.begin(_works())
        if len(looks) > 4:
            enough.set()

    often = Often("anything", _look)
    often.start()
    async with asyncio.timeout(30):
        await enough.wait()
    await often.stop()
    assert ended.is_set()
    seen = len(looks)
    await asyncio.sleep(0.05)
    assert len(looks) == seen


async def test_one_that_was_never_started_stops() -> None:
    async def _never() -> None:
        raise AssertionError

    await Often("nothing", _never).stop()
