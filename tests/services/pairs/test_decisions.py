"""Another wish and other choices on one reading."""

from __future__ import annotations

from dataclasses import replace

from nailer.core.pairs.proposals import choices_of
from nailer.core.pairs.wishes import Doing, Removals
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
