"""Guards that stand between a person and a loss: each was once broken without any test noticing."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Any

import pytest
from blake3 import blake3
from tools.break_guards import GUARDS, Guard

import nailer
from nailer.core.files.entry import SideName
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Answers
from nailer.engine.receipts import Receipts
from nailer.sides.side import once
from nailer.store.changes import NewChange, What, change_row
from tests.builders import a_file, write
from tests.rough.worlds import a_rough_world, failures, items_of
from tests.world import World, a_world


async def test_what_is_kept_is_what_is_replaced_not_what_was_level(world: World) -> None:
    """The store has the content of the baseline, but somebody changed the file there since."""
    write(world.here, "a.html", "one")
    await world.upload("a.html")
    await world.nailer.engine.kept.put(once(b"one"))
    write(world.there, "a.html", "somebody's own", at_s=1_790_000_500)
    write(world.here, "a.html", "two", at_s=1_790_001_000)

    job = await world.upload("a.html")

    (change,) = await world.nailer.stores.changes.of_job(job.id)
    assert change.before_hash == blake3(b"somebody's own").digest()


async def test_what_somebody_writes_while_the_new_one_is_on_its_way_stays(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The last look, just before the renaming."""
    write(world.there, "a.html", "live", at_s=1_700_000_000)
    write(world.here, "a.html", "new")
    announce = Receipts.announce

    async def and_somebody_writes(self: Receipts, *args: Any, **more: Any) -> None:
        await announce(self, *args, **more)
        await asyncio.to_thread(write, world.there, "a.html", "somebody's own", 1_799_000_000)

    monkeypatch.setattr(Receipts, "announce", and_somebody_writes)

    job = await world.upload("a.html")

    assert job.state is JobState.NEEDS_YOU
    assert (world.there / "a.html").read_text() == "somebody's own"


async def test_a_dead_runners_change_is_made_only_where_its_content_stands(
    database: object, migrated_url: str, tmp_path: Path
) -> None:
    """Any file under the name is not enough: it must be the announced one."""
    async with a_world(tmp_path, migrated_url, run=False) as dead:
        write(dead.there, "a.html", "live", at_s=1_700_000_000)
        write(dead.here, "a.html", "the new page")
        job_id = await dead.plan(SideName.THERE, "a.html")
        await dead.nailer.plans.make.carry_out(job_id, dead.site, Answers())
        (item,) = await items_of(dead, await dead.nailer.stores.jobs.get(job_id))
        change = NewChange(
            dead.site.id,
            SideName.THERE,
            item.target,
            What.REPLACED,
            dead.account_id,
            before=item.seen,
            after=a_file("a.html", len("the new page")),
            job_id=job_id,
            item_id=item.id,
        )
        await dead.nailer.engine.group.submit(("changes.add", change_row(change)))

    async with a_world(tmp_path, migrated_url) as world:
        job = await world.ended(job_id)

        assert job.state is JobState.DONE
        assert (world.there / "a.html").read_text() == "the new page"


async def test_a_copy_that_came_short_while_it_was_kept_is_none(
    database: object, migrated_url: str, tmp_path: Path
) -> None:
    """The server sends half of the old file and says that this was all."""
    async with a_rough_world(tmp_path, migrated_url, ["retr-short"], times=50) as world:
        write(world.there, "a.html", "what is live now", at_s=1_700_000_000)
        write(world.here, "a.html", "new")

        job = await world.upload("a.html")

        assert job.state is JobState.NEEDS_YOU
        assert "kept" in await failures(world, job)
        assert (world.there / "a.html").read_text() == "what is live now"


@pytest.mark.parametrize("guard", GUARDS, ids=lambda guard: guard.what)
def test_each_guard_that_is_broken_on_purpose_stands_where_it_is_said_to(guard: Guard) -> None:
    """`tools/break_guards.py` breaks these lines one by one; a line that was moved would be tried no more."""
    assert (Path(nailer.__file__).parent / guard.file).read_text().count(guard.line) == 1
