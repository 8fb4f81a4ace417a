"""Pairs read over real servers: what is found, what is not known, and what follows from that."""

from __future__ import annotations

import shutil
import unicodedata

import pytest

from nailer.core.compare.joint import Compare
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Doing
from nailer.core.plans.sieve import CountedAs, Match, RuleGroup, Sieve, Test
from nailer.errors import NotFound
from nailer.standins.faults import CutListing, ShutFolder
from nailer.store.database import Database
from tests.builders import NOON_S, tree, write
from tests.engine.test_carry import over_ftp
from tests.services.pairs.syncing import (
    FETCH,
    LEVEL,
    PUBLISH,
    a_pair,
    bring,
    carried_out,
    choose,
    does,
    level_now,
    name_of,
    read,
)
from tests.world import World


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
    assert "still exists" in failure.what
    assert (world.there / "7.html").read_bytes() == b"x"


async def test_an_empty_side_removes_nothing(world: World) -> None:
    await level_now(world, {"a.html": "x", "img/b.svg": "y"})
    shutil.rmtree(world.here)
    world.here.mkdir()

    assert set(does(await read(world, PUBLISH)).values()) == {Doing.LEAVE}
    shutil.rmtree(world.here)
    gone = await read(world, PUBLISH)
    assert gone.here.missing
    assert set(does(gone).values()) == {Doing.LEAVE}


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
    assert run.told == ("5 items left behind by a sieve.",)
    assert tree(world.there) == {"a.html": b"x", "layout.psd": b"stays there"}


async def test_contents_are_compared_where_times_are_of_no_use(world: World) -> None:
    for number in range(9):
        write(world.here, f"{number}.html", f"page {number}")
        write(world.there, f"{number}.html", f"page {number}")
    write(world.there, "4.html", "PAGE 4")

    by_time = await read(world)
    by_content = await read(world, compare=Compare.CONTENT)

    assert by_time.rows == []
    assert any("times cannot show" in text for text in by_time.warnings)
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
    assert "2 items are different only in line endings; the text is the same." in plan.warnings
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
    await world.nailer.pairs.plans.reading.all_ended()

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
