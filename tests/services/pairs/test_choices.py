"""Choices on a plan outlast a reading: they hold for the two ends that a person saw, and for no others."""

from __future__ import annotations

from nailer.core.compare.joint import Compare
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Doing, Removals, SyncWish
from nailer.services.pairs.plan import SyncPlan
from tests.builders import NOON_S, tree, write
from tests.services.pairs.syncing import LEVEL, PUBLISH, a_pair, carried_out, choose, does, level_now, read
from tests.world import World


async def read_by_page(world: World, wish: SyncWish = LEVEL) -> SyncPlan:
    """As a page reads: the plan stays with a person. The reading before it is let go, as at a restart."""
    plan = world.nailer.pairs.readings.begin(world.account_id, await a_pair(world), wish, Compare.SIZE_AND_TIME)
    await world.nailer.pairs.plans.reading.all_ended()
    assert plan.ready, plan.problem
    return plan


async def both_changed(world: World, *names: str) -> None:
    await level_now(world, {name: f"{name}\nold\n" for name in names})
    for name in names:
        write(world.here, name, f"{name}\nmine\n", NOON_S + 60)
        write(world.there, name, f"{name}\ntheirs, longer\n", NOON_S + 90)


async def test_choices_hold_again_where_both_ends_are_as_they_were(world: World) -> None:
    await both_changed(world, "a.html", "b.html", "c.html")
    await choose(world, await read_by_page(world), a=Doing.UPLOAD, b=Doing.DOWNLOAD, c=Doing.LEAVE)
    write(world.there, "b.html", "changed once more", NOON_S + 120)

    again = await read_by_page(world)

    assert does(again) == {"a.html": Doing.UPLOAD, "b.html": Doing.DECIDE, "c.html": Doing.LEAVE}
    assert again.recalled == 2
    write(world.there, "b.html", "b.html\ntheirs, longer\n", NOON_S + 90)
    assert does(await read_by_page(world))["b.html"] is Doing.DECIDE, "a choice that held no more does not come back"


async def test_a_choice_taken_back_stays_so_and_all_can_be(world: World) -> None:
    await both_changed(world, "a.html", "b.html")
    plan = await read_by_page(world)
    await choose(world, plan, a=Doing.UPLOAD, b=Doing.UPLOAD)
    number = next(number for number, row in enumerate(plan.rows) if row.below == (b"a.html",))
    await world.nailer.pairs.decisions.choose(plan, [number], None)

    again = await read_by_page(world)
    assert does(again) == {"a.html": Doing.DECIDE, "b.html": Doing.UPLOAD}
    await world.nailer.pairs.decisions.begin_anew(again)

    assert does(again) == {"a.html": Doing.DECIDE, "b.html": Doing.DECIDE}
    assert (await read_by_page(world)).recalled == 0


async def test_each_direction_has_its_own_choices(world: World) -> None:
    await both_changed(world, "a.html")
    plan = await read_by_page(world)
    await choose(world, plan, a=Doing.DOWNLOAD)

    await world.nailer.pairs.decisions.set_wish(plan, PUBLISH)
    assert does(plan) == {"a.html": Doing.DECIDE}
    await choose(world, plan, a=Doing.UPLOAD)
    await world.nailer.pairs.decisions.set_wish(plan, SyncWish(Direction.LEVEL, Removals.ASK))

    assert does(plan) == {"a.html": Doing.DOWNLOAD}
    assert does(await read_by_page(world, PUBLISH)) == {"a.html": Doing.UPLOAD}


async def test_a_merged_text_is_not_lost_with_the_page(world: World) -> None:
    await both_changed(world, "a.html")
    await world.nailer.pairs.rows.merge(await read_by_page(world), 0, "a.html\nmine and theirs\n")

    run = await carried_out(world, await read_by_page(world))

    assert run.state is RunState.DONE
    assert tree(world.here) == tree(world.there) == {"a.html": b"a.html\nmine and theirs\n"}


async def test_what_is_carried_out_is_forgotten(world: World) -> None:
    await both_changed(world, "a.html", "b.html")
    plan = await read_by_page(world)
    await choose(world, plan, a=Doing.UPLOAD, b=Doing.LEAVE)
    assert (await carried_out(world, plan)).state is RunState.DONE

    assert does(await read_by_page(world)) == {"b.html": Doing.DECIDE}


async def test_a_plan_of_nobodys_page_goes_by_what_is_proposed(world: World) -> None:
    """A timer does not act on what a person only thought about."""
    await both_changed(world, "a.html")
    await choose(world, await read_by_page(world), a=Doing.UPLOAD)

    plan = await read(world)
    await world.nailer.pairs.decisions.choose(plan, [0], Doing.LEAVE)

    assert does(await read_by_page(world)) == {"a.html": Doing.UPLOAD}


async def test_a_merged_text_goes_with_another_choice(world: World) -> None:
    """Whoever then says 'upload mine' or 'download theirs' does not get the merged text."""
    await both_changed(world, "a.html")
    for choice, mine in ((Doing.UPLOAD, True), (Doing.DOWNLOAD, False)):
        plan = await read_by_page(world)
        await world.nailer.pairs.rows.merge(plan, 0, "a.html\nmerged\n")
        await world.nailer.pairs.decisions.choose(plan, [0], choice)

        assert plan.merged == {}
        assert plan.doings.each[0] is choice, mine
