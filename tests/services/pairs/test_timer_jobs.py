"""Timers that carry: an upload or download made anew at set times, and what it never does without a person."""

from __future__ import annotations

import asyncio
from dataclasses import replace

import pytest

from nailer.core.compare.joint import Compare
from nailer.core.files.entry import SideName
from nailer.core.jobs.states import JobState
from nailer.core.jobs.timers import Clashes, Mail, Missed
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import SyncWish
from nailer.core.plans.plan import Answers
from nailer.errors import Conflict, NotFound
from nailer.services.plans import read as planread
from nailer.standins.faults import Full
from nailer.store.timers import Carry, NewTimer, TimedJob, Timer
from tests.builders import NOON_S, tree, write
from tests.services.pairs.test_timers import DAILY
from tests.world import HERE, THERE, World


def upload(world: World, *names: bytes) -> Carry:
    return Carry(world.site.id, SideName.THERE, HERE, THERE, names)


async def a_timer(world: World, carries: Carry, clashes: Clashes = Clashes.STOP) -> Timer:
    ways = (Mail.NEVER, Missed.ONCE, clashes)
    made = NewTimer(world.account_id, None, "Feed", SyncWish(), Compare.SIZE_AND_TIME, DAILY, *ways, carries=carries)
    return await world.nailer.stores.timers.get(await world.nailer.stores.timers.add(made))


async def run_now(world: World, timer: Timer, count: int = 1) -> TimedJob:
    await world.nailer.pairs.timers.run_now(timer.id)
    await let_it_end(world, timer)
    jobs = await world.nailer.stores.timers.jobs(timer.id)
    assert len(jobs) == count
    return jobs[0]


async def let_it_end(world: World, timer: Timer) -> None:
    async with asyncio.timeout(20):
        while (await world.nailer.stores.timers.get(timer.id)).busy:
            await asyncio.sleep(0.02)


async def test_what_a_job_carried_goes_up_again_when_it_has_changed(world: World) -> None:
    write(world.here, "feed/a.xml", "one", NOON_S)
    write(world.here, "news.html", "news", NOON_S)
    write(world.here, "other.html", "not picked", NOON_S)
    first = await world.upload("feed", "news.html")
    carries = await world.nailer.pairs.timer_jobs.what_of(first.id, world.account_id)
    assert carries == upload(world, b"feed", b"news.html")
    timer = await a_timer(world, carries)
    assert timer.carries == carries
    assert (timer.site_id, timer.pair_id) == (world.site.id, None)

    same = await run_now(world, timer)
    write(world.here, "feed/a.xml", "two", NOON_S + 60)
    write(world.here, "feed/b.xml", "new", NOON_S + 60)
    changed = await run_now(world, timer, 2)

    assert (same.state, same.job_id, same.files) == (RunState.DONE, None, 0)
    assert (changed.state, changed.files, changed.bytes) == (RunState.DONE, 2, 6)
    assert changed.job_id is not None
    assert (await world.nailer.stores.jobs.get(changed.job_id)).state is JobState.DONE
    assert tree(world.there) == {"feed/a.xml": b"two", "feed/b.xml": b"new", "news.html": b"news"}


@pytest.mark.parametrize("clashes", Clashes)
async def test_what_is_newer_there_or_changed_by_both_is_left(world: World, clashes: Clashes) -> None:
    for name in ("a.html", "b.html", "c.html"):
        write(world.here, name, "old", NOON_S)
    await world.upload("a.html", "b.html", "c.html")
    write(world.here, "a.html", "mine, later", NOON_S + 90)
    write(world.there, "a.html", "theirs", NOON_S + 60)
    write(world.there, "b.html", "newer there", NOON_S + 60)
    write(world.here, "c.html", "sent", NOON_S + 60)
    before = len(await world.nailer.stores.jobs.ended())

    run = await run_now(world, await a_timer(world, upload(world, b"a.html", b"b.html", b"c.html"), clashes))

    stops = clashes is Clashes.STOP
    assert run.state is (RunState.ASKED if stops else RunState.DONE)
    assert tree(world.there) == {
        "a.html": b"theirs",
        "b.html": b"newer there",
        "c.html": b"old" if stops else b"sent",
    }
    assert "1 item: changed on both sides since the last sync, /htdocs/a.html." in run.told
    assert "1 item: newer at the destination, /htdocs/b.html." in run.told
    assert len(await world.nailer.stores.jobs.ended()) == before + (not stops)


async def test_a_guarded_folder_and_a_lack_of_room_stop_it_before_anything_is_touched(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    write(world.here, "mail/box", "x")
    guarded = await run_now(world, await a_timer(world, upload(world, b"mail"), Clashes.LEAVE))
    write(world.here, "film.bin", "x" * 900)
    read = planread.PlanReader.read

    async def with_little_room(self: planread.PlanReader, *given: object, **more: object) -> planread.PlanToRead:
        plan = await read(self, *given, **more)  # type: ignore[arg-type]
        return replace(plan, job=replace(plan.job, room_bytes=100))

    monkeypatch.setattr(planread.PlanReader, "read", with_little_room)
    short = await run_now(world, await a_timer(world, upload(world, b"film.bin")))

    assert (guarded.state, short.state) == (RunState.ASKED, RunState.ASKED)
    assert "The guarded folder /htdocs/mail would be changed." in guarded.told
    assert "Not enough space: 800 B more needed." in short.told
    assert tree(world.there) == {}
    assert await world.nailer.stores.jobs.ended() == []


async def test_a_job_that_needs_you_is_what_became_of_the_run(world: World) -> None:
    write(world.here, "film.bin", b"x" * 90_000)
    world.host.fault = Full(50_000)
    timer = await a_timer(world, upload(world, b"film.bin", b"gone.bin"))

    run = await run_now(world, timer)
    assert run.state is RunState.NEEDS_YOU
    assert run.told == ("No longer exists: gone.bin.",)
    world.host.fault = Full(10**9)
    assert run.job_id is not None
    await world.nailer.stores.jobs.again(run.job_id)
    world.nailer.engine.runner.wake()
    await world.ended(run.job_id)

    assert (await world.nailer.pairs.timer_jobs.finish(run)).state is RunState.DONE
    assert tree(world.there) == {"film.bin": b"x" * 90_000}


async def test_names_that_are_all_gone_and_a_lost_server_are_reported(world: World) -> None:
    timer = await a_timer(world, upload(world, b"gone.html"))
    assert "no longer exists" in (await run_now(world, timer)).told[0]
    write(world.here, "gone.html")
    world.nailer.settings.routes["ftp.mosslane.example:22"] = "127.0.0.1:1"
    await world.nailer.sites.pool.close_site(world.site.id)

    run = await run_now(world, timer, 2)

    assert (run.state, run.job_id) == (RunState.NEEDS_YOU, None)


async def test_no_second_job_begins_while_the_first_is_under_way(world: World) -> None:
    write(world.here, "a.html", "a")
    timer = await a_timer(world, upload(world, b"a.html"))
    await world.nailer.engine.runner.stop()
    job_id = await world.plan(SideName.THERE, "a.html")
    await world.nailer.plans.make.carry_out(job_id, world.site, Answers())
    await world.nailer.stores.timers.add_job(timer.id, RunState.RUNNING, [], job_id=job_id)

    await world.nailer.pairs.timers.run_now(timer.id)
    await let_it_end(world, timer)

    assert [one.job_id for one in await world.nailer.stores.timers.jobs(timer.id)] == [job_id]
    assert tree(world.there) == {}


@pytest.mark.parametrize("gone", [False, True])
async def test_a_plan_that_was_written_down_and_never_begun_holds_nothing_up(world: World, gone: bool) -> None:
    """As after a kill between the two; the plan itself is forgotten in time."""
    write(world.here, "a.html", "a")
    timer = await a_timer(world, upload(world, b"a.html"))
    job_id = await world.plan(SideName.THERE, "a.html")
    await world.nailer.stores.timers.add_job(timer.id, RunState.RUNNING, [], job_id=job_id)
    if gone:
        await world.nailer.stores.jobs.discard(job_id)

    run = await run_now(world, timer, 2)

    assert run.state is RunState.DONE
    assert [one.state for one in await world.nailer.stores.timers.jobs(timer.id)] == [RunState.DONE, RunState.STOPPED]
    assert tree(world.there) == {"a.html": b"a"}


async def test_what_was_put_back_there_by_hand_is_older_and_not_overwritten(world: World) -> None:
    write(world.here, "a.html", "new", NOON_S)
    await world.upload("a.html")
    write(world.there, "a.html", "put back from a backup", NOON_S - 86_400)

    run = await run_now(world, await a_timer(world, upload(world, b"a.html"), Clashes.LEAVE))

    assert run.state is RunState.ASKED
    assert tree(world.there) == {"a.html": b"put back from a backup"}


async def test_only_carrying_jobs_of_ones_own_become_timers(world: World) -> None:
    write(world.there, "a.html", "a")
    removal = await world.remove(SideName.THERE, "a.html")
    write(world.here, "b.html", "b")
    carried = await world.upload("b.html")

    with pytest.raises(Conflict, match="uploads and downloads"):
        await world.nailer.pairs.timer_jobs.what_of(removal.id, world.account_id)
    with pytest.raises(NotFound):
        await world.nailer.pairs.timer_jobs.what_of(carried.id, world.account_id + 1)


async def test_runs_of_long_ago_are_forgotten(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("nailer.store.timers._MOST_JOBS", 3)
    timer = await a_timer(world, upload(world, b"a.html"))

    for number in range(5):
        await world.nailer.stores.timers.add_job(timer.id, RunState.DONE, [str(number)])

    assert [one.told for one in await world.nailer.stores.timers.jobs(timer.id)] == [("4",), ("3",), ("2",)]
