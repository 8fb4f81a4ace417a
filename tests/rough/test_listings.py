"""A listing that is not known to be whole: nothing is removed because of it, and nothing is called only here."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import pytest

from nailer.core.compare.joint import Joint
from nailer.core.compare.ledger import View
from nailer.core.files.completeness import Lack
from nailer.core.files.entry import SideName
from nailer.core.jobs.states import JobState
from nailer.core.pairs.wishes import Direction, Doing
from nailer.errors import TransferError
from nailer.sides.connection import Lane
from tests.builders import path, write
from tests.rough.worlds import a_rough_world, failures, read_pair
from tests.world import HERE, THERE, World

NAMES = ["a.html", "b.html", "c.html", "d.html", "img/pier.svg", "img/quay.svg", "img/rope.svg", ".htaccess"]

# What makes a listing short, and whether it is asked by LIST alone for that.
SHORT = {
    "list-says-cut": True,
    "list-cut-in-a-row": True,
    "list-could-not-open": True,
    "list-empty": True,
    "list-no-files-found": True,
    "list-refused": True,
    "list-451": True,
    "rows-unread": True,
    "rows-too-large": True,
    "rows-twice": True,
    "hides-dots": True,
    "facts-empty": False,
    "facts-say-cut": False,
    "facts-without-type": False,
    "facts-of-year-0000": False,
    "facts-500": False,
    "facts-550": False,
    "facts-without-size": False,
    "option-is-a-pattern": True,
    "option-refused": True,
    "option-missing": True,
    "rows-of-year-0000": True,
    "rows-in-another-language": True,
    "rows-with-blank-owners": True,
    "rows-bare-lf": True,
    "rows-iso": True,
    "shows-no-dot": True,
}


async def level_pair(world: World) -> None:
    """The same files on both sides, and a baseline that says so."""
    for name in NAMES:
        write(world.here, name, f"content of {name}")
    job = await world.upload("a.html", "b.html", "c.html", "d.html", "img", ".htaccess")
    assert job.state is JobState.DONE, await failures(world, job)


@asynccontextmanager
async def a_short_world(tmp_path: Path, database_url: str, fault: str) -> AsyncIterator[World]:
    """A level pair whose server lists it short from now on, on a new connection that knows nothing of the server."""
    async with a_rough_world(tmp_path, database_url, ["no-facts"] if SHORT[fault] else []) as world:
        await level_pair(world)
        await world.nailer.sites.pool.close_site(world.site.id)
        world.host.faults.add(fault)
        yield world


@pytest.mark.parametrize("fault", SHORT)
async def test_nothing_goes_because_of_a_short_listing(
    migrated_url: str, database: object, tmp_path: Path, fault: str
) -> None:
    async with a_short_world(tmp_path, migrated_url, fault) as world:
        plan = await read_pair(world, Direction.FETCH)
        removed = [
            row.below for row, doing in zip(plan.rows, plan.doings.each, strict=True) if doing is Doing.REMOVE_HERE
        ]
        run = await world.nailer.pairs.runs.carry_out(plan, typed=plan.word_to_type) if plan.flow.steps else None
        if run is not None:
            await world.nailer.pairs.runs.ended(run)

        assert removed == []
        assert {str(one.relative_to(world.here)) for one in world.here.rglob("*") if one.is_file()} == set(NAMES)
        only_here = [row.below for row in plan.rows if row.standing.joint is Joint.ONLY_HERE]
        assert only_here == []


@pytest.mark.parametrize("fault", SHORT)
async def test_the_ledger_never_says_only_here_of_what_is_there(
    migrated_url: str, database: object, tmp_path: Path, fault: str
) -> None:
    async with a_short_world(tmp_path, migrated_url, fault) as world:
        ledger = await world.nailer.files.browse.ledger(world.site, HERE, THERE, View(hidden=True), fresh=True)

        if ledger.there_listing.problem is None:
            assert ledger.counts[Joint.ONLY_HERE] == 0
            missing = {row.name for row in ledger.rows if row.there is None}
            assert all(row.standing.joint is Joint.NOT_READ for row in ledger.rows if row.name in missing)
            assert not missing or ledger.there_listing.lack is not None
        assert not ledger.there_listing.is_missing, "it is there"


@pytest.mark.parametrize("fault", SHORT)
async def test_uploading_into_a_folder_that_is_not_known_whole_replaces_with_a_kept_copy(
    migrated_url: str, database: object, tmp_path: Path, fault: str
) -> None:
    """Each picked name is looked for by itself: the plan says replaced where it is, never new."""
    async with a_short_world(tmp_path, migrated_url, fault) as world:
        for name in NAMES:
            write(world.here, name, f"new content of {name}", at_s=1_791_000_000)
        before = len(await world.nailer.stores.changes.latest(world.site.id))

        if fault in ("list-refused", "list-451"):
            with pytest.raises(TransferError, match="does not list"):
                await world.upload("a.html")
            return
        job = await world.upload("a.html", "b.html", "c.html", "d.html", ".htaccess")

        changes = await world.nailer.stores.changes.latest(world.site.id)
        for change in changes[: len(changes) - before]:
            assert change.before_hash is not None, f"{change.path} was replaced without its copy being kept"
        for name in ("a.html", "b.html", "c.html", "d.html", ".htaccess"):
            text = (world.there / name).read_text()
            assert text.endswith(f"content of {name}")
        if job.state is JobState.DONE:
            assert (world.there / "d.html").read_text().startswith("new")


async def test_a_folder_that_took_anothers_name_is_read_anew(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    """The line would stay in the old folder if it did not go there each time."""
    async with a_rough_world(tmp_path, migrated_url, ["no-facts"]) as world:
        write(world.there, "old.html")
        async with world.nailer.files.browse.side(world.site, SideName.THERE, Lane.BROWSE) as side:
            assert [one.name for one in (await side.list(THERE)).entries] == [b"old.html"]
            world.there.rename(world.there.with_name("aside"))
            write(world.there, "new.html")

            assert [one.name for one in (await side.list(THERE)).entries] == [b"new.html"]


async def test_an_empty_folder_is_empty_where_the_server_shows_that_it_looked(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["no-facts"]) as world:
        (world.there / "empty").mkdir()
        async with world.nailer.files.browse.side(world.site, SideName.THERE, Lane.BROWSE) as side:
            listing = await side.list(path("/htdocs/empty"))
            world.host.faults.add("list-empty")
            doubtful = await side.list(path("/htdocs/empty"))

        assert listing.is_whole
        assert doubtful.lack is not None
        assert doubtful.lack.why is Lack.UNPROVED


async def test_rows_of_facts_behind_a_plus_are_read(migrated_url: str, database: object, tmp_path: Path) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["rows-easily-parsed", "no-facts"]) as world:
        write(world.there, "index.html", "there", at_s=1_791_000_000).chmod(0o640)
        (world.there / "news").mkdir()
        async with world.nailer.sites.pool.side(world.site.id) as side:
            found = {one.name: one for one in (await side.list(world.top)).entries}

    assert found[b"news"].is_folder
    assert (found[b"index.html"].size, found[b"index.html"].permissions) == (5, 0o640)
    assert found[b"index.html"].stamp is not None
    assert found[b"index.html"].stamp.at_s == 1_791_000_000
