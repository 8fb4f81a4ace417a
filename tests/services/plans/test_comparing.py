"""What a plan that carries finds out before it decides anything: equal contents, and what both sides have changed."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

import pytest

from nailer.core.compare.joint import Joint
from nailer.core.compare.ledger import View
from nailer.core.files.entry import SideName
from nailer.core.plans.plan import Answers, Choice, Verdict
from nailer.errors import InvalidInput
from nailer.services.plans import PlanToRead
from nailer.store.jobs import Job
from tests.builders import write
from tests.world import HERE, THERE, World

DAY_S = 86_400


def _older(path: Path, days: int) -> None:
    at = path.stat().st_mtime - days * DAY_S
    os.utime(path, (at, at))


async def _read(world: World, job_id: int) -> PlanToRead:
    return await world.nailer.plans.reader.read(job_id, world.site)


async def _decide(world: World, job_id: int, answers: Answers) -> Job:
    job = await world.nailer.stores.jobs.get(job_id)
    await world.nailer.plans.confirming.carry_out(job, world.site, answers)
    return await world.ended(job_id)


@pytest.mark.parametrize("to_side", list(SideName))
async def test_equal_contents_with_another_time_are_not_sent_again(world: World, to_side: SideName) -> None:
    for number in range(60):
        for top in (world.here, world.there):
            write(top, f"skin/{number}.css", f"colour {number}")
        _older(world.there / "skin" / f"{number}.css", 3)
    write(world.here, "skin/7.css", "COLOUR 7")
    write(world.here, "skin/8.css", "another size")

    plan = await _read(world, await world.plan(to_side, "skin"))

    assert (plan.summary.same, plan.summary.replaced + plan.summary.replaced_newer) == (58, 2)
    ledger = await world.nailer.files.browse.ledger(world.site, HERE.child(b"skin"), THERE.child(b"skin"), View())
    assert ledger.counts[Joint.SAME] == 58, "and they are level from now on"


async def test_a_server_that_tells_no_hash_is_read_only_so_far(world: World) -> None:
    for top in (world.here, world.there):
        write(top, "small.bin", b"s" * 1000)
        write(top, "large.bin", b"l" * 9_000_000)
        _older(top / ("large.bin" if top is world.here else "small.bin"), 3)

    plan = await _read(world, await world.plan(SideName.THERE, "small.bin", "large.bin"))

    verdicts = {item.target.name: item.verdict for item in plan.items}
    assert verdicts[b"small.bin"] is Verdict.SAME
    assert verdicts[b"large.bin"] in (Verdict.REPLACES, Verdict.REPLACES_NEWER)


async def _both_changed(world: World, *names: str) -> int:
    for name in names:
        write(world.here, name, "level")
    await world.upload(*names)
    for name in names:
        write(world.here, name, f"ours of {name}")
        write(world.there, name, f"theirs, longer, of {name}")
    write(world.here, "new.html", "new")
    return await world.plan(SideName.THERE, "new.html", *names)


async def test_what_both_sides_changed_comes_first_and_nothing_goes_before_it_is_decided(world: World) -> None:
    job_id = await _both_changed(world, "a.html", "b.html")
    plan = await _read(world, job_id)

    assert [item.target.name for item in plan.items] == [b"a.html", b"b.html", b"new.html"]
    assert (plan.summary.both_changed, plan.summary.acts) == (2, 1)
    with pytest.raises(InvalidInput, match="2 files that changed on both sides"):
        await _decide(world, job_id, Answers())
    with pytest.raises(InvalidInput, match="1 file that"):
        await _decide(world, job_id, Answers(rows={plan.clashes[0]: Choice.REPLACE}))
    assert not (world.there / "new.html").exists()

    job = await _decide(
        world, job_id, Answers(rows=dict(zip(plan.clashes, (Choice.REPLACE, Choice.LEAVE), strict=True)))
    )

    assert (world.there / "a.html").read_text() == "ours of a.html"
    assert (world.there / "b.html").read_text() == "theirs, longer, of b.html"
    assert (world.there / "new.html").read_text() == "new"
    assert job.state.value == "done"


async def test_all_that_both_sides_changed_are_kept_beside_each_other(world: World) -> None:
    job_id = await _both_changed(world, "a.html", "b.html")

    await _decide(world, job_id, Answers(clashes=Choice.KEEP_BOTH))

    assert (world.there / "a-2.html").read_text() == "ours of a.html"
    assert (world.there / "b.html").read_text() == "theirs, longer, of b.html"


async def test_a_single_row_is_decided_apart_from_the_rest(world: World) -> None:
    for name in ("a.html", "b.html"):
        write(world.there, name, "old")
        _older(world.there / name, 3)
        write(world.here, name, f"longer {name}")
    job_id = await world.plan(SideName.THERE, "a.html", "b.html")
    items = {item.target.name: item.id for item in (await _read(world, job_id)).items}

    await _decide(world, job_id, replace(Answers(), rows={items[b"b.html"]: Choice.LEAVE}))

    assert ((world.there / "a.html").read_text(), (world.there / "b.html").read_text()) == ("longer a.html", "old")
