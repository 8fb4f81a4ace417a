"""What there is to say of an upload before it goes, and copies that are fetched before something is removed."""

from __future__ import annotations

from nailer.core.files.entry import SideName
from nailer.services.checks.uploads import UploadNotes
from nailer.standins.demo.pictures import photograph, png
from nailer.standins.pages import Pages
from tests.builders import path, write
from tests.world import World


async def notes(world: World, *names: str) -> UploadNotes:
    job = await world.nailer.stores.jobs.get(await world.plan(SideName.THERE, *names))
    found = await world.nailer.checks.lacking.of_plan(world.site, job)
    return await world.nailer.checks.uploads.of_plan(world.site, job, found.graph)


async def test_a_picture_far_larger_than_its_page_shows_it_is_said_before_it_goes(world: World) -> None:
    write(world.here, "index.html", "<img src=pier.jpg width=400><img src=small.png width=400>")
    write(world.here, "pier.jpg", photograph(2400, 1500, 5, places=True))
    write(world.here, "small.png", png(640, 400, 11))
    found = await notes(world, "index.html", "pier.jpg", "small.png")
    assert list(found.pictures) == [path("/htdocs/pier.jpg")]
    said = " ".join(found.pictures[path("/htdocs/pier.jpg")])
    assert "2400 pixels wide and shown at 400" in said
    assert "where it was taken" in said


async def test_a_page_that_is_there_says_how_wide_it_shows_a_picture(world: World, pages: Pages) -> None:
    write(world.there, "index.html", "<img src=pier.jpg width=300>")
    await world.nailer.checks.reader.begin(world.account_id, world.site)
    await world.nailer.checks.reader.wait(world.site.id)
    write(world.here, "pier.jpg", photograph(2400, 1500, 5))
    said = (await notes(world, "pier.jpg")).pictures[path("/htdocs/pier.jpg")]
    assert "shown at 300" in said[0]


async def test_what_is_no_picture_says_nothing(world: World) -> None:
    write(world.here, "broken.jpg", b"x" * 200_000)
    assert (await notes(world, "broken.jpg")).pictures == {}


async def test_media_for_a_dated_folder_of_a_managed_site_get_their_addresses(world: World) -> None:
    write(world.there, "index.php", "<?php")
    for name in ("media/2026/11/pier.jpg", "media/2026/13/not.jpg", "media/2026/11/page.html"):
        write(world.here, name, "x")
    found = await notes(world, "media")
    assert found.dated == {path("/htdocs/media/2026/11/pier.jpg"): "https://mosslane.example/media/2026/11/pier.jpg"}


async def test_a_site_of_plain_pages_has_no_library(world: World) -> None:
    write(world.there, "index.html", "x")
    write(world.here, "media/2026/11/pier.jpg", "x")
    assert (await notes(world, "media")).dated == {}


async def test_a_copy_is_fetched_beside_the_folder_here_before_anything_goes(world: World) -> None:
    write(world.there, "old/site.zip", "archive")
    write(world.here, "old/site.zip", "another one here")
    paths = [path("/htdocs/old/site.zip")]
    job = await world.run(await world.nailer.checks.mending.fetch_first(world.account_id, world.site, paths))
    assert job.state == "done"
    (fetched,) = world.here.parent.glob("fetched-*/htdocs/old/site.zip")
    assert fetched.read_text() == "archive"
    assert (world.here / "old" / "site.zip").read_text() == "another one here"
    assert (world.there / "old" / "site.zip").exists()
