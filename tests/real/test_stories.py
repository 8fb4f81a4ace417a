"""Carrying, taking back, cutting and keeping in sync, over real servers in every configuration."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

import pytest

from nailer.core.compare.joint import Joint
from nailer.core.jobs.limits import Limit, Limits
from nailer.core.jobs.states import JobState
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Removals
from nailer.engine.live import LiveJob
from tests.builders import tree, write
from tests.real.grounds import CONFIGURATIONS, RealHosts, path_of
from tests.real.relay import Relay
from tests.real.servers import RealHost, give
from tests.rough.worlds import failures, hidden, read_pair
from tests.world import World, a_world_on


@contextlib.asynccontextmanager
async def a_real_world(
    hosts: RealHosts, kind: str, tmp_path: Path, database_url: str, *, relay: bool = False, **site: Any
) -> AsyncIterator[World]:
    with hosts.folder(kind) as (host, folder):
        between = Relay(host.port) if relay else None
        if between is not None:
            await between.start()
        reached: RealHost | Relay = between or host
        try:
            async with a_world_on(
                reached,
                tmp_path,
                database_url,
                folder,
                identity=host.identity,
                protocol=host.protocol,
                start_there=path_of(host, folder),
                **site,
            ) as world:
                yield world
        finally:
            if between is not None:
                await between.stop()


@pytest.fixture(params=CONFIGURATIONS)
def kind(request: pytest.FixtureRequest) -> str:
    value: str = request.param
    return value


def put_there(world: World, name: str, content: str | bytes, at_s: float = 1_700_000_000) -> None:
    give(write(world.there, name, content, at_s))


async def test_files_are_carried_replaced_and_taken_back(
    real_hosts: RealHosts, kind: str, database: object, migrated_url: str, tmp_path: Path
) -> None:
    async with a_real_world(real_hosts, kind, tmp_path, migrated_url) as world:
        put_there(world, "index.html", "live")
        write(world.here, "index.html", "new")
        write(world.here, "img/pier.bin", os.urandom(700_000))
        write(world.here, "img/deep/rope.svg", "<svg/>")
        write(world.here, "private.txt", "mine").chmod(0o600)

        job = await world.upload("index.html", "img", "private.txt")

        assert job.state is JobState.DONE, await failures(world, job)
        assert tree(world.there) == tree(world.here)
        assert (world.there / "private.txt").stat().st_mode & 0o077 == 0, "never more open than the file here"
        back = await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))
        assert back.state is JobState.DONE, await failures(world, back)
        assert tree(world.there) == {"index.html": b"live"}
        assert not list(world.there.rglob("img"))


async def test_everything_comes_down_as_it_is(
    real_hosts: RealHosts, kind: str, database: object, migrated_url: str, tmp_path: Path
) -> None:
    async with a_real_world(real_hosts, kind, tmp_path, migrated_url) as world:
        put_there(world, "a.txt", "a")
        put_there(world, "deep/b.bin", os.urandom(400_000))
        give(world.there / "deep")

        job = await world.download("a.txt", "deep")

        assert job.state is JobState.DONE, await failures(world, job)
        assert tree(world.here) == tree(world.there)


async def test_a_pair_is_published_fetched_and_levelled(
    real_hosts: RealHosts, kind: str, database: object, migrated_url: str, tmp_path: Path
) -> None:
    async with a_real_world(real_hosts, kind, tmp_path, migrated_url) as world:
        for number in range(12):
            write(world.here, f"page-{number}.html", f"page {number}")
        write(world.here, ".htaccess", "rules")
        plan = await read_pair(world, Direction.PUBLISH)
        run = await world.nailer.pairs.runs.ended(await world.nailer.pairs.runs.carry_out(plan))
        assert run.state is RunState.DONE
        assert tree(world.there) == tree(world.here)

        (world.there / "page-3.html").unlink()
        put_there(world, "page-4.html", "changed there", 1_799_000_000)
        write(world.here, "page-5.html", "changed here", 1_799_000_000)
        plan = await read_pair(world, Direction.LEVEL, Removals.FOLLOW)
        run = await world.nailer.pairs.runs.ended(
            await world.nailer.pairs.runs.carry_out(plan, typed=plan.word_to_type)
        )

        assert run.state is RunState.DONE
        assert tree(world.there) == tree(world.here)
        assert not (world.here / "page-3.html").exists()
        assert (world.here / "page-4.html").read_text() == "changed there"
        assert (world.there / "page-5.html").read_text() == "changed here"
        again = await read_pair(world, Direction.LEVEL)
        assert [row for row in again.rows if row.standing.joint is not Joint.SAME] == []


async def test_links_are_removed_and_what_they_lead_to_stays(
    real_hosts: RealHosts, kind: str, database: object, migrated_url: str, tmp_path: Path
) -> None:
    async with a_real_world(real_hosts, kind, tmp_path, migrated_url) as world:
        put_there(world, "file.txt", "stays")
        put_there(world, "folder/inside.txt", "stays")
        for name, target in (("to-file", "file.txt"), ("to-folder", "folder"), ("broken", "nowhere"), ("loop", "loop")):
            os.symlink(target, world.there / name)
        give(world.there)

        job = await world.remove_there("to-file", "to-folder", "broken", "loop")

        assert job.state is JobState.DONE, await failures(world, job)
        assert sorted(one.name for one in world.there.iterdir()) == ["file.txt", "folder"]
        assert tree(world.there) == {"file.txt": b"stays", "folder/inside.txt": b"stays"}


async def test_a_line_that_is_cut_costs_no_byte(
    real_hosts: RealHosts, kind: str, database: object, migrated_url: str, tmp_path: Path
) -> None:
    """Cut three times in the middle: the file lands whole, and nothing is left beside it."""
    async with a_real_world(real_hosts, kind, tmp_path, migrated_url, relay=True) as world:
        put_there(world, "big.bin", "what was live")
        data = os.urandom(24_000_000)
        write(world.here, "big.bin", data)
        world.nailer.engine.limits.set_all({0: Limits(Limit(20_000_000, 20_000_000), ())})
        job_id = await world.planned_up("big.bin")

        for share in (0.2, 0.5, 0.8):
            await until_sent(world, job_id, share * len(data))
            assert (world.there / "big.bin").read_bytes() in (b"what was live", data)
            await world.host.cut()
        world.nailer.engine.limits.set_all({})
        job = await world.ended(job_id)

        assert job.state is JobState.DONE, await failures(world, job)
        assert (world.there / "big.bin").read_bytes() == data
        assert not hidden(world.there)


async def until_sent(world: World, job_id: int, size: float) -> None:
    """Wait until a running job has sent so many bytes, or has ended."""
    while True:
        live: LiveJob | None = world.nailer.engine.live.jobs.get(job_id)
        if live is None and (await world.nailer.stores.jobs.get(job_id)).state is not JobState.WAITING:
            return
        if live is not None and live.tally.under_way_bytes >= size:
            return
        await asyncio.sleep(0.01)
