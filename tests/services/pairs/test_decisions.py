"""Another wish and other choices on one reading."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Iterator
from dataclasses import replace
from random import Random

import pytest

from nailer.core.pairs.proposals import choices_of
from nailer.core.pairs.rows import SyncRow
from nailer.core.pairs.wishes import Doing, Removals
from nailer.errors import Conflict
from tests.builders import NOON_S, write
from tests.services.pairs.syncing import FETCH, PUBLISH, does, level_now, read
from tests.world import World


async def test_another_wish_and_other_choices_need_no_other_reading(world: World) -> None:
    await level_now(world, {"a.html": "x", "b.html": "y"})
    write(world.here, "a.html", "new", NOON_S + 60)
    (world.here / "b.html").unlink()
    plan = await read(world)
    asked = world.host.requests

    await world.nailer.pairs.decisions.set_wish(plan, replace(FETCH, removals=Removals.ASK))
    assert does(plan) == {"a.html": Doing.DOWNLOAD, "b.html": Doing.DOWNLOAD}
    await world.nailer.pairs.decisions.set_wish(plan, replace(PUBLISH, removals=Removals.ASK))
    assert does(plan) == {"a.html": Doing.UPLOAD, "b.html": Doing.DECIDE}
    number = next(number for number, row in enumerate(plan.rows) if row.below == (b"b.html",))
    assert choices_of(plan.rows[number], Doing.DECIDE) == (Doing.DOWNLOAD, Doing.REMOVE_THERE, Doing.LEAVE)
    assert await world.nailer.pairs.decisions.choose(plan, [number], Doing.UPLOAD) == 0
    assert await world.nailer.pairs.decisions.choose(plan, [number], Doing.REMOVE_THERE) == 1
    assert await world.nailer.pairs.decisions.choose(plan, [number], None) == 1
    assert does(plan)["b.html"] is Doing.DECIDE
    assert world.host.requests == asked


class _SlowOnce(list[SyncRow]):
    """Rows that take a while to be gone through for the first time, as twenty thousand of them do."""

    slow = True

    def __iter__(self) -> Iterator[SyncRow]:
        if self.slow:
            self.slow = False
            time.sleep(0.4)
        return super().__iter__()


async def test_of_two_quick_choices_both_hold_and_the_newest_is_carried_out(world: World) -> None:
    await level_now(world, {"a.html": "x", "b.html": "y"})
    for folder in (world.here, world.there):
        write(folder, "a.html", f"{folder} a", NOON_S + 60)
        write(folder, "b.html", f"{folder} b", NOON_S + 60)
    plan = await read(world)
    plan.found = replace(plan.found, rows=_SlowOnce(plan.rows))
    seen = plan.decided

    decisions = world.nailer.pairs.decisions
    slow = asyncio.create_task(decisions.choose(plan, [0, 1], Doing.UPLOAD))
    await asyncio.sleep(0.1)
    await asyncio.gather(slow, decisions.choose(plan, [1], Doing.DOWNLOAD))

    assert does(plan) == {"a.html": Doing.UPLOAD, "b.html": Doing.DOWNLOAD}
    assert [len(plan.steps.there), len(plan.steps.here)] == [1, 1], "what is shown is what is done"
    assert plan.decided.number == seen.number + 2
    with pytest.raises(Conflict, match="has changed since this page showed it"):
        await world.nailer.pairs.runs.carry_out(plan, number=seen.number)
    run = await world.nailer.pairs.runs.carry_out(plan, number=plan.decided.number)
    await world.nailer.pairs.runs.ended(run)
    assert (world.there / "a.html").read_text() == (world.here / "a.html").read_text() == f"{world.here} a"
    assert (world.there / "b.html").read_text() == (world.here / "b.html").read_text() == f"{world.there} b"
    with pytest.raises(Conflict, match="already being carried out"):
        await decisions.choose(plan, [0], Doing.LEAVE)


async def test_random_choices_at_once_leave_one_plan_that_agrees_with_itself(world: World) -> None:
    """Whatever order they come in: the steps are those of the choices that stand."""
    names = {f"n{number}.html": "x" for number in range(12)}
    await level_now(world, names)
    for name in names:
        write(world.here, name, "newer", NOON_S + 60)
    plan = await read(world)
    random = Random(24)

    async def _one() -> None:
        some = random.sample(range(len(plan.rows)), 4)
        await world.nailer.pairs.decisions.choose(plan, some, random.choice([Doing.UPLOAD, Doing.LEAVE, None]))

    await asyncio.gather(*(_one() for _ in range(60)))

    again = plan.worked_out(plan.decided.wanted)
    assert (again.doings, again.steps, again.flow) == (plan.doings, plan.steps, plan.flow)
    assert len(plan.steps.there) == list(does(plan).values()).count(Doing.UPLOAD)
