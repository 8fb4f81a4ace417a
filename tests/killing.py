"""Ends long work as a killed process does: nothing is put back, and nothing is written down."""

from __future__ import annotations

import asyncio

import pytest

from nailer.engine.work import RunningWork, WorkRunner
from nailer.services.packages.searching import Searching
from tests.world import World


async def kill_long_work(world: World) -> None:
    """Cut all long work of a world's Nailer where it is. Its leases have run out after this, and nobody has looked for it
    yet: `world.nailer.engine.work.start()` is the next process."""
    work = world.nailer.engine.work

    async def _nothing(runner: WorkRunner, one: RunningWork, end: object) -> None:
        runner._mine.pop(one.row.id, None)
        one.ended.set()

    async def _puts_nothing_back(*_: object) -> None:
        """The process is gone."""

    with pytest.MonkeyPatch.context() as killed:
        killed.setattr(WorkRunner, "_ended", _nothing)
        killed.setattr(Searching, "_put_back", _puts_nothing_back)
        await work.stop()
        await asyncio.sleep(0)
    with world.nailer.stores.database.writing() as transaction:
        transaction._cursor.execute("UPDATE works SET owner = 'killed:0:x', lease_until = '2000-01-01'")
