"""Done means seen: servers that say yes and do otherwise, by both protocols."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator
from pathlib import Path

import pytest

from nailer.core.compare.joint import Joint
from nailer.core.compare.ledger import View
from nailer.core.files.entry import SideName
from nailer.core.jobs.states import ItemState, JobState
from nailer.core.pairs.wishes import Direction
from nailer.store.jobs import Job
from tests.builders import NOON_S, tree, write
from tests.rough.server import RoughFtp
from tests.rough.worlds import a_rough_sftp_world, a_rough_world, failures, hidden, items_of, read_pair
from tests.world import World

OLD, NEW = (
    {f"p{n}.html": f"the old page number {n}" for n in range(4)},
    {f"p{n}.html": f"new: {n}!" * 9 for n in range(4)},
)
# What a server does, and where it says so: in FTP's words, and in SFTP's.
RENAMES = ["lies", "lies-where-taken", "late", "eats", "loses"]
REMOVALS = ["lies", "late"]


@contextlib.asynccontextmanager
async def _server(kind: str, fault: str, place: Path, url: str, **site: object) -> AsyncIterator[World]:
    making = a_rough_world if kind == "ftp" else a_rough_sftp_world
    async with making(place, url, [fault] if fault else [], **site) as world:
        yield world


def _rename_fault(kind: str, fault: str) -> str:
    return f"{'rnto' if kind == 'ftp' else 'rename'}-{fault}"


async def _said_is_so(world: World, job: Job, contents: dict[str, str]) -> None:
    """What is done stands there, what failed is as it was or said to be gone, and nothing is left beside."""
    for item in await items_of(world, job):
        name = item.target.name.decode()
        place = world.there / name
        if item.state is ItemState.DONE:
            assert place.read_text() == contents[name], f"{name} is said to be done"
        else:
            assert item.error_text
            assert item.seen is None or place.exists() or item.error_kind in ("LiveGone", "NotVerified"), (
                name,
                item.error_text,
            )


@pytest.mark.parametrize("in_place", [False, True], ids=["beside", "in place"])
@pytest.mark.parametrize("fault", RENAMES)
@pytest.mark.parametrize("kind", ["ftp", "sftp"])
async def test_what_is_said_to_be_replaced_is(
    migrated_url: str, database: object, tmp_path: Path, kind: str, fault: str, in_place: bool
) -> None:
    async with _server(kind, _rename_fault(kind, fault), tmp_path, migrated_url, in_place=in_place) as world:
        for name, text in OLD.items():
            write(world.there, name, text, NOON_S - 900)
        for name, text in NEW.items():
            write(world.here, name, text)

        job = await world.upload(*NEW)

        await _said_is_so(world, job, NEW)
        if fault in ("late", "lies-where-taken", "eats") or (fault == "lies" and in_place):
            assert job.state is JobState.DONE, await failures(world, job)
        if job.state is JobState.NEEDS_YOU and fault == "lies":
            assert "said that it renamed" in await failures(world, job)
            assert tree(world.there) == {name: text.encode() for name, text in OLD.items()}
        assert not hidden(world.there), "nothing is left beside"


@pytest.mark.parametrize("fault", RENAMES)
@pytest.mark.parametrize("kind", ["ftp", "sftp"])
async def test_an_old_file_of_the_same_size_and_time_is_told_from_the_new_one(
    migrated_url: str, database: object, tmp_path: Path, kind: str, fault: str
) -> None:
    async with _server(kind, _rename_fault(kind, fault), tmp_path, migrated_url) as world:
        write(world.there, "index.html", "one two three", NOON_S)
        write(world.here, "index.html", "six ten seven", NOON_S)
        job = await world.run(await world.plan(SideName.THERE, "index.html", resend_same=True))
        await _said_is_so(world, job, {"index.html": "six ten seven"})


@pytest.mark.parametrize("fault", REMOVALS)
@pytest.mark.parametrize("kind", ["ftp", "sftp"])
async def test_what_is_said_to_be_removed_is_gone(
    migrated_url: str, database: object, tmp_path: Path, kind: str, fault: str
) -> None:
    async with _server(kind, f"{'dele' if kind == 'ftp' else 'remove'}-{fault}", tmp_path, migrated_url) as world:
        for name, text in OLD.items():
            write(world.there, f"old/{name}", text)

        job = await world.remove_there("old")

        for item in await items_of(world, job):
            gone = not (world.there.parent.joinpath(*(one.decode() for one in item.target.names))).exists()
            assert gone is (item.state is ItemState.DONE), (item.target, item.state, item.error_text)
        assert (job.state is JobState.DONE) is (fault == "late")


@pytest.mark.parametrize("kind", ["ftp", "sftp"])
async def test_a_folder_that_is_said_to_be_removed_is_gone(
    migrated_url: str, database: object, tmp_path: Path, kind: str
) -> None:
    async with _server(kind, "rmd-lies" if kind == "ftp" else "rmdir-lies", tmp_path, migrated_url) as world:
        write(world.there, "old/a.html", "a")

        job = await world.remove_there("old")

        states = {item.target.name: item.state for item in await items_of(world, job)}
        assert (world.there / "old").is_dir()
        assert states == {b"a.html": ItemState.DONE, b"old": ItemState.FAILED}
        assert "still there" in await failures(world, job)


@pytest.mark.parametrize("fault", ["close-cuts", "close-drops", "close-fails"])
async def test_what_becomes_of_a_file_when_it_is_closed_is_seen(
    migrated_url: str, database: object, tmp_path: Path, fault: str
) -> None:
    async with a_rough_sftp_world(tmp_path, migrated_url, [fault]) as world:
        for name, text in OLD.items():
            write(world.there, name, text, NOON_S - 900)
        for name, text in NEW.items():
            write(world.here, name, text)

        job = await world.upload(*NEW)

        await _said_is_so(world, job, NEW)
        assert job.state is JobState.NEEDS_YOU
        assert sum(one.read_text() in OLD.values() for one in world.there.iterdir()) == 1, "one stays as it was"
        assert not hidden(world.there)


async def test_what_a_server_drops_at_its_quota_is_not_said_to_be_the_live_file(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["stor-drops"]) as world:
        for name, text in NEW.items():
            write(world.here, name, text)

        job = await world.upload(*NEW)

        await _said_is_so(world, job, {**NEW})
        assert "kept nothing of it" in await failures(world, job)


@pytest.mark.parametrize("kind", ["ftp", "sftp"])
async def test_saving_says_done_only_where_it_is(
    migrated_url: str, database: object, tmp_path: Path, kind: str
) -> None:
    async with _server(kind, _rename_fault(kind, "lies"), tmp_path, migrated_url) as world:
        write(world.there, "index.html", "live", at_s=1_700_000_000)
        drafts, page = world.nailer.editing.drafts, world.top.child(b"index.html")
        draft = (await drafts.open(world.account_id, world.site, SideName.THERE, page)).draft
        await world.nailer.stores.drafts.type(draft.id, "new words", None)

        saved = await drafts.save(await world.nailer.stores.drafts.get(draft.id), world.site)

        assert "said that it renamed" in saved.why_not
        assert (world.there / "index.html").read_text() == "live"


@pytest.mark.parametrize("reads_back", [False, True])
async def test_other_bytes_of_the_same_size_are_found_where_uploads_are_read_back(
    migrated_url: str, database: object, tmp_path: Path, reads_back: bool
) -> None:
    """Whoever lies in every answer is found out by the bytes alone; that costs as much as the upload, so it is a choice."""
    async with a_rough_sftp_world(tmp_path, migrated_url, ["write-corrupts"], reads_back=reads_back) as world:
        for name, text in OLD.items():
            write(world.there, name, text, NOON_S - 900)
        for name, text in NEW.items():
            write(world.here, name, text)

        job = await world.upload(*NEW)

        if not reads_back:
            assert job.state is JobState.DONE
            return
        await _said_is_so(world, job, NEW)
        assert "read back" in await failures(world, job)
        undone = await world.nailer.plans.take_back.take_job_back(world.account_id, job.id)
        world.host.faults.clear()
        await world.run(undone)
        assert tree(world.there) == {name: text.encode() for name, text in OLD.items()}


@pytest.mark.parametrize("kind", ["ftp", "sftp"])
async def test_a_folder_that_is_said_to_be_made_is_there(
    migrated_url: str, database: object, tmp_path: Path, kind: str
) -> None:
    async with _server(kind, "mkd-lies" if kind == "ftp" else "mkdir-lies", tmp_path, migrated_url) as world:
        (world.here / "news").mkdir()

        job = await world.upload("news")

        assert job.state is JobState.NEEDS_YOU
        assert "said that it made" in await failures(world, job)


async def test_what_cannot_be_read_back_is_not_called_done(migrated_url: str, database: object, tmp_path: Path) -> None:
    async with a_rough_sftp_world(tmp_path, migrated_url, ["reads-refused"], reads_back=True) as world:
        write(world.here, "index.html", "new")

        job = await world.upload("index.html")

        assert job.state is JobState.NEEDS_YOU
        assert "could not be read back" in await failures(world, job)
        assert (world.there / "index.html").read_text() == "new"
        back = await world.nailer.plans.take_back.take_job_back(world.account_id, job.id)
        world.host.faults.clear()
        assert (await world.run(back)).state is JobState.DONE
        assert not (world.there / "index.html").exists()


async def test_where_nothing_is_read_from_the_middle_old_and_new_are_told_by_their_beginning(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["rest-refused"]) as world:
        write(world.there, "index.html", "one" * 5000, NOON_S)
        write(world.here, "index.html", "six" * 5000, NOON_S)

        job = await world.run(await world.plan(SideName.THERE, "index.html", resend_same=True))

        assert job.state is JobState.DONE, await failures(world, job)
        assert (world.there / "index.html").read_text() == "six" * 5000


@pytest.mark.parametrize("fault", ["", "permissions-refused"])
async def test_what_is_for_its_owner_alone_lies_open_at_no_moment_or_that_is_said(
    migrated_url: str, database: object, tmp_path: Path, fault: str
) -> None:
    async with _server("ftp", fault, tmp_path, migrated_url) as world:
        write(world.there, "old.php", "the old one").chmod(0o600)
        write(world.here, "old.php", "the new one, of another size")
        write(world.here, "new.php", "for nobody else").chmod(0o600)
        write(world.here, "page.html", "for all").chmod(0o644)

        job = await world.upload("old.php", "new.php", "page.html")

        assert job.state is JobState.DONE, await failures(world, job)
        assert isinstance(world.host, RoughFtp)
        reasons = {item.target.name: item.reason for item in await items_of(world, job)}
        if fault:
            assert "is open to more people than intended (644, not 600)" in reasons[b"old.php"]
            return
        shut = [permissions for name, permissions in world.host.lay if name.endswith(".part")]
        assert sorted(shut) == [0o600, 0o600, 0o644]
        assert not any("open" in reason for reason in reasons.values())
        assert {path.name: path.stat().st_mode & 0o777 for path in world.there.iterdir()} == {
            "old.php": 0o600,
            "new.php": 0o600,
            "page.html": 0o644,
        }


@pytest.mark.parametrize("fault", ["lists-through-links", "looks-through-links"])
async def test_a_link_that_is_shown_as_what_it_leads_to_goes_alone(
    migrated_url: str, database: object, tmp_path: Path, fault: str
) -> None:
    """The files that it leads to are another folder's, and stay."""
    async with _server("sftp", fault, tmp_path, migrated_url) as world:
        write(world.there, "other/inside.html", "stays")
        write(world.there, "old/page.html", "goes")
        (world.there / "old" / "more").symlink_to("../other")
        (world.there / "old" / "one.html").symlink_to("../other/inside.html")

        job = await world.remove_there("old")

        assert job.state is JobState.DONE, await failures(world, job)
        assert tree(world.there) == {"other/inside.html": b"stays"}
        assert not (world.there / "old").exists()


async def test_names_that_a_server_folds_are_one(migrated_url: str, database: object, tmp_path: Path) -> None:
    """It lists what was sent in small letters: for ever only here and only there, if nobody asked for it by name."""
    async with _server("sftp", "folds-case", tmp_path, migrated_url) as world:
        write(world.here, "Index.HTML", "one")
        write(world.here, "Img/Pier.svg", "two")
        plan = await read_pair(world, Direction.PUBLISH)
        assert (await world.nailer.pairs.runs.ended(await world.nailer.pairs.runs.carry_out(plan))).jobs
        assert tree(world.there) == {"index.html": b"one", "img/pier.svg": b"two"}

        again = await read_pair(world, Direction.LEVEL)

        assert again.rows == []
        assert any("capital and small letters as the same" in text for text in again.warnings)
        assert {listed for _, listed in again.folded} == {b"index.html", b"img", b"pier.svg"}
        ledger = await world.nailer.files.browse.ledger(
            world.site, world.site.start_here, world.top, View(), fresh=True
        )
        assert {row.name: row.standing.joint for row in ledger.rows} == {
            b"Index.HTML": Joint.SAME,
            b"Img": Joint.NOT_READ,
        }
        write(world.here, "Index.HTML", "changed here", NOON_S + 60)
        plan = await read_pair(world, Direction.LEVEL)
        assert [row.standing.joint for row in plan.rows] == [Joint.NEWER_HERE]
        await world.nailer.pairs.runs.ended(await world.nailer.pairs.runs.carry_out(plan))
        assert tree(world.there) == {"index.html": b"changed here", "img/pier.svg": b"two"}


async def test_two_files_that_differ_in_capitals_alone_stay_two_where_the_server_tells_them_apart(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with _server("sftp", "", tmp_path, migrated_url) as world:
        write(world.here, "A.html", "the same", NOON_S)
        write(world.there, "a.html", "the same", NOON_S)

        plan = await read_pair(world, Direction.LEVEL)

        assert {row.below: row.standing.joint for row in plan.rows} == {
            (b"A.html",): Joint.ONLY_HERE,
            (b"a.html",): Joint.ONLY_THERE,
        }


async def test_what_is_for_its_owner_alone_goes_up_where_nothing_is_stored_over_a_name(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with _server("ftp", "stor-keeps", tmp_path, migrated_url) as world:
        for name in ("one.php", "two.php"):
            write(world.here, name, f"for nobody else: {name}").chmod(0o600)

        job = await world.upload("one.php", "two.php")

        assert job.state is JobState.DONE, await failures(world, job)
        assert tree(world.there) == tree(world.here)
        assert not hidden(world.there)


async def test_a_server_that_names_a_target_for_every_name_has_files_all_the_same(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with _server("sftp", "readlink-of-all", tmp_path, migrated_url) as world:
        write(world.there, "index.html", "the old one", NOON_S - 900)
        write(world.there, "gone.html", "goes")
        write(world.here, "index.html", "the new one, longer")

        assert (await world.upload("index.html")).state is JobState.DONE
        assert (await world.remove_there("gone.html")).state is JobState.DONE
        assert tree(world.there) == {"index.html": b"the new one, longer"}
