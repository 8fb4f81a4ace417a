"""What an upload's pages need: found where it is here, and neither there nor in the plan."""

from __future__ import annotations

import pytest

from nailer.core.files.entry import SideName
from nailer.errors import InvalidInput
from tests.builders import path, write
from tests.world import World

PAGE = "<!doctype html><title>Moss Lane</title>"


async def lacks(world: World, *names: str) -> tuple[int, list[str]]:
    job_id = await world.plan(SideName.THERE, *names)
    job = await world.nailer.stores.jobs.get(job_id)
    assert world.nailer.checks.lacking.asks(world.site, job)
    found = await world.nailer.checks.lacking.of_plan(world.site, job)
    return job_id, [one.shown for one in found.lacking]


async def test_what_is_here_and_neither_there_nor_coming_is_lacking(world: World) -> None:
    write(
        world.here, "index.html", f"{PAGE}<link rel=stylesheet href=site.css><img src=img/a.png><img src=img/gone.png>"
    )
    write(world.here, "site.css", "a { background: url(img/b.png) }")
    for name in ("img/a.png", "img/b.png", "img/other.png"):
        write(world.here, name)
    write(world.there, "site.css")

    assert (await lacks(world, "index.html"))[1] == ["/htdocs/img/a.png"]
    assert (await lacks(world, "index.html", "site.css"))[1] == ["/htdocs/img/a.png", "/htdocs/img/b.png"]
    assert (await lacks(world, "index.html", "site.css", "img"))[1] == []


async def test_what_is_there_in_another_writing_is_still_lacking(world: World) -> None:
    write(world.here, "index.html", f"{PAGE}<img src=Crew.jpg>")
    write(world.here, "Crew.jpg")
    write(world.there, "crew.jpg")
    assert (await lacks(world, "index.html"))[1] == ["/htdocs/Crew.jpg"]


async def test_the_plan_with_what_it_lacks_sends_both(world: World) -> None:
    write(world.here, "news/index.html", f"{PAGE}<img src=../img/a.png>")
    write(world.here, "img/a.png", "picture")
    job_id, _ = await lacks(world, "news")
    job = await world.nailer.stores.jobs.get(job_id)

    more = await world.nailer.checks.lacking.add(world.account_id, world.site, job)
    ended = await world.run(more)

    assert ended.state == "done"
    assert (world.there / "img" / "a.png").read_text() == "picture"
    assert (world.there / "news" / "index.html").exists()
    with pytest.raises(InvalidInput, match="missing any longer"):
        again = await world.plan(SideName.THERE, "news")
        await world.nailer.checks.lacking.add(world.account_id, world.site, await world.nailer.stores.jobs.get(again))


async def test_a_download_and_a_site_that_is_not_on_the_web_are_not_asked(world: World) -> None:
    write(world.there, "index.html", PAGE)
    job = await world.nailer.stores.jobs.get(await world.plan(SideName.HERE, "index.html"))
    assert not world.nailer.checks.lacking.asks(world.site, job)
    assert path("/htdocs") == world.top
