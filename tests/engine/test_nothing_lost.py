"""What may die under a job: the database, the line without a word, the disk here. Nothing is halved and nothing is lost."""

from __future__ import annotations

import asyncio
import errno
import os
import signal
from collections.abc import Iterator
from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.states import ENDED, JobState
from nailer.core.plans.plan import Answers
from nailer.engine import runner
from nailer.errors import StoreUnavailable
from nailer.sides.sftp import side as sftp
from nailer.standins.faults import Slow, Stuck
from nailer.store.mariadb import PrivateMariaDB
from tests.builders import NOON_S, tree, write
from tests.world import World, a_world


async def test_a_line_that_goes_silent_is_noticed_and_the_job_ends_whole(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(runner, "_STUCK_S", 0.5)
    monkeypatch.setattr(runner, "RENEW_EVERY_S", 0.1)
    for number in range(20):
        write(world.here, f"f{number}.bin", os.urandom(40_000))
    write(world.there, "f3.bin", "old", NOON_S - 900)
    world.host.fault = fault = Stuck(300_000)

    job = await world.upload(*(f"f{number}.bin" for number in range(20)))

    assert job.state is JobState.DONE, await world.nailer.stores.jobs.failures(job.id)
    assert fault.told
    assert tree(world.there) == tree(world.here)
    tally = job.tally
    assert tally.planned == tally.done + tally.failed + tally.left + tally.waiting


async def test_a_full_disk_here_stops_the_download_and_leaves_what_was_there(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    room = 100_000

    def write_all(file: int, chunk: bytes) -> None:
        nonlocal room
        if len(chunk) > room:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        room -= len(chunk)
        os.write(file, chunk)

    monkeypatch.setattr("nailer.sides.here.write_all", write_all)
    write(world.here, "b.bin", "old here", NOON_S - 900)
    write(world.there, "a.bin", b"a" * 60_000)
    write(world.there, "b.bin", b"b" * 90_000)

    job = await world.download("a.bin", "b.bin")

    assert job.state is JobState.NEEDS_YOU
    assert job.trouble_kind == "NoSpaceLeft"
    found = tree(world.here)
    assert found["b.bin"] in (b"old here", b"b" * 90_000)
    assert set(found) <= {"a.bin", "b.bin"}, "no half file is left"
    tally = job.tally
    assert tally.planned == tally.done + tally.failed + tally.left + tally.waiting
    room = 10**9
    await world.nailer.stores.jobs.again(job.id)
    world.nailer.engine.runner.wake()
    assert (await world.ended(job.id)).state is JobState.DONE
    assert tree(world.here) == tree(world.there)


@pytest.fixture
def own_database(tmp_path: Path) -> Iterator[tuple[PrivateMariaDB, str]]:
    """A database that a test may kill."""
    server = PrivateMariaDB(tmp_path / "database")
    yield server, server.start()
    server.stop()


async def test_a_database_that_is_killed_under_a_job_costs_time_and_nothing_else(
    tmp_path: Path, own_database: tuple[PrivateMariaDB, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Killed with -9 while files are under way; it comes back by itself, and so does the job."""
    monkeypatch.setattr(runner, "LEASE_S", 3.0)
    monkeypatch.setattr(runner, "RENEW_EVERY_S", 0.5)
    server, url = own_database
    async with a_world(tmp_path, url) as world:
        for number in range(120):
            write(world.here, f"f{number}.txt", f"new {number}" * 500)
            if number % 3 == 0:
                write(world.there, f"f{number}.txt", f"old {number}", NOON_S - 900)
        world.host.fault = Slow(0.004)
        job_id = await world.plan(SideName.THERE, *(f"f{number}.txt" for number in range(120)))
        await world.nailer.plans.make.carry_out(job_id, world.site, Answers())
        while not (live := world.nailer.engine.live.jobs.get(job_id)) or live.tally.done.files < 5:
            await asyncio.sleep(0.01)

        assert server.pid is not None
        os.kill(server.pid, signal.SIGKILL)
        job = await _ended_in_time(world, job_id)

        assert job is JobState.DONE
        assert tree(world.there) == tree(world.here)
        undone = await world.nailer.plans.take_back.take_job_back(world.account_id, job_id)
        assert (await world.run(undone)).state is JobState.DONE
        assert tree(world.there) == {f"f{number}.txt": f"old {number}".encode() for number in range(0, 120, 3)}


async def _ended_in_time(world: World, job_id: int) -> JobState:
    """As `World.ended`, past the time in which the database does not answer."""
    while True:
        try:
            state = (await world.nailer.stores.jobs.get(job_id)).state
        except StoreUnavailable:
            state = JobState.RUNNING
        if state in ENDED:
            return state
        await asyncio.sleep(0.1)


@pytest.mark.parametrize("side", SideName)
async def test_keys_that_are_agreed_anew_under_way_cost_nothing(
    world: World, side: SideName, monkeypatch: pytest.MonkeyPatch
) -> None:
    """SSH agrees on fresh keys every gigabyte (RFC 4253, 9); here every megabyte."""
    usual = sftp._options
    monkeypatch.setattr(sftp, "_options", lambda *given: usual(*given) | {"rekey_bytes": 1_000_000})
    source, target = (world.here, world.there) if side is SideName.THERE else (world.there, world.here)
    write(source, "film.bin", os.urandom(12_000_000))
    for number in range(30):
        write(source, f"f{number}.bin", os.urandom(50_000))

    job = await world.transfer(side, "film.bin", *(f"f{number}.bin" for number in range(30)))

    assert job.state is JobState.DONE, await world.nailer.stores.jobs.failures(job.id)
    assert tree(target) == tree(source)
    assert world.host.sign_ins == 1, "the line was never lost"
