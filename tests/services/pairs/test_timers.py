"""Timers: runs without a person, what they never do, missed runs, mail, and what is sent by itself."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import timedelta

import pytest

from nailer.core.compare.joint import Compare
from nailer.core.files.entry import SideName
from nailer.core.jobs.schedule import Every, Schedule
from nailer.core.jobs.timers import Clashes, Mail, Missed
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Removals, SyncWish
from nailer.errors import Conflict, NotFound
from nailer.services.plans.notices import Post
from nailer.standins.mail import MailHost
from nailer.store.database import Database, utc_now
from nailer.store.pairs import Run
from nailer.store.people.accounts import WhenDone
from nailer.store.timers import NewTimer, Timer
from tests.builders import NOON_S, tree, write
from tests.services.pairs.syncing import PUBLISH, a_pair, level_now
from tests.world import World

DAILY = Schedule(Every.DAILY, "06:30", "Europe/London")


@pytest.fixture
def mail() -> Iterator[MailHost]:
    host = MailHost()
    host.start()
    yield host
    host.stop()


async def a_timer(world: World, **values: object) -> Timer:
    pair = await a_pair(world)
    usual = NewTimer(
        world.account_id,
        pair.id,
        "Every morning",
        PUBLISH,
        Compare.SIZE_AND_TIME,
        DAILY,
        Mail.NEVER,
        Missed.ONCE,
        Clashes.STOP,
    )
    return await world.nailer.stores.timers.get(await world.nailer.stores.timers.add(replace(usual, **values)))


async def until(true: Callable[[], object]) -> None:
    async with asyncio.timeout(20):
        while not true():
            await asyncio.sleep(0.02)


async def run_of(world: World, timer: Timer, count: int = 1) -> Run:
    """The latest run of a timer, once it has had so many and is not busy any more."""
    async with asyncio.timeout(20):
        while True:
            runs = await world.nailer.stores.pairs.runs_of_timer(timer.id)
            busy = (await world.nailer.stores.timers.get(timer.id)).busy
            if len(runs) >= count and runs[0].state is not RunState.RUNNING and not busy:
                return runs[0]
            await asyncio.sleep(0.02)


async def run_now(world: World, timer: Timer, count: int = 1) -> Run:
    await world.nailer.pairs.timers.run_now(timer.id)
    return await run_of(world, timer, count)


def set_due(database: Database, timer: Timer, seconds_ago: float) -> None:
    with database.writing() as work:
        work._cursor.execute(
            "UPDATE timers SET next_at = %s WHERE id = %s", (utc_now() - timedelta(seconds=seconds_ago), timer.id)
        )


async def test_a_timer_whose_time_has_come_publishes_by_itself(world: World, database: Database) -> None:
    write(world.here, "index.html", "new")
    timer = await a_timer(world)
    assert timer.next_at is not None
    assert timer.next_at > utc_now()

    set_due(database, timer, 1)
    run = await run_of(world, timer)

    assert (run.state, run.flow.up, run.timer_name) == (RunState.DONE, 1, "Every morning")
    assert tree(world.there) == tree(world.here)
    assert (await world.nailer.stores.timers.get(timer.id)).next_at == timer.next_at
    assert (await run_now(world, timer, 2)).flow.steps == 0


@pytest.mark.parametrize(("clashes", "sent"), [(Clashes.STOP, b"old"), (Clashes.LEAVE, b"new")])
async def test_what_both_sides_changed_is_never_overwritten(world: World, clashes: Clashes, sent: bytes) -> None:
    await level_now(world, {"a.html": "old", "b.html": "old", "c.html": "old"})
    write(world.here, "a.html", "new", NOON_S + 60)
    write(world.here, "b.html", "mine", NOON_S + 60)
    write(world.there, "b.html", "theirs", NOON_S + 90)
    write(world.there, "c.html", "newer there", NOON_S + 90)

    run = await run_now(world, await a_timer(world, clashes=clashes))

    assert run.state is (RunState.ASKED if clashes is Clashes.STOP else RunState.DONE)
    assert tree(world.there) == {"a.html": sent, "b.html": b"theirs", "c.html": b"newer there"}
    assert any("changed on both sides" in text for text in run.told)
    assert any("changed there" in text for text in run.told)


@pytest.mark.parametrize("clashes", Clashes)
async def test_nothing_is_removed_past_the_share(world: World, clashes: Clashes) -> None:
    await level_now(world, {f"{number}.html": "x" for number in range(10)})
    for number in range(5):
        (world.here / f"{number}.html").unlink()
    write(world.here, "9.html", "new", NOON_S + 60)

    run = await run_now(world, await a_timer(world, clashes=clashes))

    assert run.state is RunState.ASKED
    assert len(tree(world.there)) == 10
    assert tree(world.there)["9.html"] == b"x"
    assert "5 files would be removed there" in run.told[0]


async def test_a_guarded_folder_stops_a_timer(world: World) -> None:
    write(world.here, "mail/box", "x")

    run = await run_now(world, await a_timer(world))

    assert run.state is RunState.ASKED
    assert tree(world.there) == {}
    run = await run_now(world, await a_timer(world, clashes=Clashes.LEAVE))
    assert run.state is RunState.NEEDS_YOU
    assert tree(world.there) == {}


async def test_a_server_that_does_not_answer_is_reported(world: World) -> None:
    world.nailer.settings.routes["ftp.mosslane.example:22"] = "127.0.0.1:1"
    await world.nailer.sites.pool.close_site(world.site.id)

    run = await run_now(world, await a_timer(world))

    assert run.state is RunState.NEEDS_YOU
    assert "127.0.0.1" in run.told[0] or "ftp.mosslane.example" in run.told[0]


@pytest.mark.parametrize(("missed", "runs"), [(Missed.ONCE, 1), (Missed.SKIP, 0)])
async def test_runs_that_were_missed_count_as_one_or_none(
    world: World, database: Database, missed: Missed, runs: int
) -> None:
    timer = await a_timer(world, missed=missed, schedule=Schedule(Every.MINUTES, "1440", "UTC"))

    set_due(database, timer, 3 * 86_400)
    async with asyncio.timeout(20):
        while (now := await world.nailer.stores.timers.get(timer.id)).next_at < utc_now() or now.busy:  # type: ignore[operator]
            await asyncio.sleep(0.02)

    assert len(await world.nailer.stores.pairs.runs_of_timer(timer.id)) == runs


async def test_no_two_runs_of_one_timer_at_once(world: World) -> None:
    timer = await a_timer(world)
    assert await world.nailer.stores.timers.claim_now(timer.id, lease_s=30)

    with pytest.raises(Conflict):
        await world.nailer.pairs.timers.run_now(timer.id)

    assert (await world.nailer.stores.timers.get(timer.id)).busy
    await world.nailer.stores.timers.release(timer.id)
    assert (await run_now(world, timer)).state is RunState.DONE


async def test_a_timer_that_is_off_does_not_fire_and_one_that_is_removed_is_gone(
    world: World, database: Database
) -> None:
    timer = await a_timer(world)
    await world.nailer.stores.timers.switch(timer, on=False)
    later = await a_timer(world)
    set_due(database, timer, 2)
    set_due(database, later, 1)
    await run_of(world, later)  # one that was due after it has run

    assert await world.nailer.stores.pairs.runs_of_timer(timer.id) == []
    await world.nailer.stores.timers.switch(timer, on=True)
    assert (await world.nailer.stores.timers.get(timer.id)).next_at == timer.next_at
    await world.nailer.stores.timers.remove(timer.id)
    with pytest.raises(NotFound):
        await world.nailer.stores.timers.get(timer.id)


@pytest.mark.parametrize(
    ("wants", "trouble", "letters"),
    [(Mail.ALWAYS, False, 1), (Mail.TROUBLE, False, 0), (Mail.TROUBLE, True, 1), (Mail.NEVER, True, 0)],
)
async def test_the_result_is_written_to_who_wants_it(
    world: World, mail: MailHost, wants: Mail, trouble: bool, letters: int
) -> None:
    world.nailer.plans.notices._post = Post("127.0.0.1", mail.port, "nailer@studio.example")
    await world.nailer.stores.accounts.set_when_done(
        world.account_id, WhenDone("maren@studio.example", write=False, close=False)
    )
    write(world.here, "a.html", "one", NOON_S + 60)
    if trouble:
        write(world.there, "a.html", "other", NOON_S + 60)
        write(world.here, "b.html", "x")

    await run_now(world, await a_timer(world, mail=wants, clashes=Clashes.LEAVE))

    assert len(mail.letters) == letters
    if letters:
        assert mail.letters[0]["To"] == "maren@studio.example"
        assert "Every morning" in mail.letters[0]["Subject"]
        assert ("same time, but different" in mail.letters[0].get_content()) is trouble


async def test_a_timer_keeps_to_its_own_wish(world: World) -> None:
    write(world.there, "a.html", "there")
    timer = await a_timer(world, wish=SyncWish(Direction.FETCH, Removals.KEEP))

    await run_now(world, timer)

    assert tree(world.here) == {"a.html": b"there"}
    assert (await a_pair(world)).wish == SyncWish()


# --- unsent changes


async def test_changes_here_are_counted_without_asking_the_server(world: World) -> None:
    await level_now(world, {"a.html": "x", "b.html": "y"})
    site_id = world.site.id
    pair_id = (await a_pair(world)).id
    await until(lambda: world.nailer.pairs.not_sent.of_pair(pair_id) is not None)
    assert world.nailer.pairs.not_sent.of_site(site_id) == 0
    asked = world.host.requests

    write(world.here, "a.html", "changed", NOON_S + 60)
    write(world.here, "sub/new.html", "new")
    write(world.here, "old.bak", "a sieve holds this back")
    await until(lambda: world.nailer.pairs.not_sent.of_site(site_id) == 2)

    assert world.host.requests == asked
    await world.run(await world.plan(SideName.THERE, "a.html", "sub"))
    await until(lambda: world.nailer.pairs.not_sent.of_site(site_id) == 0)


async def test_a_pair_that_was_never_level_has_nothing_unsent(world: World) -> None:
    pair = await a_pair(world)
    write(world.here, "a.html")

    names, _ = await world.nailer.pairs.not_sent.changed(pair)

    assert names is None


async def test_each_save_goes_up_by_itself_once_it_rests(world: World) -> None:
    await level_now(world, {"a.html": "x", "b.html": "y"})
    pair = await a_pair(world)
    await world.nailer.stores.pairs.set_sending(pair.id, world.account_id, sends=True, send_after_s=1)
    world.nailer.pairs.not_sent.look_again()
    write(world.there, "b.html", "theirs", NOON_S + 90)

    write(world.here, "a.html", "saved", NOON_S + 60)
    write(world.here, "new/deep/page.html", "new")
    write(world.here, "b.html", "mine", NOON_S + 60)
    await until(
        lambda: tree(world.there).get("new/deep/page.html") == b"new" and tree(world.there)["a.html"] == b"saved"
    )

    assert tree(world.there)["b.html"] == b"theirs"
    await until(lambda: "changed there" in world.nailer.pairs.not_sent.trouble(pair.id))
