"""A run whose lease ran out, as where its machine slept: another run has the job, and the two never write at once."""

from __future__ import annotations

import asyncio
import os
from typing import Any

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.limits import Limit, Limits
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Answers
from nailer.engine.receipts import Receipts
from nailer.engine.runner import JobRun
from nailer.store.database import Work
from tests.builders import tree, write
from tests.world import World

SLOW = {0: Limits(Limit(4_000_000, 4_000_000), ())}


async def runs_out(world: World, job_id: int) -> None:
    """The lease ends now, as it does while a machine sleeps."""

    def change(work: Work) -> None:
        work._cursor.execute("UPDATE jobs SET lease_until = '2000-01-01' WHERE id = %s", (job_id,))

    await world.nailer.stores.database.write(change)


async def begun(world: World, name: str, size: int) -> int:
    """A job of one file that is under way."""
    write(world.here, name, os.urandom(size))
    job_id = await world.plan(SideName.THERE, name)
    await world.nailer.plans.make.carry_out(job_id, world.site, Answers())
    live = world.nailer.engine.live
    while job_id not in live.jobs or not live.jobs[job_id].tally.under_way_bytes:
        await asyncio.sleep(0.01)
    return job_id


async def test_two_runs_of_one_job_are_never_at_work_at_once(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    plain, at_once, most = JobRun.transfer_all, 0, 0

    async def counted(self: JobRun) -> None:
        nonlocal at_once, most
        at_once += 1
        most = max(most, at_once)
        try:
            await plain(self)
        finally:
            at_once -= 1

    monkeypatch.setattr(JobRun, "transfer_all", counted)
    world.nailer.engine.limits.set_all(SLOW)
    job_id = await begun(world, "film.bin", 6_000_000)

    await runs_out(world, job_id)
    world.nailer.engine.runner.wake()
    while (await world.nailer.stores.jobs.get(job_id)).claims < 2:
        await asyncio.sleep(0.01)
    world.nailer.engine.limits.set_all({})
    job = await world.ended(job_id)

    assert (job.state, job.claims, most) == (JobState.DONE, 2, 1)
    assert tree(world.there) == tree(world.here)


async def test_a_run_that_was_overtaken_changes_nothing_more(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """It finds out before the change itself, not at its next renewal."""
    write(world.there, "film.bin", "what is live")
    announced = []
    plain = Receipts.announce

    async def overtaken(self: Receipts, *given: Any, **more: Any) -> None:
        # All bytes lie beside the old file; another process takes the job just now.
        await runs_out(world, self.context.job.id)
        assert await world.nailer.stores.claims.claim("another:1:x:1", lease_s=60) == self.context.job.id
        monkeypatch.setattr("nailer.engine.runner.MARGIN_S", 3600.0)
        await plain(self, *given, **more)
        announced.append(given)

    monkeypatch.setattr(Receipts, "announce", overtaken)
    job_id = await begun(world, "film.bin", 3_000_000)
    while world.nailer.engine.live.jobs:
        await asyncio.sleep(0.01)

    assert not announced
    assert (world.there / "film.bin").read_text() == "what is live"
    assert (await world.nailer.stores.jobs.get(job_id)).state is JobState.RUNNING, "it is the other run's"
    hidden = [one for one in os.listdir(world.there) if one.startswith(".nailer-")]
    assert hidden, "the half file is the other run's, too"
