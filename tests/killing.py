"""Ends long work as a killed process does: nothing is put back, and nothing is written down."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Iterator
from typing import Any

import pytest

from nailer.engine.work import RunningWork, WorkRunner
from nailer.services.packages.searching import Searching
from nailer.store.database import Database, Work
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


@contextlib.contextmanager
def killed_at_write(number: int, within: str = "WorkRunner._run") -> Iterator[list[str]]:
    """What runs in tasks of one coroutine (long work, where no other is named) is cut right after its n-th transaction, as a
    kill may cut it; yields what was cut."""
    write = Database.write
    cut: list[str] = []
    count = 0

    async def _write(database: Database, change: Callable[[Work], Any]) -> Any:
        nonlocal count
        found = await write(database, change)
        task = asyncio.current_task()
        if task is not None and getattr(task.get_coro(), "__qualname__", "") == within and not cut:
            count += 1
            if count == number:
                cut.append(getattr(change, "__qualname__", ""))
                raise asyncio.CancelledError
        return found

    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(Database, "write", _write)
        yield cut
