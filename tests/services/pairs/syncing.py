"""What tests of pairs do again and again: read a pair, choose, carry out."""

from __future__ import annotations

from collections.abc import Mapping

from nailer.core.compare.joint import Compare
from nailer.core.jobs.states import ItemState
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Doing, Removals, SyncWish
from nailer.core.plans.plan import Action
from nailer.services.pairs.plan import SyncPlan
from nailer.store.pairs import Pair, Run
from tests.builders import write
from tests.world import HERE, THERE, World

PUBLISH, FETCH, LEVEL = (SyncWish(way, Removals.FOLLOW) for way in Direction)


async def a_pair(world: World) -> Pair:
    return await world.nailer.stores.pairs.add(world.site.id, HERE, THERE, "htdocs")


async def read(
    world: World, wish: SyncWish = LEVEL, compare: Compare = Compare.SIZE_AND_TIME, pair: Pair | None = None
) -> SyncPlan:
    return await world.nailer.pairs.readings.read_now(world.account_id, pair or await a_pair(world), wish, compare)


def does(plan: SyncPlan) -> dict[str, Doing]:
    return {name_of(row.below): doing for row, doing in zip(plan.rows, plan.doings.each, strict=True)}


def name_of(below: tuple[bytes, ...]) -> str:
    return b"/".join(below).decode()


async def choose(world: World, plan: SyncPlan, **wanted: Doing) -> None:
    """Decide rows by their last name without its ending."""
    for number, row in enumerate(plan.rows):
        stem = row.below[-1].split(b".")[0].decode()
        if stem in wanted:
            assert await world.nailer.pairs.decisions.choose(plan, [number], wanted[stem]) == 1


async def carried_out(world: World, plan: SyncPlan, typed: str | None = None) -> Run:
    word = plan.word_to_type if typed is None else typed
    return await world.nailer.pairs.runs.ended(await world.nailer.pairs.runs.carry_out(plan, typed=word))


async def bring(world: World, wish: SyncWish = LEVEL, **wanted: Doing) -> Run:
    plan = await read(world, wish)
    await choose(world, plan, **wanted)
    return await carried_out(world, plan)


async def level_now(world: World, files: Mapping[str, str]) -> None:
    """Both sides hold these files, and have been level."""
    for name, content in files.items():
        write(world.here, name, content)
    assert (await bring(world, PUBLISH)).state is RunState.DONE


async def actions(world: World, run: Run) -> list[tuple[Action, str, ItemState]]:
    return [
        (item.action, item.target.name.decode(), item.state)
        for job in run.jobs
        for item in await world.nailer.stores.jobs.items(job)
    ]
