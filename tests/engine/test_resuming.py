"""A half-sent file is gone on with on proof only: the two halves are of one version."""

from __future__ import annotations

import asyncio
import os
from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.limits import Limit, Limits
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Answers
from nailer.engine.live import LiveJob
from tests.rough.worlds import hidden
from tests.world import World

SIZE = 60_000_000


def put(file: Path, data: bytes) -> None:
    file.write_bytes(data)
    os.utime(file, (1_790_000_000, 1_790_000_000))


async def paused_half_way(world: World, to_side: SideName) -> int:
    """A job that was paused once more than half of its file had gone; return it."""
    world.nailer.engine.limits.set_all({0: Limits(Limit(60_000_000, 60_000_000), ())})
    job_id = await world.plan(to_side, "big.bin")
    await world.nailer.plans.make.carry_out(job_id, world.site, Answers())
    while True:
        live = world.nailer.engine.live.jobs.get(job_id)
        if live is not None and live.tally.under_way_bytes > SIZE * 0.7:
            break
        await asyncio.sleep(0.01)
    await world.nailer.stores.jobs.pause(job_id)
    live.stop_asked.set()
    while (await world.nailer.stores.jobs.get(job_id)).state is not JobState.PAUSED:
        await asyncio.sleep(0.01)
    world.nailer.engine.limits.set_all({})
    return job_id


async def gone_on(world: World, job_id: int) -> None:
    await world.nailer.stores.jobs.go_on(job_id)
    world.nailer.engine.runner.wake()
    while (await world.nailer.stores.jobs.get(job_id)).state is not JobState.DONE:
        await asyncio.sleep(0.005)


@pytest.fixture
def spared(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """How many bytes of each file were not sent again."""
    found: list[int] = []
    resumed = LiveJob.resumed

    def noted(self: LiveJob, item_id: int, at: int) -> None:
        found.append(at)
        resumed(self, item_id, at)

    monkeypatch.setattr(LiveJob, "resumed", noted)
    return found


@pytest.mark.parametrize("to_side", list(SideName))
async def test_a_paused_file_goes_on_where_it_was(world: World, to_side: SideName, spared: list[int]) -> None:
    source, target = (world.here, world.there) if to_side is SideName.THERE else (world.there, world.here)
    data = os.urandom(SIZE)
    put(source / "big.bin", data)
    job_id = await paused_half_way(world, to_side)
    assert await world.nailer.stores.parts.transferred_of_job(job_id) > SIZE * 0.5, "what lies there already is counted"

    await gone_on(world, job_id)

    assert (target / "big.bin").read_bytes() == data
    assert not hidden(target)
    assert spared
    assert spared[0] >= 8 * 1024 * 1024


@pytest.mark.parametrize("to_side", list(SideName))
async def test_a_file_that_was_changed_in_the_carried_part_is_no_mix_of_two(
    world: World, to_side: SideName, spared: list[int]
) -> None:
    """Changed before the point of going on, with the size and the time it had."""
    source, target = (world.here, world.there) if to_side is SideName.THERE else (world.there, world.here)
    data = bytearray(os.urandom(SIZE))
    put(source / "big.bin", bytes(data))
    job_id = await paused_half_way(world, to_side)
    data[: 4 * 1024 * 1024] = os.urandom(4 * 1024 * 1024)
    put(source / "big.bin", bytes(data))

    await gone_on(world, job_id)

    assert (target / "big.bin").read_bytes() == bytes(data)
    assert not spared, "from the start"
