"""Jobs whose pages are watched: what makes one worse is taken back, whatever happens meanwhile; and first pages."""

from __future__ import annotations

import asyncio

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.files.entry import SideName
from nailer.core.people.rights import Grant, Person, Right
from nailer.core.plans.plan import Answers
from nailer.core.site.findings import FindingKind, Mend, SiteFinding
from nailer.errors import InvalidInput, NotAllowed
from nailer.standins.pages import Pages
from nailer.store.checks.watches import Watch
from tests.builders import path, write
from tests.world import HERE, World

PAGE = "<!doctype html><title>Moss Lane</title><p>Seeds."
LISTS = SiteFinding(FindingKind.LISTS, "img", path("/htdocs/img"), address="https://mosslane.example/img/")


async def confirmed(world: World, job_id: int) -> Watch:
    """Carry a plan out as a person does; return what is known of its pages once they were looked at."""
    job = await world.nailer.stores.jobs.get(job_id)
    await world.nailer.plans.confirming.carry_out(job, world.site, Answers())
    await world.ended(job_id)
    return await looked_at(world, job_id)


async def looked_at(world: World, job_id: int) -> Watch:
    while True:
        watch = await world.nailer.checks.watching.of_job(job_id)
        assert watch is not None
        if watch.ended_at is not None:
            return watch
        await asyncio.sleep(0.05)


async def forbid_lists(world: World) -> int:
    return await world.nailer.checks.mending.plan(world.account_id, world.site, Mend.FORBID_LISTS, [LISTS])


async def test_a_rule_that_the_server_refuses_is_taken_back_by_itself(world: World, pages: Pages) -> None:
    write(world.there, "index.html", PAGE)
    write(world.there, ".htaccess", "# ours\n")
    pages.refused_rules = ("Options",)

    watch = await confirmed(world, await forbid_lists(world))

    assert watch.worse == "https://mosslane.example/ answers 500; before it answered 200"
    assert watch.back_job_id is not None
    assert (await world.ended(watch.back_job_id)).state == "done"
    assert (world.there / ".htaccess").read_text() == "# ours\n"


async def test_a_rule_that_the_server_takes_stays(world: World, pages: Pages) -> None:
    write(world.there, "index.html", PAGE)
    watch = await confirmed(world, await forbid_lists(world))
    assert (watch.worse, watch.back_job_id) == ("", None)
    assert "Options -Indexes" in (world.there / ".htaccess").read_text()


async def test_a_page_that_was_broken_before_is_no_reason_to_put_anything_back(world: World, pages: Pages) -> None:
    write(world.there, ".htaccess", "Options +FollowSymLinks\n")
    write(world.there, "index.html", PAGE)
    pages.refused_rules = ("Options",)
    watch = await confirmed(world, await forbid_lists(world))
    assert watch.worse == ""
    assert "-Indexes" in (world.there / ".htaccess").read_text()


async def test_a_job_that_is_paused_is_looked_at_once_it_has_ended(world: World, pages: Pages) -> None:
    write(world.there, "index.html", PAGE)
    pages.refused_rules = ("Options",)
    job_id = await forbid_lists(world)
    watching = world.nailer.checks.watching
    await watching.look_before(await world.nailer.stores.jobs.get(job_id), world.site)
    watching.job_ended(job_id)  # as where a run ends and the job does not
    await watching._looking.all_ended()
    watch = await watching.of_job(job_id)
    assert watch is not None
    assert watch.ended_at is None
    await world.run(job_id)
    assert (await looked_at(world, job_id)).back_job_id is not None


async def test_what_the_job_did_while_nailer_was_away_is_looked_at_when_it_comes_back(
    world: World, pages: Pages
) -> None:
    """Killed between the job's end and the look: the next start does it."""
    write(world.there, "index.html", PAGE)
    pages.refused_rules = ("Options",)
    job_id = await forbid_lists(world)
    job = await world.nailer.stores.jobs.get(job_id)
    watching = world.nailer.checks.watching
    await watching.look_before(job, world.site)
    with pytest.MonkeyPatch.context() as away:
        away.setattr(watching, "job_ended", lambda _: None)
        await world.run(job_id)
    await watching.begin()
    watch = await looked_at(world, job_id)
    assert watch.back_job_id is not None
    await world.ended(watch.back_job_id)
    assert not (world.there / ".htaccess").exists()


async def test_a_page_set_aside_that_nothing_takes_the_place_of_comes_back(world: World, pages: Pages) -> None:
    write(world.there, "index.html", PAGE)
    write(world.there, ".htaccess", "DirectoryIndex index.html\nOptions -Indexes\n")
    rivals = SiteFinding(
        FindingKind.RIVALS, "x", world.top, world.top.child(b"index.html"), "https://mosslane.example/"
    )
    mending = world.nailer.checks.mending
    watch = await confirmed(world, await mending.plan(world.account_id, world.site, Mend.SET_ASIDE, [rivals]))
    assert "answers 403; before it answered 200" in watch.worse
    await world.ended(watch.back_job_id or 0)
    assert (world.there / "index.html").read_text() == PAGE


async def test_a_plan_that_nobody_watches_is_left_alone(world: World, pages: Pages) -> None:
    write(world.here, "index.html", PAGE)
    job = await world.upload("index.html")
    assert await world.nailer.checks.watching.of_job(job.id) is None


async def first_page(world: World, side: SideName, name: str) -> int:
    top = HERE if side is SideName.HERE else world.top
    return await world.nailer.checks.first_pages.plan(world.account_id, world.site, side, top.child(name.encode()))


async def test_a_page_from_here_becomes_the_first_page_and_can_be_taken_back(world: World, pages: Pages) -> None:
    write(world.there, "index.htm", PAGE)
    write(world.here, "winter.html", PAGE + " Winter.")

    watch = await confirmed(world, await first_page(world, SideName.HERE, "winter.html"))

    assert watch.worse == ""
    assert (world.there / "index.htm").read_text().endswith("Winter.")
    assert sorted(one.name for one in world.there.iterdir()) == ["index.htm"], "nothing lies beside it"
    await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, watch.job_id))
    assert (world.there / "index.htm").read_text() == PAGE


async def test_a_first_page_is_never_missing_while_it_changes(world: World, pages: Pages) -> None:
    """The address is fetched without pause: each answer is the old page or the new one, whole."""
    old, new = PAGE + "old" * 2000, PAGE + "new" * 3000
    write(world.there, "index.html", old)
    write(world.here, "new.html", new)
    live, answers, done = world.nailer.editing.live_check, [], asyncio.Event()

    async def ask() -> None:
        while not done.is_set():
            answers.append(await live.content("https://mosslane.example/"))

    asking = [asyncio.create_task(ask()) for _ in range(3)]
    await confirmed(world, await first_page(world, SideName.HERE, "new.html"))
    done.set()
    await asyncio.gather(*asking)

    assert {data.decode() for _, data in answers} == {old, new}
    assert {answer.status for answer, _ in answers} == {200}


async def test_an_empty_page_is_put_back(world: World, pages: Pages) -> None:
    write(world.there, "index.html", PAGE)
    write(world.here, "empty.html", "")
    watch = await confirmed(world, await first_page(world, SideName.HERE, "empty.html"))
    assert "is empty; before it was not" in watch.worse
    await world.ended(watch.back_job_id or 0)
    assert (world.there / "index.html").read_text() == PAGE


async def test_of_rivals_the_one_that_is_served_gives_its_name(world: World, pages: Pages) -> None:
    write(world.there, "index.html", PAGE + " never seen")
    write(world.there, "index.htm", PAGE)
    write(world.there, "other.html", PAGE + " other")
    write(world.there, ".htaccess", "DirectoryIndex index.htm index.html\n")
    await confirmed(world, await first_page(world, SideName.THERE, "other.html"))
    assert (world.there / "index.htm").read_text().endswith("other")
    assert (world.there / "index.html").read_text().endswith("never seen")


async def test_what_cannot_be_the_first_page_says_why(world: World, pages: Pages) -> None:
    write(world.there, "index.php", "<?php echo 1;")
    write(world.there, "other.html", PAGE)
    with pytest.raises(InvalidInput, match="a different type of file"):
        await first_page(world, SideName.THERE, "other.html")
    write(world.there, "index.html", PAGE)
    (world.there / "index.php").unlink()
    with pytest.raises(InvalidInput, match="already the start page"):
        await first_page(world, SideName.THERE, "index.html")
    write(world.there, "index.htm", PAGE + "2")
    (world.there / "index.html").write_text("changed")
    write(world.there, ".htaccess", "DirectoryIndex none.html\n")
    with pytest.raises(InvalidInput, match="not known"):
        await first_page(world, SideName.THERE, "other.html")


async def test_who_may_not_change_the_site_makes_no_first_page(world: World, pages: Pages) -> None:
    write(world.there, "other.html", PAGE)
    looks = Person(99, "orla", grants={world.site.id: Grant(frozenset({Right.LOOK}))})
    with acting_as(Acting(looks)), pytest.raises(NotAllowed):
        await first_page(world, SideName.THERE, "other.html")
