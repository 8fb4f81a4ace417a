"""Pairs brought into sync over real servers: plans, runs, the baseline they leave, and what goes wrong under them."""

from __future__ import annotations

import asyncio
import os
import random
import shutil
import unicodedata
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import pytest

from nailer.core.compare.joint import Compare
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import ItemState, JobState
from nailer.core.pairs.proposals import choices_of
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Doing, Removals, SyncWish
from nailer.core.plans.plan import Action
from nailer.core.plans.sieve import CountedAs, Match, RuleGroup, Sieve, Test
from nailer.errors import Conflict, InvalidInput, Locked, NotFound
from nailer.services.pairs.plan import SyncPlan
from nailer.standins.faults import CutAfter, CutListing, ShutFolder
from nailer.standins.sftp import SftpHost
from nailer.store.database import Database
from nailer.store.pairs import Pair, Run
from nailer.store.sites import Secrets, Site
from tests.builders import NOON_S, a_site, path, tree, write
from tests.contracts.sides import shown_key
from tests.engine.test_carry import over_ftp
from tests.world import HERE, THERE, World, a_world

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


async def test_reading_changes_nothing_and_a_first_level_only_compares(world: World, database: Database) -> None:
    write(world.here, "same.html", "same")
    write(world.there, "same.html", "same")
    write(world.here, "both.html", "mine", NOON_S + 60)
    write(world.there, "both.html", "theirs there")

    plan = await read(world)

    assert does(plan) == {"both.html": Doing.DECIDE}
    assert plan.rows[0].standing.guess
    with database.reading() as work:
        assert work._cursor.execute("SELECT * FROM baselines") == 0
    assert tree(world.here)["both.html"] == b"mine"
    await choose(world, plan, both=Doing.LEAVE)
    await carried_out(world, plan)
    with database.reading() as work:
        assert work._cursor.execute("SELECT * FROM baselines") == 1


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


async def test_a_file_of_the_same_size_and_time_with_another_content_is_no_renaming(world: World) -> None:
    await level_now(world, {"old.html": "one content", "b.html": "b"})
    (world.here / "old.html").unlink()
    write(world.here, "new.html", "two content")

    plan = await read(world)

    assert does(plan) == {"new.html": Doing.UPLOAD, "old.html": Doing.REMOVE_THERE}


async def test_a_listing_that_was_cut_short_costs_no_file(world: World) -> None:
    """The plan did not see a file here: when it comes to removing it there, it is looked for once more."""
    await level_now(world, {f"{number}.html": "x" for number in range(20)})
    hidden = world.here / "7.html"
    content = hidden.read_bytes()
    hidden.unlink()
    plan = await read(world)
    assert does(plan) == {"7.html": Doing.REMOVE_THERE}
    write(world.here, "7.html", content)

    run = await carried_out(world, plan)

    assert run.state is RunState.NEEDS_YOU
    (failure,) = await world.nailer.stores.jobs.failures(run.jobs[0])
    assert "is there after all" in failure.what
    assert (world.there / "7.html").read_bytes() == b"x"


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


async def test_an_empty_side_removes_nothing(world: World) -> None:
    await level_now(world, {"a.html": "x", "img/b.svg": "y"})
    shutil.rmtree(world.here)
    world.here.mkdir()

    assert set(does(await read(world, PUBLISH)).values()) == {Doing.LEAVE}
    shutil.rmtree(world.here)
    gone = await read(world, PUBLISH)
    assert gone.here.missing
    assert set(does(gone).values()) == {Doing.LEAVE}


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


async def test_what_nobody_may_list_is_said_and_bars_removals_below(world: World) -> None:
    await level_now(world, {"shut/a.html": "x", "shut/deep/c.html": "z", "b.html": "y"})
    (world.here / "shut" / "deep" / "c.html").unlink()
    world.host.fault = ShutFolder(b"/shut/deep")
    plan = await read(world, PUBLISH)

    assert [name_of(row.below) for row in plan.rows] == ["shut/deep"]
    assert plan.doings.each == [Doing.LEAVE]
    assert any("could not be read" in text for text in plan.warnings)
    assert (await carried_out(world, plan)).flow.steps == 0
    assert "shut/deep/c.html" in tree(world.there)


async def test_a_server_that_cuts_its_listing_short_costs_no_file_here(world: World) -> None:
    await level_now(world, {f"{number}.html": "x" for number in range(8)})
    before = tree(world.here)
    world.host.fault = CutListing(b"/htdocs", 5)
    plan = await read(world, FETCH)
    assert plan.rows == [], "names that seem to have vanished are asked for one by one, and all are there"
    assert any("though the listing does not show it" in text for text in plan.warnings)

    run = await carried_out(world, plan)

    assert run.state is RunState.DONE
    assert tree(world.here) == before


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


async def test_sieves_hold_back_and_say_so(world: World) -> None:
    pair = await a_pair(world)
    own = Sieve(
        "Working files", RuleGroup(CountedAs.ANY, (Match(Test.KIND, "layered"), Match(Test.PATTERN, "drafts/")))
    )
    await world.nailer.stores.pairs.pick_sieves(pair.id, [await world.nailer.stores.sieves.add(own)])
    write(world.here, "a.html", "x")
    write(world.here, "poster.psd", "x")
    write(world.here, "poster", b"8BPS by its first bytes")
    write(world.here, ".git/HEAD", "x")
    write(world.here, "drafts/b.html", "x")
    write(world.there, "layout.psd", "stays there")

    plan = await read(world, PUBLISH, pair=pair)

    assert {name_of(row.below): row.held for row in plan.rows if row.held} == {
        ".git": "House rules",
        "drafts": "Working files",
        "layout.psd": "Working files",
        "poster": "Working files",
        "poster.psd": "Working files",
    }
    run = await carried_out(world, plan)
    assert run.told == ("5 names stayed behind by a sieve.",)
    assert tree(world.there) == {"a.html": b"x", "layout.psd": b"stays there"}


async def test_contents_are_compared_where_times_are_of_no_use(world: World) -> None:
    for number in range(9):
        write(world.here, f"{number}.html", f"page {number}")
        write(world.there, f"{number}.html", f"page {number}")
    write(world.there, "4.html", "PAGE 4")

    by_time = await read(world)
    by_content = await read(world, compare=Compare.CONTENT)

    assert by_time.rows == []
    assert any("times are of no use" in text for text in by_time.warnings)
    assert does(by_content) == {"4.html": Doing.DECIDE}
    assert by_content.comparing == (9, 9)


@pytest.mark.parametrize("means", ["shell", "a hash command", "check-file", "reading"])
async def test_contents_are_told_by_the_servers_own_means_where_it_has_any(world: World, means: str) -> None:
    odd = "it's a name\nof two lines.html"
    for name in (odd, "same.html", "large.bin"):
        write(world.here, name, "s" * 300_000)
        write(world.there, name, "s" * 300_000, NOON_S + 3)
    write(world.there, "same.html", "t" * 300_000, NOON_S + 3)
    world.host.shell = means == "shell"
    world.host.hashes = means == "check-file"
    sent = world.host.bytes_passed

    if means == "a hash command":
        (world.here / odd).unlink()
        (world.there / odd).unlink()
        async with over_ftp(world, hashes=True) as host:
            plan = await read(world, compare=Compare.CONTENT)
            assert not any(command.startswith("RETR") for command in host.commands)
    else:
        plan = await read(world, compare=Compare.CONTENT)
        assert (world.host.bytes_passed - sent > 600_000) is (means == "reading")

    assert list(does(plan)) == ["same.html"]


async def test_what_is_unequal_only_in_line_ends_is_said(world: World) -> None:
    write(world.here, "page.html", "one\ntwo\n", NOON_S + 60)
    write(world.there, "page.html", "one\r\ntwo\r\n")
    write(world.here, "style.css", "a\r\nb\r\n", NOON_S + 60)
    write(world.there, "style.css", "a\nb\n")
    write(world.here, "other.txt", "one\ntwo\n", NOON_S + 60)
    write(world.there, "other.txt", "one\ntwo 12")  # as long as it would be with other ends
    write(world.here, "pic.png", "\n\n", NOON_S + 60)
    write(world.there, "pic.png", "\r\n\r\n")
    sent = world.host.bytes_passed

    plan = await read(world)

    assert plan.line_ends == {(b"page.html",), (b"style.css",)}
    assert "2 names are unequal only in line ends: the text is the same on both sides." in plan.warnings
    assert world.host.bytes_passed - sent < 40


async def test_a_server_whose_clock_jumps_changes_nothing(world: World) -> None:
    async with over_ftp(world, lacks=("MLST", "MLSD", "MFMT")) as host:
        write(world.here, "a.html", "x")
        assert (await bring(world, PUBLISH)).state is RunState.DONE
        assert (await read(world)).rows == []
        host.clock_ahead_s = 3600

        plan = await read(world)

    assert (plan.rows, plan.found.same) == ([], 1)


async def test_names_that_differ_only_in_spelling_wait(world: World) -> None:
    composed, apart = unicodedata.normalize("NFC", "café.html"), unicodedata.normalize("NFD", "café.html")
    write(world.here, composed, "x")
    write(world.there, apart, "x")
    write(world.here, "Pier.jpg", "y")
    write(world.there, "pier.jpg", "y")
    plan = await read(world)
    assert set(does(plan).values()) == {Doing.DECIDE}

    numbers = [number for number, row in enumerate(plan.rows) if row.here is not None]
    assert await world.nailer.pairs.decisions.choose(plan, numbers, Doing.RENAME_THERE) == 2
    assert plan.doings.undecided == 0
    assert (await carried_out(world, plan)).state is RunState.DONE

    assert set(tree(world.there)) == set(tree(world.here)) == {composed, "Pier.jpg"}


async def test_links_are_said_and_left_and_a_loop_of_them_ends(world: World) -> None:
    write(world.here, "a.html", "x")
    (world.here / "loop").symlink_to(".")
    (world.there / "www").symlink_to("../htdocs")

    plan = await read(world, PUBLISH)

    assert does(plan) == {"a.html": Doing.UPLOAD, "loop": Doing.LEAVE, "www": Doing.LEAVE}
    assert (await carried_out(world, plan)).state is RunState.DONE
    assert (world.there / "www").is_symlink()


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


async def _add_staging(world: World, host: SftpHost) -> Site:
    site = replace(a_site(name="Staging", host="staging.mosslane.example"), start_here=SitePath())
    added = await world.nailer.stores.sites.add(site, Secrets(password="sow-and-reap"))
    await world.nailer.stores.identities.pin(added.host, 22, shown_key(host), trusted_by=None, how="test")
    return added


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


async def test_a_reading_belongs_to_its_person_and_can_be_left(world: World) -> None:
    pair = await a_pair(world)
    plan = world.nailer.pairs.readings.begin(world.account_id, pair, LEVEL, Compare.SIZE)

    assert world.nailer.pairs.plans.plan(plan.token, world.account_id) is plan
    assert world.nailer.pairs.plans.latest(world.account_id, pair) is plan
    with pytest.raises(NotFound):
        world.nailer.pairs.plans.plan(plan.token, world.account_id + 1)
    world.nailer.pairs.plans.let_go(plan)
    with pytest.raises(NotFound):
        world.nailer.pairs.plans.plan(plan.token, world.account_id)


async def test_a_server_that_cannot_be_reached_is_the_plans_problem(world: World) -> None:
    world.nailer.settings.routes["ftp.mosslane.example:22"] = "127.0.0.1:1"
    await world.nailer.sites.pool.close_site(world.site.id)
    plan = world.nailer.pairs.readings.begin(world.account_id, await a_pair(world), LEVEL, Compare.SIZE)
    assert plan.task is not None
    await plan.task

    assert not plan.ready
    assert plan.problem is not None
    assert plan.problem.kind == "HostUnreachable"


async def test_folders_remember_what_stood_below_them(world: World) -> None:
    await level_now(world, {"a/x.html": "x", "b/y.html": "y"})
    write(world.here, "a/x.html", "new", NOON_S + 60)
    await read(world)

    folders, read_at = await world.nailer.stores.pairs.folders((await a_pair(world)).id)

    assert read_at is not None
    assert {str(folder): one.ups for folder, one in folders.items()} == {"/": 1, "/a": 1}


async def test_a_name_gone_from_both_sides_is_forgotten_with_all_that_was_in_it(
    world: World, database: Database
) -> None:
    await level_now(world, {"old/deep/x.html": "x", "b.html": "y"})
    for side in (world.here, world.there):
        shutil.rmtree(side / "old")

    run = await bring(world)

    assert (run.state, run.flow.steps) == (RunState.DONE, 0)
    with database.reading() as work:
        work._cursor.execute("SELECT name FROM baselines")
        assert [row["name"] for row in work._cursor.fetchall()] == [b"b.html"]
