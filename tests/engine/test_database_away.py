"""The database is killed with -9 under long work: nothing is left under way, and the work can be done again."""

from __future__ import annotations

import asyncio
import os
import random
import signal
from collections.abc import AsyncIterator, Iterator
from pathlib import Path

import pytest

from nailer.core.files.sitepath import SitePath
from nailer.core.packages.replacing import Take
from nailer.core.pairs.runs import RunState
from nailer.core.work.kinds import WorkKind
from nailer.core.work.states import CopyState
from nailer.errors import NailerError, StoreUnavailable
from nailer.services.packages import ReplacementState
from nailer.standins.faults import Healthy, Slow
from nailer.store.mariadb import PrivateMariaDB
from tests.builders import tree, write
from tests.services.packages.versions import NEW, OLD, choose, lay_out, planned
from tests.services.pairs import syncing
from tests.world import World, a_world

TOP = SitePath.parse(b"/htdocs")


@pytest.fixture
def own_database(tmp_path: Path) -> Iterator[tuple[PrivateMariaDB, str]]:
    server = PrivateMariaDB(tmp_path / "database")
    yield server, server.start()
    server.stop()


@pytest.fixture
async def shaky(
    tmp_path: Path, own_database: tuple[PrivateMariaDB, str]
) -> AsyncIterator[tuple[World, PrivateMariaDB]]:
    """A site of 80 pages on a slow server, with a database that a test may kill."""
    server, url = own_database
    async with a_world(tmp_path, url) as world:
        for number in range(80):
            write(world.there, f"p{number}.html", f"<a href=p{number + 1}.html>{number}</a>" * 40)
        yield world, server


def kill(server: PrivateMariaDB) -> None:
    assert server.pid is not None
    os.kill(server.pid, signal.SIGKILL)


async def again_and_again(ask):  # type: ignore[no-untyped-def]
    for _ in range(600):
        try:
            return await ask()
        except StoreUnavailable:
            await asyncio.sleep(0.05)
    raise AssertionError("the database did not come back")


async def test_under_a_verified_copy(shaky: tuple[World, PrivateMariaDB]) -> None:
    world, server = shaky
    copies = world.nailer.packages.copies
    world.host.fault = Slow(0.01)
    first = await copies.take(world.account_id, world.site, TOP, "Moss Lane")
    while (standing := copies.standing(world.site.id)) is not None and standing.done < 5:
        await asyncio.sleep(0.01)
    kill(server)
    await copies.wait(world.site.id)
    world.host.fault = Healthy()

    ended = await again_and_again(lambda: world.nailer.stores.copies.get(world.site.id, first))
    assert ended.state in (CopyState.VERIFIED, CopyState.FAILED), "nothing is taken for ever"
    assert copies.standing(world.site.id) is None
    second = await again_and_again(lambda: copies.taken(world.account_id, world.site, TOP, "again"))
    assert second.state is CopyState.VERIFIED, second.problem
    _, manifest = await copies.look_inside(world.site, second.id)
    assert len([one for one in manifest.names if one.entry.is_file]) == 80


async def test_under_a_scan(shaky: tuple[World, PrivateMariaDB]) -> None:
    world, server = shaky
    reader = world.nailer.checks.reader
    world.host.fault = Slow(0.01)
    await reader.begin(world.account_id, world.site)
    while (standing := reader.standing(world.site.id)) is not None and standing.read < 5:
        await asyncio.sleep(0.01)
    kill(server)
    await reader.wait(world.site.id)
    world.host.fault = Healthy()

    under_way = await again_and_again(lambda: world.nailer.stores.works.all_on(WorkKind.SCAN, world.site.id))
    assert under_way == [], "no scan is under way for ever"
    try:
        await again_and_again(lambda: reader.begin(world.account_id, world.site))
    except NailerError as error:
        raise AssertionError(error.what) from error
    await reader.wait(world.site.id)
    reading, _ = await world.nailer.checks.known.learned(world.site)
    assert reading.problem == ""


async def test_under_a_sync(shaky: tuple[World, PrivateMariaDB]) -> None:
    world, server = shaky
    pair = await syncing.a_pair(world)
    fetched = await syncing.read(world, syncing.FETCH, pair=pair)
    assert (await syncing.carried_out(world, fetched)).state is RunState.DONE
    for number in range(80):
        write(world.here, f"p{number}.html", f"new {number}")
    plan = await syncing.read(world, syncing.PUBLISH, pair=pair)
    world.host.fault = Slow(0.01)
    run_id = await world.nailer.pairs.runs.carry_out(plan, typed=plan.word_to_type)
    await _some_replaced(world)
    kill(server)
    world.host.fault = Healthy()

    async with asyncio.timeout(60):
        while True:
            run = await again_and_again(lambda: world.nailer.stores.pairs.run(run_id))
            if run.state is not RunState.RUNNING:
                break
            await asyncio.sleep(0.05)

    assert run.state is RunState.DONE, "it is written down without anybody looking at it"
    assert tree(world.there) == tree(world.here)


@pytest.mark.parametrize("seed", range(4))
async def test_under_a_replacement(tmp_path: Path, own_database: tuple[PrivateMariaDB, str], seed: int) -> None:
    server, url = own_database
    more = {f"lib/part-{number}.js": f"part({number})" for number in range(40)}
    async with a_world(tmp_path, url) as world:
        top = lay_out(world, OLD | more)
        plan = await choose(world, await planned(world, NEW | more), old=Take.DROP)
        replacing = world.nailer.packages.replacing
        world.host.fault = Slow(0.005)
        await replacing.carry_out(world.account_id, world.site, plan.one.id)
        await asyncio.sleep(random.Random(seed).random() * 1.5)
        kill(server)
        seen = tree(top) if top.exists() else None
        world.host.fault = Healthy()
        async with asyncio.timeout(60):
            await replacing.runs.wait(world.site.id)
        one = await again_and_again(lambda: replacing.get(world.site, plan.one.id))

        old, new = _encoded(OLD | more), _encoded(NEW | more)
        assert seen in (None, old, new)
        assert one.state is ReplacementState.IN_PLACE, one.words
        assert tree(top) == new
        assert one.kept is not None
        assert tree(top.parent / one.kept.name.decode()) == old


def _encoded(files: dict[str, str]) -> dict[str, bytes]:
    return {name: content.encode() for name, content in files.items()}


async def _some_replaced(world: World) -> None:
    async with asyncio.timeout(20):
        while sum(content.startswith(b"new") for content in tree(world.there).values()) < 5:
            await asyncio.sleep(0.01)
