"""Parts of a large file: a sender whose line was cut never stands in the way of the one that goes on."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from pathlib import Path

import pytest

from nailer.errors import Conflict
from nailer.services.plans.arriving import Arriving

pytestmark = pytest.mark.anyio


async def _all(*chunks: bytes) -> AsyncIterator[bytes]:
    for chunk in chunks:
        yield chunk


async def test_who_goes_on_after_a_cut_does_not_wait_for_the_line_that_was_cut(tmp_path: Path) -> None:
    arriving, came, cut = Arriving(tmp_path), asyncio.Event(), asyncio.Event()

    async def half_open() -> AsyncIterator[bytes]:
        yield b"high "
        came.set()
        await cut.wait()  # nobody has noticed yet that the line is gone
        yield b"late "

    earlier = asyncio.create_task(arriving.append("tide", 0, 20, half_open()))
    await came.wait()

    assert await arriving.offset("tide") == 5
    assert await arriving.append("tide", 5, 20, _all(b"and ", b"low")) == 12
    cut.set()
    with pytest.raises(Conflict):
        await earlier

    assert b"".join([chunk async for chunk in arriving.content("tide")]) == b"high and low"
