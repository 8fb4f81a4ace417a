"""Smaller promises on servers that misbehave."""

from __future__ import annotations

import asyncio
from pathlib import Path

from nailer.core.files.entry import SideName
from nailer.core.jobs.states import JobState
from nailer.standins.faults import Stuck
from nailer.web.plans.jobs import card_of
from tests.builders import NOON_S, tree, write
from tests.rough.worlds import a_rough_world, failures, hidden
from tests.world import THERE, World


async def test_a_time_that_the_server_sets_hours_off_is_set_again(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["times-hours-off"]) as world:
        for name in ("a.html", "b.html", "c.html"):
            write(world.here, name, name)

        for name in ("a.html", "b.html", "c.html"):
            job = await world.upload(name)
            assert job.state is JobState.DONE, await failures(world, job)

        assert {(world.there / name).stat().st_mtime for name in ("a.html", "b.html", "c.html")} == {NOON_S}


async def test_where_only_folders_failed_the_card_says_why(migrated_url: str, database: object, tmp_path: Path) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["mkd-refused"]) as world:
        (world.here / "empty").mkdir()

        job = await world.upload("empty")
        card = await card_of(world.nailer.plans, job)

        assert job.state is JobState.NEEDS_YOU
        assert "permission" in card.failures[0].what.lower()


async def test_thirty_small_files_list_a_large_folder_once(migrated_url: str, database: object, tmp_path: Path) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["no-facts"]) as world:
        for number in range(2000):
            write(world.there, f"old-{number}.html")
        for number in range(30):
            write(world.here, f"new-{number}.html")
        names = [f"new-{number}.html" for number in range(30)]
        job_id = await world.planned_up(*names)
        listed_for_the_plan = sum(line.startswith("LIST") for line in world.host.log)

        job = await world.ended(job_id)

        assert job.state is JobState.DONE, await failures(world, job)
        listed = sum(line.startswith("LIST") for line in world.host.log) - listed_for_the_plan
        assert listed <= 3, "not once a file"


async def test_a_stalled_job_is_stopped_without_waiting_for_its_line(world: World) -> None:
    """The server says nothing any more and never will: the line is cut, and its half file gets an owner."""
    write(world.here, "big.bin", b"x" * 3_000_000)
    world.host.fault = Stuck(500_000)
    job_id = await world.planned_up("big.bin")
    while not (live := world.nailer.engine.live.jobs.get(job_id)) or not live.in_flight:
        await asyncio.sleep(0.01)
    while min(one.quiet_s(asyncio.get_running_loop().time()) for one in live.in_flight.values()) < 3:
        await asyncio.sleep(0.05)
        assert live.time_left_s(live.moved_at_s + 6) is None, "no time is named while nothing moves"

    await world.nailer.stores.jobs.want_stop(job_id)
    live.stop_asked.set()
    async with asyncio.timeout(15):
        job = await world.ended(job_id)

    assert job.state is JobState.STOPPED
    while await world.nailer.stores.parts.count_of_job(job_id):
        world.nailer.plans.leftovers.wake()
        await asyncio.sleep(0.05)
    assert not hidden(world.there)


async def test_half_files_of_what_is_left_out_are_cleared(migrated_url: str, database: object, tmp_path: Path) -> None:
    """After leaving out, and after a start: nothing stays that nobody will go on with."""
    async with a_rough_world(tmp_path, migrated_url, ["full-in-stor", "dele-refused"], times=9) as world:
        write(world.here, "big.bin", b"x" * 400_000)
        job = await world.upload("big.bin")
        assert job.state is JobState.NEEDS_YOU
        assert hidden(world.there), "it could not be removed"
        assert await world.nailer.stores.parts.count_of_job(job.id) == 1
        world.host.faults.clear()
        world.host._left.clear()

        await world.nailer.stores.jobs.leave_out(job.id)
        assert await world.nailer.plans.leftovers.clear() == 0

        assert [name for name in hidden(world.there) if "try" not in name] == []
        assert await world.nailer.stores.parts.count_of_job(job.id) == 0


async def test_a_folder_with_a_half_file_that_belongs_to_nobody_can_be_removed(world: World) -> None:
    write(world.there, "news/a.html", "a")
    write(world.there, "news/.nailer-99-7.part", "half")
    async with world.nailer.files.browse.side(world.site, SideName.THERE) as side:
        listing = await side.list(THERE.child(b"news"))
    left = await world.nailer.plans.leftovers.found(world.site, SideName.THERE, THERE.child(b"news"), listing.parts)
    assert "1 partial file" in left.sentence
    assert "days old" in left.sentence

    job = await world.remove_there("news")

    assert job.state is JobState.DONE, await failures(world, job)
    assert not (world.there / "news").exists()


async def test_many_files_at_once_find_out_together_that_no_name_may_be_hidden(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    """The first that is refused tells the others; those that are under way then must not fail for it."""
    async with a_rough_world(tmp_path, migrated_url, ["no-hidden-names"]) as world:
        for number in range(60):
            write(world.here, f"news/page-{number}.html", "sailing " * 400)
        job = await world.upload("news")
        assert job.state is JobState.DONE, await failures(world, job)
        assert tree(world.there) == tree(world.here)
