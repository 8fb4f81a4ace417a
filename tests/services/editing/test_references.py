"""Renaming with what refers: the plan rewrites pages and styles, and is taken back like any other."""

from __future__ import annotations

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Verdict
from nailer.errors import AlreadyThere, InvalidInput
from nailer.services.editing.references import better_names, roots_of
from tests.builders import path, tree, write
from tests.world import HERE, THERE, World

PAGE = '<img src="img/Pier%20End.svg"> <a href="fares.html">'


async def rename(world: World, side: SideName, renames: dict[bytes, bytes]) -> int:
    folder = THERE if side is SideName.THERE else HERE
    wanted = {folder.join(tuple(old.split(b"/"))): new for old, new in renames.items()}
    job_id, _ = await world.nailer.editing.references.rename(world.account_id, world.site, side, wanted)
    return job_id


@pytest.mark.parametrize("side", list(SideName))
async def test_a_rename_takes_what_refers_to_it_along(world: World, side: SideName) -> None:
    root = world.there if side is SideName.THERE else world.here
    write(root, "index.html", PAGE).chmod(0o640)
    write(root, "fares.html", '<a href="index.html">')
    write(root, "img/Pier End.svg", "<svg/>")
    write(root, "deep/site.css", "a { background: url('../img/Pier End.svg') }")
    before = tree(root)

    job = await world.run(await rename(world, side, {b"img/Pier End.svg": b"pier-end.svg"}))

    assert job.state is JobState.DONE
    assert tree(root) == {
        "index.html": b'<img src="img/pier-end.svg"> <a href="fares.html">',
        "fares.html": b'<a href="index.html">',
        "img/pier-end.svg": b"<svg/>",
        "deep/site.css": b"a { background: url('../img/pier-end.svg') }",
    }
    assert (root / "index.html").stat().st_mode & 0o777 == 0o640
    await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))
    assert tree(root) == before


async def test_a_plan_to_rename_says_what_it_changes_and_touches_nothing(world: World) -> None:
    write(world.there, "index.html", PAGE)
    write(world.there, "fares.html", "x")
    before = tree(world.there)

    job_id = await rename(world, SideName.THERE, {b"fares.html": b"prices.html"})

    plan = await world.nailer.plans.reader.read(job_id, world.site)
    moved, written = plan.items
    assert (moved.target, written.verdict) == (THERE.child(b"prices.html"), Verdict.REPLACES)
    compared = await world.nailer.files.contents.item(plan.job, world.site, written)
    assert [one.text for one in compared.lines] == [PAGE, PAGE.replace("fares", "prices")]
    assert tree(world.there) == before


async def test_a_page_changed_after_the_plan_stays_as_it_is(world: World) -> None:
    write(world.there, "index.html", PAGE)
    write(world.there, "fares.html", "x")
    job_id = await rename(world, SideName.THERE, {b"fares.html": b"prices.html"})
    write(world.there, "index.html", "somebody else's page, longer than before " * 4)

    job = await world.run(job_id)

    assert job.state is JobState.NEEDS_YOU
    assert (world.there / "index.html").read_text().startswith("somebody else's")


async def test_a_taken_name_is_refused_before_anything_is_planned(world: World) -> None:
    write(world.there, "a.html", "a")
    write(world.there, "b.html", "b")

    with pytest.raises(AlreadyThere):
        await rename(world, SideName.THERE, {b"a.html": b"b.html"})


async def test_a_folder_and_a_name_in_it_are_renamed_together(world: World) -> None:
    write(world.here, "My Skin/A B.css", "x")
    write(world.here, "index.html", '<link href="My%20Skin/A%20B.css">')
    wanted = better_names(HERE, [(b"My Skin", b"A B.css"), (b"My Skin",)])

    job_id, _ = await world.nailer.editing.references.rename(world.account_id, world.site, SideName.HERE, wanted)
    await world.run(job_id)

    assert tree(world.here) == {"my-skin/a-b.css": b"x", "index.html": b'<link href="my-skin/a-b.css">'}


async def test_who_refers_is_found_with_its_lines_and_not_from_within(world: World) -> None:
    write(world.there, "index.html", '\n<a href="skin/a.css">')
    write(world.there, "skin/a.css", "@import 'b.css';")
    write(world.there, "skin/b.css", "")

    found = await world.nailer.editing.references.to(world.site, SideName.THERE, [THERE.child(b"skin")])

    assert [(one.path, one.lines) for one in found.referrers] == [(THERE.child(b"index.html"), (2,))]
    assert found.text == "1 reference in 1 file: index.html"
    assert (await world.nailer.editing.references.to(world.site, SideName.THERE, [THERE.child(b"no.html")])).count == 0


async def test_what_lies_outside_the_web_is_told_so(world: World) -> None:
    with pytest.raises(InvalidInput, match="outside the folders"):
        await world.nailer.editing.references.to(world.site, SideName.THERE, [path("/mail/box")])


async def test_document_roots_are_mapped_to_this_side(world: World) -> None:
    (root,) = roots_of(world.site, SideName.HERE)
    assert (root.folder, root.address) == (HERE, "https://mosslane.example/")
