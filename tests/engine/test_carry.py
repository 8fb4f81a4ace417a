"""Carrying: files land whole with their time and permissions, what they replace is kept, and nothing is done twice."""

from __future__ import annotations

import asyncio
import contextlib
import os
import random
import stat
from collections.abc import AsyncIterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from nailer.core.compare.joint import Joint, Standing
from nailer.core.compare.ledger import View
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.completeness import Listing
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import part_name
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import ItemState, JobState
from nailer.core.plans.plan import Answers, Choice, Verdict
from nailer.engine.runner import Runner
from nailer.errors import Conflict, SendingStopped
from nailer.services.plans.make import Dropped
from nailer.sides.sftp.changing import Changing
from nailer.sides.sftp.side import SftpSide
from nailer.standins.faults import CutAfter, CutWhileOpening, Full, RefusesEverybody, Slow
from nailer.standins.ftp import FtpHost
from nailer.store.changes import What
from nailer.store.database import Work, utc_now
from nailer.store.running.claims import JobClaims
from tests.builders import NOON_S, path, tree, write
from tests.world import HERE, THERE, World, a_world


async def test_files_land_whole_with_time_and_fitting_permissions(world: World) -> None:
    write(world.here, "index.html", "new")
    write(world.here, "img/pier.svg", b"\x00\xff" * 200_000)
    write(world.here, "run.cgi", "#!/bin/sh\n")

    job = await world.upload("index.html", "img", "run.cgi")

    assert job.state is JobState.DONE
    assert tree(world.there) == tree(world.here)
    assert (world.there / "index.html").stat().st_mtime == NOON_S
    assert stat.S_IMODE((world.there / "index.html").stat().st_mode) == 0o644
    assert stat.S_IMODE((world.there / "run.cgi").stat().st_mode) == 0o755
    assert (job.tally.done.files, job.tally.done.size) == (3, 400_013)


async def test_download_is_the_same_the_other_way(world: World) -> None:
    write(world.there, "a/b/c.txt", "deep")

    job = await world.download("a")

    assert job.state is JobState.DONE
    assert tree(world.here) == {"a/b/c.txt": b"deep"}


async def test_the_permissions_of_what_is_replaced_are_carried_over(world: World) -> None:
    write(world.there, "private.php", "old").chmod(0o640)
    write(world.here, "private.php", "new", NOON_S + 500)

    await world.upload("private.php")

    assert stat.S_IMODE((world.there / "private.php").stat().st_mode) == 0o640


async def test_what_is_replaced_is_kept_and_comes_back(world: World) -> None:
    write(world.there, "index.html", "the old page", NOON_S - 900).chmod(0o604)
    write(world.here, "index.html", "the new page")

    await world.upload("index.html")
    (change,) = await world.nailer.stores.changes.of_path(world.site.id, SideName.THERE, THERE.child(b"index.html"))
    job_id = await world.nailer.plans.take_back.take_change_back(world.account_id, world.site, change)
    assert job_id is not None
    await world.ended(job_id)

    restored = world.there / "index.html"
    assert restored.read_text() == "the old page"
    assert (restored.stat().st_mtime, stat.S_IMODE(restored.stat().st_mode)) == (NOON_S - 900, 0o604)


async def test_taking_back_can_itself_be_taken_back(world: World) -> None:
    write(world.there, "index.html", "old", NOON_S - 900)
    write(world.here, "index.html", "new!")
    await world.upload("index.html")

    for expected in ("old", "new!", "old"):
        changes = await world.nailer.stores.changes.of_path(world.site.id, SideName.THERE, THERE.child(b"index.html"))
        job_id = await world.nailer.plans.take_back.take_change_back(world.account_id, world.site, changes[0])
        assert job_id is not None
        assert (await world.ended(job_id)).state is JobState.DONE
        assert (world.there / "index.html").read_text() == expected


async def test_taking_back_refuses_where_the_file_changed_since(world: World) -> None:
    write(world.there, "index.html", "old", NOON_S - 900)
    write(world.here, "index.html", "new")
    await world.upload("index.html")
    write(world.there, "index.html", "somebody else's", NOON_S + 900)
    (change,) = await world.nailer.stores.changes.of_path(world.site.id, SideName.THERE, THERE.child(b"index.html"))

    with pytest.raises(Conflict, match="changed since"):
        await world.nailer.plans.take_back.take_change_back(world.account_id, world.site, change)

    assert (world.there / "index.html").read_text() == "somebody else's"


async def test_a_whole_job_is_taken_back(world: World) -> None:
    write(world.there, "index.html", "old", NOON_S - 900)
    write(world.there, "other.txt", "untouched")
    before = tree(world.there)
    write(world.here, "index.html", "new")
    write(world.here, "skins/harbour/a.css", "a")
    write(world.here, "skins/harbour/deep/b.css", "b")

    job = await world.upload("index.html", "skins")
    back = await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))

    assert back.state is JobState.DONE
    assert tree(world.there) == before
    assert not (world.there / "skins").exists()


async def test_a_removed_folder_comes_back_as_it_was(world: World) -> None:
    write(world.there, "shop/a.php", "a").chmod(0o640)
    write(world.there, "shop/deep/b.php", b"\x00b")
    (world.there / "shop" / "link").symlink_to("a.php")
    before = tree(world.there)

    job = await world.remove(SideName.THERE, "shop")
    assert job.state is JobState.DONE
    assert not (world.there / "shop").exists()
    await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))

    assert tree(world.there) == before
    assert os.readlink(world.there / "shop" / "link") == "a.php"
    assert stat.S_IMODE((world.there / "shop" / "a.php").stat().st_mode) == 0o640


async def test_removal_never_follows_a_link(world: World) -> None:
    write(world.there, "keep/a.txt", "stays")
    (world.there / "gone").mkdir()
    (world.there / "gone" / "way-out").symlink_to("../keep")

    await world.remove(SideName.THERE, "gone")

    assert tree(world.there) == {"keep/a.txt": b"stays"}


@pytest.mark.parametrize(
    ("choice", "index", "fares", "names"),
    [
        (Choice.REPLACE, "mine", "mine", 2),
        (Choice.ONLY_NEWER, "mine", "theirs", 2),
        (Choice.LEAVE, "theirs", "theirs", 2),
        (Choice.KEEP_BOTH, "theirs", "theirs", 4),
    ],
)
async def test_one_choice_for_all(world: World, choice: Choice, index: str, fares: str, names: int) -> None:
    write(world.there, "index.html", "theirs", NOON_S - 900)
    write(world.there, "fares.html", "theirs", NOON_S + 900)
    for name in ("index.html", "fares.html"):
        write(world.here, name, "mine")

    job = await world.upload("index.html", "fares.html", choice=choice)

    assert (world.there / "index.html").read_text() == index
    assert (world.there / "fares.html").read_text() == fares
    assert len(tree(world.there)) == names
    assert job.tally.waiting.files == 0


async def test_a_plan_says_what_it_meets_and_touches_nothing(world: World) -> None:
    write(world.there, "index.html", "theirs", NOON_S + 900)
    for name in ("index.html", "new.html"):
        write(world.here, name, "mine")
    before = tree(world.there)

    plan = await world.nailer.plans.reader.read(await world.plan(SideName.THERE, "index.html", "new.html"), world.site)

    assert (plan.summary.new, plan.summary.replaced_newer) == (1, 1)
    assert {item.target.name: item.verdict for item in plan.items} == {
        b"index.html": Verdict.REPLACES_NEWER,
        b"new.html": Verdict.NEW,
    }
    assert tree(world.there) == before


async def test_a_target_changed_after_the_plan_is_not_replaced(world: World) -> None:
    write(world.there, "index.html", "as planned", NOON_S - 900)
    write(world.here, "index.html", "mine")
    job_id = await world.plan(SideName.THERE, "index.html")
    write(world.there, "index.html", "changed by a colleague", NOON_S + 10)

    job = await world.run(job_id)

    assert job.state is JobState.NEEDS_YOU
    assert (world.there / "index.html").read_text() == "changed by a colleague"
    (failure,) = await world.nailer.stores.jobs.failures(job.id)
    assert failure.kind == "Conflict"


async def test_a_target_that_appeared_after_the_plan_is_not_replaced(world: World) -> None:
    write(world.here, "index.html", "mine")
    job_id = await world.plan(SideName.THERE, "index.html")
    write(world.there, "index.html", "a colleague's", NOON_S + 10)

    assert (await world.run(job_id)).state is JobState.NEEDS_YOU
    assert tree(world.there) == {"index.html": b"a colleague's"}


async def test_a_source_that_changed_after_the_plan_is_not_sent(world: World) -> None:
    write(world.here, "index.html", "as planned")
    job_id = await world.plan(SideName.THERE, "index.html")
    write(world.here, "index.html", "edited meanwhile", NOON_S + 10)

    assert (await world.run(job_id)).state is JobState.NEEDS_YOU
    assert tree(world.there) == {}


async def test_a_full_disk_stops_the_job_and_leaves_no_half_file(world: World) -> None:
    for number in range(12):
        write(world.here, f"plate-{number}.jpg", os.urandom(100_000))
    world.host.fault = Full(room_bytes=450_000)

    job = await world.upload(*(f"plate-{number}.jpg" for number in range(12)))

    assert job.state is JobState.NEEDS_YOU
    assert "no space" in (job.trouble or "")
    landed = tree(world.there)
    assert all(tree(world.here)[name] == data for name, data in landed.items())
    assert len(landed) == job.tally.done.files < 12
    assert job.tally.done.files + job.tally.failed.files + job.tally.waiting.files == 12

    world.host.fault = Full(room_bytes=10_000_000)
    await world.nailer.stores.jobs.again(job.id)
    world.nailer.engine.runner.wake()
    assert (await world.ended(job.id)).state is JobState.DONE
    assert tree(world.there) == tree(world.here)


async def test_a_full_disk_keeps_what_was_to_be_replaced(world: World) -> None:
    write(world.there, "big.jpg", b"the old one", NOON_S - 900)
    write(world.here, "big.jpg", os.urandom(400_000))
    world.host.fault = Full(room_bytes=300_000)

    await world.upload("big.jpg")

    assert tree(world.there) == {"big.jpg": b"the old one"}


@pytest.mark.parametrize("seed", range(4))
async def test_cut_at_random_points_everything_arrives_in_the_end(world: World, seed: int) -> None:
    chance = random.Random(seed)
    for number in range(15):
        write(world.here, f"d{number % 3}/f{number}.bin", chance.randbytes(chance.randrange(200_000)))
        if number % 4 == 0:
            write(world.there, f"d{number % 3}/f{number}.bin", "old", NOON_S - 900)
    total = sum(len(data) for data in tree(world.here).values())
    world.host.fault = CutAfter(chance.randrange(1, total))

    job = await world.upload("d0", "d1", "d2")

    assert job.state is JobState.DONE, await world.nailer.stores.jobs.failures(job.id)
    assert tree(world.there) == tree(world.here)
    assert world.host.fault.done


@pytest.mark.parametrize("cuts", [1, 3])
async def test_a_line_that_is_cut_while_it_is_opened_heals_by_itself(world: World, cuts: int) -> None:
    write(world.here, "a.txt", "fresh")
    job_id = await world.plan(SideName.THERE, "a.txt")
    await world.nailer.sites.pool.close_site(world.site.id)
    world.host.fault = fault = CutWhileOpening(cuts)

    job = await world.run(job_id)

    assert (job.state, fault.left) == (JobState.DONE, -1), job.trouble
    assert (world.there / "a.txt").read_text() == "fresh"


async def test_a_line_that_is_always_cut_ends_the_job_with_old_contents_whole(world: World) -> None:
    write(world.there, "a.bin", "old", NOON_S - 900)
    write(world.here, "a.bin", os.urandom(500_000))
    world.host.fault = CutAfter(100_000, again=True)

    job = await world.upload("a.bin")

    assert job.state is JobState.NEEDS_YOU
    assert (world.there / "a.bin").read_bytes() == b"old"


async def test_a_refused_sign_in_is_tried_once_until_a_person_says_so(world: World) -> None:
    write(world.here, "a.txt")
    job_id = await world.plan(SideName.THERE, "a.txt")
    await world.nailer.sites.pool.close_site(world.site.id)
    world.host.fault = fault = RefusesEverybody()

    job = await world.run(job_id)
    await world.nailer.stores.jobs.again(job_id)
    world.nailer.engine.runner.wake()
    await world.ended(job_id)

    assert job.state is JobState.NEEDS_YOU
    assert fault.tries == 1
    world.nailer.sites.connector.forget_refusal(world.site.id)
    await world.nailer.stores.jobs.again(job_id)
    world.nailer.engine.runner.wake()
    await world.ended(job_id)
    assert fault.tries == 2


async def test_a_stopped_job_leaves_nothing_half_written(world: World) -> None:
    for number in range(200):
        write(world.here, f"f{number}.bin", os.urandom(60_000))
    world.host.fault = Slow(0.01)
    job_id = await world.plan(SideName.THERE, *(f"f{number}.bin" for number in range(200)))
    await world.nailer.plans.make.carry_out(job_id, world.site, Answers())
    while not (live := world.nailer.engine.live.jobs.get(job_id)) or live.tally.done.files < 2:
        await asyncio.sleep(0.01)

    await world.nailer.stores.jobs.want_stop(job_id)
    live.stop_asked.set()
    job = await world.ended(job_id)

    assert job.state is JobState.STOPPED
    landed = tree(world.there)
    assert len(landed) == job.tally.done.files < 200
    assert all((world.here / name).read_bytes() == data for name, data in landed.items())


async def test_a_paused_job_stops_and_goes_on_where_it_was(world: World) -> None:
    for number in range(200):
        write(world.here, f"f{number}.bin", os.urandom(60_000))
    world.host.fault = Slow(0.01)
    job_id = await world.plan(SideName.THERE, *(f"f{number}.bin" for number in range(200)))
    await world.nailer.plans.make.carry_out(job_id, world.site, Answers())
    while not (live := world.nailer.engine.live.jobs.get(job_id)) or live.tally.done.files < 2:
        await asyncio.sleep(0.01)

    await world.nailer.stores.jobs.pause(job_id)
    live.stop_asked.set()
    while (job := await world.nailer.stores.jobs.get(job_id)).state is JobState.RUNNING:
        await asyncio.sleep(0.01)
    assert job.state is JobState.PAUSED
    assert 0 < job.tally.waiting.files < 200
    world.host.fault = Slow(0)
    await world.nailer.stores.jobs.go_on(job_id)
    world.nailer.engine.runner.wake()
    job = await world.ended(job_id)

    assert job.state is JobState.DONE
    assert tree(world.there) == tree(world.here)


@pytest.mark.parametrize("side", SideName)
async def test_a_large_file_that_was_cut_goes_on_where_its_end_compares(world: World, side: SideName) -> None:
    source, target = (world.here, world.there) if side is SideName.THERE else (world.there, world.here)
    size = 40 * 2**20
    write(source, "film.bin", os.urandom(size))
    world.host.fault = CutAfter(30 * 2**20)
    counted = world.host.fault

    job = await world.transfer(side, "film.bin")

    assert job.state is JobState.DONE
    assert tree(target) == tree(source)
    assert counted.done
    assert counted.passed == 0
    again = world.host.bytes_passed - 30 * 2**20
    assert again < size - 2**20, "what had come was not transferred twice"


async def test_a_half_file_that_does_not_compare_is_not_gone_on_with(world: World) -> None:
    write(world.here, "film.bin", os.urandom(40 * 2**20))
    job_id = await world.plan(SideName.THERE, "film.bin")
    (item,) = await world.nailer.stores.jobs.items(job_id)
    write(world.there, part_name(job_id, item.id).decode(), os.urandom(30 * 2**20))

    def claimed_once(work: Work) -> None:
        # In one transaction: between two of them a runner that looks just then would claim the job.
        work.run("jobs.claim", id=job_id, owner="", until=utc_now(), now=utc_now())
        work.run("jobs.set_state", id=job_id, state="planned", ended_at=None)

    await world.nailer.stores.database.write(claimed_once)

    job = await world.run(job_id)

    assert job.claims == 2, "as after a kill: the half file was looked at"
    assert tree(world.there) == tree(world.here)


async def test_jobs_are_taken_in_the_order_a_person_wants(world: World) -> None:
    ids = []
    for name in ("a.txt", "b.txt", "c.txt"):
        write(world.here, name, name)
        ids.append(await world.plan(SideName.THERE, name))
    store = world.nailer.stores.jobs
    await world.nailer.engine.runner.stop()
    for job_id in ids:
        await store.confirm(job_id, Answers(), {})

    await store.move_up(ids[2])
    await store.pause(ids[0])

    taken = [await world.nailer.stores.claims.claim("me", lease_s=60) for _ in range(3)]
    assert taken == [ids[2], ids[1], None]


async def test_what_has_failed_can_be_left_out(world: World) -> None:
    write(world.here, "a.txt", "here")
    write(world.here, "b.txt", "here")
    job_id = await world.plan(SideName.THERE, "a.txt", "b.txt")
    write(world.there, "a.txt", "somebody else")
    assert (await world.run(job_id)).state is JobState.NEEDS_YOU

    job = await world.nailer.stores.jobs.leave_out(job_id)

    assert job.state is JobState.DONE
    assert (job.tally.done.files, job.tally.left.files, job.tally.failed.files) == (1, 1, 0)


async def test_two_jobs_on_one_file_leave_one_whole_file(world: World) -> None:
    write(world.here, "a.bin", b"a" * 300_000)
    first, second = [await world.plan(SideName.THERE, "a.bin") for _ in range(2)]

    for job_id in (first, second):
        await world.nailer.plans.make.carry_out(job_id, world.site, Answers())
    ended = [await world.ended(job_id) for job_id in (first, second)]

    assert tree(world.there) == {"a.bin": b"a" * 300_000}
    assert JobState.DONE in {job.state for job in ended}


async def test_after_carrying_both_sides_are_level_and_the_baseline_knows_it(world: World) -> None:
    write(world.here, "a.txt", "level")
    await world.upload("a.txt")
    write(world.here, "a.txt", "changed here", NOON_S + 100)

    baselines = await world.nailer.stores.changes.baselines(world.site.id, [(HERE, THERE)])

    (known,) = baselines.values()
    assert known[b"a.txt"].here.size == known[b"a.txt"].there.size == 5


async def test_taking_back_puts_the_baseline_back_too(world: World) -> None:
    """Level, then changed here, uploaded, taken back: the name stands as before the upload, newer here."""
    write(world.here, "a.txt", "level")
    await world.upload("a.txt")
    write(world.here, "a.txt", "changed here", NOON_S + 100)
    job = await world.upload("a.txt")

    await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))

    ledger = await world.nailer.files.browse.ledger(world.site, HERE, THERE, View(), fresh=True)
    (row,) = ledger.rows
    assert row.standing == Standing(Joint.NEWER_HERE, "changed here since the last sync")


async def test_every_replaced_version_is_kept(world: World) -> None:
    write(world.here, "a.bin", b"first" * 1000, NOON_S - 500)
    await world.upload("a.bin")
    for version in (b"second" * 1000, b"first" * 1000, b"third" * 1000):
        write(world.here, "a.bin", version, NOON_S + len(await world.nailer.stores.changes.latest(world.site.id)) * 50)
        await world.upload("a.bin")

    changes = await world.nailer.stores.changes.latest(world.site.id)
    kept = [change.before_hash for change in changes if change.what is What.REPLACED]
    assert len(kept) == 3
    assert all(kept)


async def test_names_of_any_bytes_are_carried_and_receipted(world: World) -> None:
    names = [b"caf\xe9.html", b"two\nlines", b"-rf", b"50%.txt"]
    for name in names:
        write(world.here, os.fsdecode(name), name)

    job_id = await world.nailer.plans.make.transfer(world.account_id, world.site, SideName.THERE, HERE, THERE, names)
    await world.run(job_id)

    assert sorted(os.listdir(os.fsencode(world.there))) == sorted(names)
    items = await world.nailer.stores.jobs.items(job_id)
    assert {item.target.name for item in items} == set(names)
    assert all(item.content_hash for item in items)


async def test_an_upload_makes_the_folders_it_needs(world: World) -> None:
    write(world.here, "a.txt")
    target = path("/htdocs/brand/new")
    job_id = await world.nailer.plans.make.transfer(
        world.account_id, world.site, SideName.THERE, HERE, target, [b"a.txt"]
    )

    await world.run(job_id)

    assert tree(world.there) == {"brand/new/a.txt": b"content"}


async def _held() -> None:
    """A lease that nobody takes."""


async def test_a_killed_runner_is_taken_over_and_nothing_is_done_twice(
    database, migrated_url: str, tmp_path: Path
) -> None:  # type: ignore[no-untyped-def]
    """A job claimed by a process that is gone, in the middle of a rename that had happened."""
    async with a_world(tmp_path, migrated_url, run=False) as dead:
        for name in ("a.txt", "b.txt"):
            write(dead.here, name, f"new {name}")
        job_id = await dead.plan(SideName.THERE, "a.txt", "b.txt")
        await dead.nailer.plans.make.carry_out(job_id, dead.site, Answers())
        owner = f"{os.uname().nodename[:30]}:999999999:dead"
        assert await dead.nailer.stores.claims.claim(owner, lease_s=600) == job_id
        items = await dead.nailer.stores.jobs.items(job_id)
        async with dead.nailer.engine.runner._tools.transferrer(
            await dead.nailer.stores.jobs.get(job_id), _live(dead, await dead.nailer.stores.jobs.get(job_id)), _held
        ) as transferrer:
            await transferrer.transfer(items[0])  # landed, but the receipt was never written
        write(dead.there, f".nailer-{job_id}-{items[1].id}.part", "half")
        assert items[0].state is ItemState.WAITING

    async with a_world(tmp_path, migrated_url) as alive:
        job = await alive.ended(job_id)
        items = await alive.nailer.stores.jobs.items(job_id)
        changes = await alive.nailer.stores.changes.latest(alive.site.id)

    assert job.state is JobState.DONE
    assert tree(alive.there) == {"a.txt": b"new a.txt", "b.txt": b"new b.txt"}
    assert items[0].reason == "was complete before Nailer stopped"
    assert [change.what for change in changes] == [What.MADE, What.MADE]


def _live(world: World, job):  # type: ignore[no-untyped-def]
    from nailer.engine.live import LiveJob

    return LiveJob(job.id, job.site_id, job.title, job.to_side, job.target_folder, job.tally)


async def test_looking_again_after_the_line_was_cut_just_works(world: World) -> None:
    write(world.there, "a.txt")
    await world.nailer.files.browse.ledger(world.site, HERE, THERE, View())
    world.host.cut()

    ledger = await world.nailer.files.browse.ledger(world.site, HERE, THERE, View(), fresh=True)

    assert [row.name for row in ledger.rows] == [b"a.txt"]


async def test_a_server_that_gives_no_times_can_be_carried_from_and_to(world: World, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    """Sizes alone must do, and nothing may look changed only because no time is known."""
    plain = SftpSide.stat

    async def timeless(self: SftpSide, one: SitePath) -> Entry:
        return replace(await plain(self, one), stamp=None)

    async def timeless_list(self: SftpSide, folder: SitePath, *, careful: bool = False) -> Listing:
        listing = await plain_list(self, folder)
        return replace(listing, entries=[replace(entry, stamp=None) for entry in listing.entries])

    plain_list = SftpSide.list
    monkeypatch.setattr(SftpSide, "stat", timeless)
    monkeypatch.setattr(SftpSide, "list", timeless_list)
    write(world.there, "down.txt", "from there")
    write(world.there, "up.txt", "old")
    write(world.here, "up.txt", "from here")

    assert (await world.download("down.txt")).state is JobState.DONE
    assert (await world.upload("up.txt")).state is JobState.DONE

    assert (world.there / "up.txt").read_text() == "from here"
    assert (world.here / "down.txt").read_text() == "from there"


async def test_a_server_without_one_step_renames_still_replaces_and_keeps(world: World, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.setattr(Changing, "replaces_in_one_step", False)
    write(world.there, "index.html", "old", NOON_S - 900)
    write(world.here, "index.html", "new")

    job = await world.upload("index.html")
    assert (job.state, tree(world.there)) == (JobState.DONE, {"index.html": b"new"})
    await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))

    assert tree(world.there) == {"index.html": b"old"}


async def test_a_page_that_stops_sending_leaves_the_line_and_other_jobs_alone(world: World) -> None:
    nailer = world.nailer
    dropped = [Dropped((b"film.bin",), 900_000, None)]
    job_id = await nailer.plans.make.drop(world.account_id, world.site, SideName.THERE, THERE, dropped)
    await nailer.plans.make.carry_out(job_id, world.site, Answers())
    (item,) = await nailer.plans.uploads.begin(job_id)

    async def half() -> AsyncIterator[bytes]:
        yield b"x" * 400_000
        raise SendingStopped("The upload stopped before the file was complete.")

    problem = await nailer.plans.uploads.take(job_id, item.id, half())

    assert problem == "The upload stopped before the file was complete."
    assert tree(world.there) == {}
    write(world.here, "a.txt")
    assert (await world.upload("a.txt")).state is JobState.DONE
    assert world.host.sign_ins == 1, "the connection was thrown away"


async def test_claiming_goes_on_after_any_failure(world: World, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    failures = 0
    plain = JobClaims.claim

    async def failing(self: JobClaims, owner: str, *, lease_s: float) -> int | None:
        nonlocal failures
        failures += 1
        if failures == 1:
            raise RuntimeError("nobody foresaw this")
        return await plain(self, owner, lease_s=lease_s)

    monkeypatch.setattr(JobClaims, "claim", failing)
    world.nailer.engine.runner.wake()
    write(world.here, "a.txt")

    assert (await world.upload("a.txt")).state is JobState.DONE
    assert failures > 1


async def test_new_names_get_the_permissions_the_site_says_and_scripts_still_run(world: World) -> None:
    await world.nailer.stores.sites.update(replace(world.site, file_permissions=0o640, folder_permissions=0o750), None)
    write(world.here, "sub/page.html", "x")
    write(world.here, "sub/run.cgi", "#!/bin/sh\n")

    assert (await world.upload("sub")).state is JobState.DONE

    modes = {one.name: one.stat().st_mode & 0o777 for one in (world.there / "sub", *(world.there / "sub").iterdir())}
    assert modes == {"sub": 0o750, "page.html": 0o640, "run.cgi": 0o755}


@contextlib.asynccontextmanager
async def over_ftp(world: World, **manners: Any) -> AsyncIterator[FtpHost]:
    """The world's site reached by plain FTP."""
    host = FtpHost(world.host.root, "seedlib", "sow-and-reap", **manners)
    await host.start()
    world.nailer.settings.routes["ftp.mosslane.example:21"] = f"127.0.0.1:{host.port}"
    world.site = replace(world.site, protocol=Protocol.FTP, port=21)
    await world.nailer.stores.sites.update(world.site, None)
    try:
        yield host
    finally:
        await world.nailer.sites.pool.close_site(world.site.id)
        await host.stop()


async def test_a_job_runs_over_ftp_and_is_taken_back(world: World) -> None:
    write(world.there, "index.html", "old", at_s=NOON_S)
    for number in range(20):
        write(world.here, f"sub/{number}.html", f"page {number}")
    write(world.here, "index.html", "a new one", at_s=NOON_S + 60)
    async with over_ftp(world):
        job = await world.upload("index.html", "sub")
        assert job.state is JobState.DONE
        assert tree(world.there) == tree(world.here)
        back = await world.nailer.plans.take_back.take_job_back(world.account_id, job.id)
        assert (await world.run(back)).state is JobState.DONE

    assert tree(world.there) == {"index.html": b"old"}


async def test_a_host_that_refuses_names_with_a_dot_gets_another_temporary_name(world: World) -> None:
    write(world.here, "index.html", "new")
    async with over_ftp(world, refuses_dots=True) as host:
        assert (await world.upload("index.html")).state is JobState.DONE

    assert tree(world.there) == {"index.html": b"new"}
    assert any(command.startswith("RNFR /htdocs/nailer-") for command in host.commands)


async def test_a_line_of_ftp_that_is_cut_heals_and_the_job_ends_whole(world: World) -> None:
    for number in range(12):
        write(world.here, f"f{number}", os.urandom(60_000))
    async with over_ftp(world) as host:
        host.fault = CutAfter(300_000)
        job = await world.upload(*(f"f{number}" for number in range(12)))

    assert job.state is JobState.DONE, job.trouble
    assert tree(world.there) == tree(world.here)


@pytest.mark.parametrize("lacks", [(), ("REST",)], ids=["goes on in the middle", "cannot"])
@pytest.mark.parametrize("side", SideName)
async def test_a_large_file_over_ftp_that_was_cut_arrives_whole(
    world: World, side: SideName, lacks: tuple[str, ...]
) -> None:
    source, target = (world.here, world.there) if side is SideName.THERE else (world.there, world.here)
    write(source, "film.bin", os.urandom(6_000_000))
    async with over_ftp(world, lacks=lacks) as host:
        host.fault = CutAfter(3_000_000)
        job = await world.transfer(side, "film.bin")

    assert job.state is JobState.DONE, await world.nailer.stores.jobs.failures(job.id)
    assert tree(target) == tree(source)


async def test_a_removal_over_ftp_never_walks_through_a_hidden_link(world: World) -> None:
    write(world.there, "old/page.html", "goes")
    write(world.there, "shared/stays.html", "stays")
    (world.there / "old" / "shared").symlink_to("../shared")
    async with over_ftp(world, shows_links=False):
        job = await world.remove(SideName.THERE, "old")
        assert job.state is JobState.DONE, await world.nailer.stores.jobs.failures(job.id)

    assert tree(world.there) == {"shared/stays.html": b"stays"}


async def test_a_stop_is_heard_whatever_the_runner_just_woke_for(world: World) -> None:
    """The wake and the stop may come in the same turn of the event loop, or a few apart."""
    for turns in range(6):
        runner = Runner(world.nailer.engine.runner._tools, jobs_at_once=1)
        runner.start()
        await asyncio.sleep(0.05)
        runner.wake()
        for _ in range(turns):
            await asyncio.sleep(0)
        async with asyncio.timeout(10):
            await runner.stop()
