"""The live file stays until the new one has its name, whatever the server does with renaming."""

from __future__ import annotations

from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.states import ItemState, JobState
from nailer.core.plans.plan import Answers
from nailer.sides.side import once
from nailer.store.changes import NewChange, What, change_row
from tests.builders import path, write
from tests.rough.worlds import a_rough_world, failures, hidden, items_of
from tests.world import World


@pytest.mark.parametrize("fault", ["rnfr-refused", "rnto-refused"])
async def test_the_live_file_stays_where_the_server_renames_nothing(
    migrated_url: str, database: object, tmp_path: Path, fault: str
) -> None:
    async with a_rough_world(tmp_path, migrated_url, [fault]) as world:
        write(world.there, "index.html", "live", at_s=1_700_000_000)
        write(world.here, "index.html", "new")

        job = await world.upload("index.html")

        assert (world.there / "index.html").read_text() == "live"
        assert job.state is JobState.NEEDS_YOU
        assert ".part" not in await failures(world, job)
        assert "RNTO" in str(world.host.log)
        assert not any(line.startswith("DELE /htdocs/index") for line in world.host.log)
        assert await world.nailer.stores.changes.of_job(job.id) == []


async def test_a_server_that_keeps_a_taken_name_gets_the_old_file_aside_first(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["rnto-keeps"]) as world:
        write(world.there, "index.html", "live", at_s=1_700_000_000)
        write(world.here, "index.html", "new")

        job = await world.upload("index.html")

        assert job.state is JobState.DONE, await failures(world, job)
        assert (world.there / "index.html").read_text() == "new"
        assert not hidden(world.there)
        back = await world.nailer.plans.take_back.take_job_back(world.account_id, job.id)
        assert (await world.run(back)).state is JobState.DONE
        assert (world.there / "index.html").read_text() == "live"


@pytest.mark.parametrize("fault", ["cut-before-rnto", "cut-after-rnto"])
@pytest.mark.parametrize("keeps", [True, False], ids=["aside", "in one step"])
async def test_a_line_that_is_cut_in_the_swap_leaves_the_old_or_the_new(
    migrated_url: str, database: object, tmp_path: Path, fault: str, keeps: bool
) -> None:
    faults = [fault, *(["rnto-keeps"] if keeps else [])]
    async with a_rough_world(tmp_path, migrated_url, faults, times=2) as world:
        write(world.there, "index.html", "live", at_s=1_700_000_000)
        write(world.here, "index.html", "new")

        job = await world.upload("index.html")

        assert job.state is JobState.DONE, await failures(world, job)
        assert (world.there / "index.html").read_text() == "new"
        assert not hidden(world.there)


async def test_where_nothing_is_renamed_files_are_overwritten_in_place_by_choice(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["rnfr-refused"], in_place=True) as world:
        write(world.there, "index.html", "live", at_s=1_700_000_000)
        write(world.here, "index.html", "new")
        write(world.here, "more.html", "more")

        job = await world.upload("index.html", "more.html")

        assert job.state is JobState.DONE, await failures(world, job)
        assert (world.there / "index.html").read_text() == "new"
        assert (world.there / "more.html").read_text() == "more"
        assert not hidden(world.there)
        back = await world.nailer.plans.take_back.take_job_back(world.account_id, job.id)
        assert (await world.run(back)).state is JobState.DONE
        assert (world.there / "index.html").read_text() == "live"
        assert not (world.there / "more.html").exists()


async def test_a_file_that_was_half_overwritten_gets_its_old_content_back(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    faults = ["rnfr-refused", "full-in-stor"]
    async with a_rough_world(tmp_path, migrated_url, faults, in_place=True) as world:
        write(world.there, "index.html", "the live page", at_s=1_700_000_000)
        write(world.here, "index.html", "the new page, longer")

        job = await world.upload("index.html")

        assert job.state is JobState.NEEDS_YOU
        assert (world.there / "index.html").read_text() == "the live page"


async def test_a_kill_while_overwriting_gives_the_old_content_back(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    """The next runner finds the announcement without what the file was to be: a half, which it undoes before it begins."""
    async with a_rough_world(tmp_path, migrated_url, ["rnfr-refused"], in_place=True, run=False) as world:
        write(world.there, "index.html", "the live page", at_s=1_700_000_000)
        write(world.here, "index.html", "the new page")
        job_id = await world.plan(SideName.THERE, "index.html")
        await world.nailer.plans.make.carry_out(job_id, world.site, Answers())
        job = await world.nailer.stores.jobs.get(job_id)
        (item,) = await items_of(world, job)
        kept = await world.nailer.engine.kept.put(once(b"the live page"))
        announced = NewChange(
            world.site.id,
            SideName.THERE,
            item.target,
            What.REPLACED,
            world.account_id,
            before=item.seen,
            before_hash=kept.hash,
            job_id=job_id,
            item_id=item.id,
        )
        await world.nailer.engine.group.submit(("changes.add", change_row(announced)))
        write(world.there, "index.html", "the ne")

        await world.nailer.start()
        job = await world.ended(job_id)

        assert job.state in (JobState.DONE, JobState.NEEDS_YOU)
        assert (world.there / "index.html").read_text() in ("the new page", "the live page")
        changes = await world.nailer.stores.changes.latest(world.site.id)
        assert any(change.before_hash is not None for change in changes), "the old content can be taken back"


async def test_a_folder_that_cannot_be_written_but_its_file_can(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["no-hidden-names", "rnto-refused"], in_place=True) as world:
        write(world.there, "index.html", "live", at_s=1_700_000_000)
        write(world.here, "index.html", "new")

        job = await world.upload("index.html")

        assert job.state is JobState.DONE, await failures(world, job)
        assert (world.there / "index.html").read_text() == "new"


async def test_saving_in_the_editor_keeps_the_live_file_where_nothing_is_renamed(
    migrated_url: str, database: object, tmp_path: Path
) -> None:
    async with a_rough_world(tmp_path, migrated_url, ["rnfr-refused"]) as world:
        write(world.there, "index.html", "live", at_s=1_700_000_000)
        page = path("/htdocs/index.html")
        draft = (await world.nailer.editing.drafts.open(world.account_id, world.site, SideName.THERE, page)).draft
        await world.nailer.stores.drafts.type(draft.id, "new", None)

        saved = await world.nailer.editing.drafts.save(await world.nailer.stores.drafts.get(draft.id), world.site)

        assert (world.there / "index.html").read_text() == "live"
        assert "not allow" in saved.why_not
        assert ".part" not in f"{saved.why_not} {saved.server_words}"


async def test_a_folder_renamed_under_a_take_back_keeps_the_offer(world: World) -> None:
    """A removal that finds nothing is no taking back: it may lie under another name by now."""
    write(world.here, "news/a.html", "a")
    job = await world.upload("news")
    (world.there / "news").rename(world.there / "news-old")

    back = await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))

    states = {item.target.name: item.state for item in await items_of(world, back)}
    assert states[b"a.html"] is ItemState.LEFT
    (world.there / "news-old").rename(world.there / "news")
    left = await world.nailer.stores.changes.of_job(job.id)
    assert {change.what for change in left} >= {What.MADE}
