"""A replacement that is killed between any two of its transactions: what its page says is what is there."""

from __future__ import annotations

import asyncio
from dataclasses import replace

import pytest

from nailer.core.jobs.states import ENDED
from nailer.core.packages.replacing import Take
from nailer.core.work.kinds import WorkKind
from nailer.services.packages import Replacement, ReplacementState
from tests.builders import tree, write
from tests.killing import killed_at_write
from tests.services.packages.versions import NEW, OLD, choose, lay_out, planned
from tests.world import World

BOARD = "#!/bin/sh\nset -e\n. ../skins/harbour/part.sh\nprintf 'Content-Type: text/html\\n\\nPier'\n"


async def cut_and_begun_anew(world: World, number: int, kill_at: int) -> tuple[Replacement, str]:
    replacing, work = world.nailer.packages.replacing, world.nailer.engine.work
    with killed_at_write(kill_at) as cut:
        await replacing.carry_out(world.account_id, world.site, number)
        while not cut and await world.nailer.stores.works.get(WorkKind.REPLACEMENT, number) is not None:
            await asyncio.sleep(0.02)
    await work.stop()
    await work.start()
    await replacing.runs.wait(world.site.id)
    return await replacing.get(world.site, number), "".join(cut)


async def all_jobs_ended(world: World) -> None:
    """Nothing runs on that no page knows of."""
    for _ in range(200):
        jobs = await world.nailer.stores.jobs.overview(before=2**31, limit=20, wanted="")
        if not [one for one in jobs.active if one.state not in ENDED]:
            return
        await asyncio.sleep(0.05)
    raise AssertionError("a job goes on")


@pytest.mark.parametrize("worse", [False, True], ids=["well", "worse"])
@pytest.mark.parametrize("kill_at", range(1, 9))
async def test_one_by_one_is_killed_at_a_transaction(world: World, pages: object, kill_at: int, worse: bool) -> None:
    """Where a watched page is worse afterwards the old version comes back, whatever was cut in between."""
    old, new = OLD | {"part.sh": "true\n"}, NEW | {"part.sh": "exit 3\n" if worse else "true\n"}
    top = lay_out(world, old)
    write(world.there, "cgi-bin/board.cgi", BOARD).chmod(0o755)
    ways = await world.nailer.editing.saving.ways(world.site.id)
    watched = replace(ways, watched=("https://mosslane.example/cgi-bin/board.cgi",))
    await world.nailer.editing.saving.write_ways(world.site.id, watched)
    plan = await choose(world, await planned(world, new), old=Take.DROP)
    await world.nailer.packages.replacing.in_place(world.site, plan.one.id, wanted=True)

    try:
        one, _ = await cut_and_begun_anew(world, plan.one.id, kill_at)
    finally:
        await all_jobs_ended(world)
    assert one.state is (ReplacementState.BACK if worse else ReplacementState.IN_PLACE), one.words
    assert tree(top) == {name: text.encode() for name, text in (old if worse else new).items()}


@pytest.mark.parametrize("kill_at", range(1, 6))
async def test_beside_the_old_one_it_is_killed_at_a_transaction(world: World, pages: object, kill_at: int) -> None:
    top = lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    one, _ = await cut_and_begun_anew(world, plan.one.id, kill_at)
    await all_jobs_ended(world)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert tree(top) == {name: text.encode() for name, text in NEW.items()}
    assert one.kept is not None
    assert tree(top.parent / one.kept.name.decode()) == {name: text.encode() for name, text in OLD.items()}


@pytest.mark.parametrize("kill_at", range(1, 5))
@pytest.mark.parametrize("in_place", [False, True], ids=["beside", "one by one"])
async def test_what_is_begun_is_begun_as_a_whole(world: World, pages: object, kill_at: int, in_place: bool) -> None:
    """Killed while it begins: nothing runs, or what runs is what its page says."""
    top = lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    replacing, stores = world.nailer.packages.replacing, world.nailer.stores
    await replacing.in_place(world.site, plan.one.id, wanted=in_place)
    work = world.nailer.engine.work
    with killed_at_write(kill_at, "Replacing.carry_out"):
        begun = asyncio.create_task(replacing.carry_out(world.account_id, world.site, plan.one.id))
        await asyncio.gather(begun, return_exceptions=True)
    one = await replacing.get(world.site, plan.one.id)
    jobs = [each for each in await stores.jobs.ended() if each.id > 0]
    running = (await stores.jobs.overview(before=2**31, limit=20, wanted="")).active
    under_way = await stores.works.get(WorkKind.REPLACEMENT, plan.one.id)
    if one.state is ReplacementState.PLANNED:
        assert (jobs, running, under_way) == ([], [], None)
        return
    assert one.job_id is not None
    await work.stop()
    await work.start()
    await replacing.runs.wait(world.site.id)
    assert (await replacing.get(world.site, plan.one.id)).state is ReplacementState.IN_PLACE
    assert tree(top) == {name: text.encode() for name, text in NEW.items()}
