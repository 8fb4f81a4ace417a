"""Plans as they are read: in windows, whatever their size, and beside the room in an account's package."""

from __future__ import annotations

from dataclasses import replace

import pytest

from nailer.core.files.entry import SideName
from nailer.core.plans.room import Fit
from nailer.services.plans.account_room import Used
from nailer.services.plans.read import PlanToRead
from nailer.standins.faults import ShutFolder
from nailer.store import jobs
from tests.builders import NOON_S, write
from tests.world import World


async def read(world: World, job_id: int) -> PlanToRead:
    return await world.nailer.plans.reader.read(job_id, world.site, limit=4)


async def test_windows_change_nothing_of_what_is_read(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in (
        "mail/a.html",
        "mail/A.html",
        "mail/.env",
        "mail/poster.psd",
        "b c.html",
        "same.txt",
        "new/deep/one.txt",
        "run.cgi",
    ):
        write(world.here, name, name, NOON_S)
    write(world.there, "same.txt", "same.txt", NOON_S)
    write(world.there, "run.cgi", "an older and longer script", NOON_S - 99).chmod(0o644)
    job_id = await world.plan(SideName.THERE, "mail", "b c.html", "same.txt", "new", "run.cgi")
    in_one = await read(world, job_id)
    monkeypatch.setattr(jobs, "_READ_AT_ONCE", 2)

    in_windows = await read(world, job_id)

    assert in_windows == in_one
    assert (in_one.summary.new, in_one.summary.replaced, in_one.summary.same) == (5, 1, 1)
    assert {"/".join(one.decode() for one in doubt.below) for doubt in in_one.hurting} == {
        "mail/a.html",
        "mail/A.html",
        "b c.html",
    }
    assert [doubt.below for doubt in in_one.private] == [(b"mail", b"poster.psd")]
    assert (in_one.sieved, in_one.sieves) == (1, ("Secrets",))
    assert [one.name for one in in_one.idle_scripts] == [b"run.cgi"]
    assert [one.name for one in in_one.guarded] == [b"mail"]
    assert len(in_one.items) == 4
    assert in_one.more == 7  # eight files and three folders


async def test_the_room_in_a_package_is_its_size_less_what_lies_in_it(world: World) -> None:
    write(world.there, "old/film.bin", "x" * 7_000)
    write(world.there, "a.txt", "x" * 500)
    write(world.here, "b.txt", "x" * 3_000)
    site = replace(world.site, package_bytes=10_000)
    job_id = await world.plan(SideName.THERE, "b.txt")

    found = await world.nailer.plans.room.reckon(site, await world.nailer.stores.jobs.get(job_id))

    assert world.nailer.plans.room.reckons(site, found.plan.job)
    assert found.used == Used(7_500, 4, complete=True)  # two files, and the folders htdocs and old
    assert (found.plan.job.room_bytes, found.plan.fit) == (2_500, Fit.SHORT)
    assert found.plan.need.short_by(2_500) == 500


async def test_files_go_one_after_another_where_a_package_has_room_for_that_only(world: World) -> None:
    for name in ("a.txt", "b.txt"):
        write(world.there, name, "x" * 2_000)
        write(world.here, name, "y" * 2_100)
    site = replace(world.site, package_bytes=7_000)
    job_id = await world.plan(SideName.THERE, "a.txt", "b.txt")

    found = await world.nailer.plans.room.reckon(site, await world.nailer.stores.jobs.get(job_id))

    assert found.plan.fit is Fit.IN_ORDER
    assert found.plan.job.one_by_one


async def test_a_folder_that_cannot_be_read_makes_the_count_a_least(world: World) -> None:
    write(world.there, "closed/secret.txt", "x" * 900)
    write(world.here, "b.txt", "b")
    world.host.fault = ShutFolder(b"closed")
    job_id = await world.plan(SideName.THERE, "b.txt")

    found = await world.nailer.plans.room.reckon(
        replace(world.site, package_bytes=10_000), await world.nailer.stores.jobs.get(job_id)
    )

    assert found.used == Used(0, 2, complete=False)


async def test_how_long_carrying_takes_is_told_by_what_this_site_took_before(world: World) -> None:
    speeds = world.nailer.plans.speeds
    assert await speeds.seconds(world.site.id, SideName.THERE, 10, 1000) is None, "nothing was measured yet"
    for number in range(400):
        write(world.here, f"many/{number}.css", f"colour {number}")
    job = await world.upload("many")
    assert job.started_at is not None
    assert job.ended_at is not None
    took_s = (job.ended_at - job.started_at).total_seconds()

    told = await speeds.seconds(world.site.id, SideName.THERE, 800, 2 * job.tally.done.size)

    assert told is not None
    assert took_s < told < 4 * took_s, "twice as much, near twice as long"
    assert await speeds.seconds(world.site.id, SideName.HERE, 10, 1000) is None, "each way has a pace of its own"


async def test_a_sieve_that_is_switched_off_is_listed_with_what_it_would_hold_back(world: World) -> None:
    write(world.here, "mail/.env", "secret")
    write(world.here, "mail/a.html", "a")
    sieves = world.nailer.files.sieves
    (secrets,) = [one for one in await sieves.all() if one.sieve.name == "Secrets"]
    await sieves.switch(secrets.sieve.id, on=False)

    plan = await read(world, await world.plan(SideName.THERE, "mail"))

    assert (plan.sieved, plan.off) == (0, (("Secrets", 1),))
