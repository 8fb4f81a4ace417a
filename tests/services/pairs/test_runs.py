"""Runs over real servers: what becomes level, the baseline that is left, and what goes wrong meanwhile."""

from __future__ import annotations

import asyncio
import os
import random
import shutil
from dataclasses import replace
from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import ItemState, JobState
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Doing
from nailer.core.plans.plan import Action
from nailer.errors import Conflict, InvalidInput, Locked
from nailer.standins.faults import CutAfter, Healthy, ShutFolder
from nailer.standins.sftp import SftpHost
from nailer.store.database import Database
from nailer.store.sites import Secrets, Site
from tests.builders import NOON_S, a_site, path, tree, write
from tests.contracts.sides import shown_key
from tests.engine.test_carry import over_ftp
from tests.services.pairs.syncing import (
    FETCH,
    LEVEL,
    PUBLISH,
    a_pair,
    actions,
    bring,
    carried_out,
    choose,
    does,
    level_now,
    read,
)
from tests.world import THERE, World, a_world


async def _add_staging(world: World, host: SftpHost) -> Site:
    site = replace(a_site(name="Staging", host="staging.mosslane.example"), start_here=SitePath())
    added = await world.nailer.stores.sites.add(site, Secrets(password="sow-and-reap"))
    await world.nailer.stores.identities.pin(added.host, 22, shown_key(host), trusted_by=None, how="test")
    return added


async def test_publishing_makes_there_like_here_and_then_there_is_nothing_to_do(world: World) -> None:
    write(world.here, "index.html", "new")
    write(world.here, "img/deep/pier.svg", "<svg/>")
    (world.here / "empty").mkdir()
    write(world.there, "index.html", "older", NOON_S - 900)
    write(world.there, "old/page.html", "goes")

    run = await bring(world, PUBLISH)

    assert (run.state, run.flow.up, run.flow.removed_there) == (RunState.DONE, 2, 1)
    assert tree(world.there) == tree(world.here)
    assert (world.there / "empty").is_dir()
    assert not (world.there / "old").exists()
    again = await read(world)
    assert (again.rows, again.found.level, again.found.gone) == ([], [], [])


async def test_a_pair_is_levelled_both_ways_with_its_baseline(world: World) -> None:
    await level_now(world, {name: name for name in ("a.html", "b.html", "c.html", "d.html", *"klmnopqrstuvwxyz")})
    write(world.here, "a.html", "changed here", NOON_S + 60)
    write(world.there, "b.html", "changed there", NOON_S + 60)
    (world.here / "c.html").unlink()
    write(world.there, "new.html", "new there")
    write(world.here, "d.html", "one", NOON_S + 60)
    write(world.there, "d.html", "other", NOON_S + 90)

    plan = await read(world)
    assert does(plan) == {
        "a.html": Doing.UPLOAD,
        "b.html": Doing.DOWNLOAD,
        "c.html": Doing.REMOVE_THERE,
        "d.html": Doing.DECIDE,
        "new.html": Doing.DOWNLOAD,
    }
    with pytest.raises(Conflict, match="1 of these"):
        await world.nailer.pairs.runs.carry_out(plan)
    await choose(world, plan, d=Doing.DOWNLOAD)
    run = await carried_out(world, plan)

    assert run.state is RunState.DONE
    assert tree(world.here) == tree(world.there)
    assert tree(world.here)["d.html"] == b"other"
    assert (await read(world)).rows == []


async def test_both_contents_are_kept_on_both_sides(world: World) -> None:
    write(world.here, "a.html", "mine", NOON_S + 60)
    write(world.there, "a.html", "theirs, longer", NOON_S + 90)

    run = await bring(world, LEVEL, a=Doing.BOTH)

    assert run.state is RunState.DONE, await actions(world, run)
    assert tree(world.here) == tree(world.there) == {"a.html": b"theirs, longer", "a-2.html": b"mine"}


async def test_a_renamed_file_is_renamed_there_and_nothing_is_sent(world: World) -> None:
    await level_now(world, {"old.html": "the same content", "sub/keeps.html": "x", "b.html": "b"})
    (world.here / "new").mkdir()
    (world.here / "old.html").rename(world.here / "new" / "page.html")

    plan = await read(world)
    assert does(plan)["new/page.html"] is Doing.RENAME_THERE
    run = await carried_out(world, plan)

    assert await actions(world, run) == [
        (Action.MAKE_FOLDER, "new", ItemState.DONE),
        (Action.MOVE, "page.html", ItemState.DONE),
    ]
    assert tree(world.there) == tree(world.here)
    after = await read(world)
    assert (after.rows, after.found.level) == ([], [])


@pytest.mark.parametrize("side", SideName)
async def test_what_changes_during_the_run_is_left_and_said(world: World, side: SideName) -> None:
    await level_now(world, {"a.html": "old", "b.html": "old", **{f"{n}.css": "x" for n in range(9)}})
    write(world.here, "a.html", "new", NOON_S + 60)
    write(world.here, "b.html", "new", NOON_S + 60)
    plan = await read(world)
    write(world.here if side is SideName.HERE else world.there, "a.html", "meanwhile", NOON_S + 99)

    run = await carried_out(world, plan)

    assert run.state is RunState.NEEDS_YOU
    assert {name: state for _, name, state in await actions(world, run)} == {
        "a.html": ItemState.FAILED,
        "b.html": ItemState.DONE,
    }
    assert tree(world.there)["a.html"] == (b"old" if side is SideName.HERE else b"meanwhile")


async def test_removing_much_needs_a_typed_word(world: World) -> None:
    await level_now(world, {f"{number}.html": "x" for number in range(10)})
    (world.here / "1.html").unlink()
    (world.here / "2.html").unlink()
    plan = await read(world)

    assert (plan.removes_much, plan.word_to_type) == (SideName.THERE, "htdocs")
    with pytest.raises(InvalidInput):
        await carried_out(world, plan, typed="yes")
    assert len(tree(world.there)) == 10
    assert (await carried_out(world, plan, typed="htdocs")).state is RunState.DONE
    assert len(tree(world.there)) == 8


async def test_a_guarded_folder_waits_to_be_opened(world: World) -> None:
    write(world.here, "mail/box", "x")
    plan = await read(world, PUBLISH)

    assert await world.nailer.pairs.runs.guarded(plan) == [path("/htdocs/mail")]
    with pytest.raises(Locked):
        await world.nailer.pairs.runs.carry_out(plan)
    run = await world.nailer.pairs.runs.ended(await world.nailer.pairs.runs.carry_out(plan, guarded_confirmed=True))
    assert run.state is RunState.DONE


async def test_a_renaming_out_of_a_guarded_folder_waits_too(world: World) -> None:
    write(world.here, "mail/letter.html", "a letter to be moved")
    write(world.here, "b.html", "x")
    first = await read(world, PUBLISH)
    await world.nailer.pairs.runs.ended(await world.nailer.pairs.runs.carry_out(first, guarded_confirmed=True))
    world.nailer.files.guarded.lock(world.account_id, world.site, path("/htdocs/mail"))
    (world.here / "mail" / "letter.html").rename(world.here / "letter.html")

    plan = await read(world)

    assert does(plan)["letter.html"] is Doing.RENAME_THERE
    assert await world.nailer.pairs.runs.guarded(plan) == [path("/htdocs/mail")]
    with pytest.raises(Locked):
        await carried_out(world, plan)


async def test_what_is_there_again_when_a_removal_is_carried_out_stays(world: World) -> None:
    """The last look, whatever the plan saw."""
    await level_now(world, {f"{number}.html": "x" for number in range(8)})
    before = tree(world.here)
    for number in range(3):
        (world.there / f"{number}.html").unlink()
    plan = await read(world, FETCH)
    assert list(does(plan).values()) == [Doing.REMOVE_HERE] * 3
    for number in range(3):
        write(world.there, f"{number}.html", "x")

    run = await carried_out(world, plan)

    assert run.state is RunState.NEEDS_YOU
    assert tree(world.here) == before


async def test_a_whole_run_is_taken_back(world: World) -> None:
    await level_now(world, {"a.html": "old", "b.html": "b", **{f"{n}.css": "x" for n in range(20)}})
    before = (tree(world.here), tree(world.there))
    write(world.here, "a.html", "new", NOON_S + 60)
    write(world.there, "c.html", "new there")
    (world.here / "b.html").unlink()
    changed = (tree(world.here), tree(world.there))
    run = await bring(world)
    assert run.state is RunState.DONE
    assert tree(world.here) == tree(world.there) != before[0]

    for job in reversed(run.jobs):
        back = await world.nailer.plans.take_back.take_job_back(world.account_id, job)
        assert (await world.run(back)).state is JobState.DONE

    assert (tree(world.here), tree(world.there)) == changed


async def test_a_file_where_a_folder_was(world: World) -> None:
    await level_now(world, {"news/a.html": "x", "news/b/c.html": "y", "index.html": "z"})
    shutil.rmtree(world.here / "news")
    write(world.here, "news", "now a file")
    plan = await read(world, PUBLISH)
    assert does(plan) == {"news": Doing.DECIDE}

    await choose(world, plan, news=Doing.UPLOAD)
    run = await carried_out(world, plan)

    assert run.state is RunState.DONE, [await world.nailer.stores.jobs.failures(job) for job in run.jobs]
    assert tree(world.there) == {"news": b"now a file", "index.html": b"z"}
    assert (await read(world)).rows == []


async def test_a_run_killed_half_way_goes_on_and_ends_level(
    database: Database, migrated_url: str, tmp_path: Path
) -> None:
    random.seed(7)
    async with a_world(tmp_path, migrated_url) as world:
        await level_now(world, {f"{n}.html": f"old {n}" for n in range(60)})
        for number in range(0, 60, 2):
            write(world.here, f"{number}.html", os.urandom(30_000), NOON_S + 60)
        for number in range(1, 20, 2):
            write(world.there, f"{number}.html", os.urandom(20_000), NOON_S + 60)
        plan = await read(world)
        world.host.fault = CutAfter(random.randrange(200_000, 600_000))
        run_id = await world.nailer.pairs.runs.carry_out(plan)
        await asyncio.sleep(0.15)
        # The world ends here, in the middle of it.
    async with a_world(tmp_path, migrated_url, run=False) as world:
        await world.nailer.start()
        run = await world.nailer.pairs.runs.ended(run_id)

        assert run.state is RunState.DONE, [await world.nailer.stores.jobs.failures(job) for job in run.jobs]
        assert tree(world.here) == tree(world.there)
        assert (await read(world)).rows == []


@pytest.mark.parametrize("seed", range(4))
async def test_cut_at_any_byte_both_sides_end_level_and_whole(world: World, seed: int) -> None:
    rng = random.Random(seed)
    await level_now(world, {f"{n}.html": f"old {n}" for n in range(25)})
    for number in range(25):
        side = rng.choice((world.here, world.there))
        write(side, f"{number}.html", rng.randbytes(rng.randrange(1, 60_000)), NOON_S + 60 + number)
    wanted = {
        name: max(((world.here / name), (world.there / name)), key=lambda one: one.stat().st_mtime).read_bytes()
        for name in tree(world.here)
    }
    world.host.fault = CutAfter(rng.randrange(10_000, 700_000))

    run = await bring(world)

    assert run.state is RunState.DONE, [await world.nailer.stores.jobs.failures(job) for job in run.jobs]
    assert tree(world.here) == tree(world.there) == wanted


async def test_two_runs_of_one_pair_do_not_meet(world: World) -> None:
    write(world.here, "a.html", "x")
    one, other = await read(world, PUBLISH), await read(world, PUBLISH)
    run_id = await world.nailer.pairs.runs.carry_out(one)

    with pytest.raises(Conflict, match="already"):
        await world.nailer.pairs.runs.carry_out(other)

    assert (await world.nailer.pairs.runs.ended(run_id)).state is RunState.DONE


async def test_the_second_half_of_a_run_waits_for_the_first_and_stops_with_it(world: World) -> None:
    write(world.here, "a.html", "x")
    write(world.there, "b.html", "y")
    nailer = world.nailer
    await nailer.engine.runner.stop()
    run = await nailer.stores.pairs.run(await nailer.pairs.runs.carry_out(await read(world)))
    first, second = run.jobs

    assert await nailer.stores.claims.claim("me:1:x", lease_s=20) == first
    assert await nailer.stores.claims.claim("me:1:x", lease_s=20) is None
    await nailer.stores.jobs.want_stop(first)
    await nailer.stores.claims.finish(first, "me:1:x", JobState.STOPPED, None, None)

    assert (await nailer.stores.jobs.get(second)).state is JobState.STOPPED
    assert (await nailer.pairs.runs.finish(run)).state is RunState.STOPPED


async def test_two_sites_are_a_pair_too(world: World, tmp_path: Path) -> None:
    root = tmp_path / "staging"
    (root / "htdocs").mkdir(parents=True)
    host = SftpHost(root, "seedlib", "sow-and-reap")
    world.nailer.settings.routes["staging.mosslane.example:22"] = f"127.0.0.1:{await host.start()}"
    try:
        staging = await _add_staging(world, host)
        pair = await world.nailer.stores.pairs.add(
            world.site.id, THERE, THERE, "staging to live", other_site_id=staging.id
        )
        write(root / "htdocs", "a.html", "from staging")
        write(world.there, "b.html", "from live")

        run = await carried_out(world, await read(world, LEVEL, pair=pair))

        assert run.state is RunState.DONE, [await world.nailer.stores.jobs.failures(job) for job in run.jobs]
        assert tree(root / "htdocs") == tree(world.there) == {"a.html": b"from staging", "b.html": b"from live"}
        (root / "htdocs" / "a.html").unlink()
        plan = await read(world, LEVEL, pair=pair)
        assert does(plan) == {"a.html": Doing.REMOVE_THERE}
        assert (await carried_out(world, plan)).state is RunState.DONE
        assert tree(world.there) == {"b.html": b"from live"}
        assert (await read(world, LEVEL, pair=pair)).rows == []
    finally:
        await world.nailer.sites.pool.close_site(staging.id)
        await host.stop()


@pytest.mark.parametrize("manners", [{}, {"lacks": ("MLST", "MLSD", "MFMT")}], ids=["with facts", "by LIST alone"])
async def test_a_pair_is_kept_in_sync_over_ftp(world: World, manners: dict[str, object]) -> None:
    async with over_ftp(world, **manners):
        write(world.here, "index.html", "x")
        write(world.here, "img/pier.svg", "<svg/>")
        write(world.there, "there.html", "y")
        assert (await bring(world)).state is RunState.DONE
        assert tree(world.here) == tree(world.there)
        assert (await read(world)).rows == []
        write(world.here, "index.html", "longer than it was", NOON_S + 7200)
        assert does(await read(world)) == {"index.html": Doing.UPLOAD}


@pytest.mark.parametrize("shut", [b"htdocs", b"news"], ids=["all of it", "one folder"])
async def test_what_was_not_read_is_never_called_level(world: World, shut: bytes) -> None:
    write(world.there, "index.html", "there")
    write(world.there, "news/a.html", "there")
    write(world.here, "index.html", "there")
    write(world.here, "news/a.html", "there")
    world.host.fault = ShutFolder(shut)
    pair = await a_pair(world)

    plan = await read(world, PUBLISH, pair=pair)
    run = await carried_out(world, plan)

    assert (plan.not_read, run.not_read) == (1, 1)
    assert any("not read" in text for text in run.told)
    assert (await world.nailer.stores.pairs.get(pair.id)).level_at is None
    world.host.fault = Healthy()
    again = await carried_out(world, await read(world, PUBLISH, pair=pair))
    assert again.not_read == 0
    assert (await world.nailer.stores.pairs.get(pair.id)).level_at is not None
