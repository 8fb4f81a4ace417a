"""Smaller copies of pictures: sharp enough, upright, with nothing written into them; and what cannot be one."""

from __future__ import annotations

import io

import pytest
from PIL import Image

from nailer.core.site.pictures import PictureKnown, advice
from nailer.errors import InvalidInput
from nailer.standins.demo.pictures import photograph
from tests.builders import path, write
from tests.world import World

PAGE = "<!doctype html><title>Moss Lane</title><img src=wide.jpg width=300>"


async def known(world: World, data: bytes, name: str = "wide.jpg") -> None:
    """A picture there that a page shows, and a scan of the site."""
    write(world.there, "index.html", PAGE)
    write(world.there, name, data)
    await world.nailer.checks.reader.begin(world.account_id, world.site)
    await world.nailer.checks.reader.wait(world.site.id)


def opened(data: bytes) -> Image.Image:
    return Image.open(io.BytesIO(data))


async def test_a_copy_is_made_for_where_it_is_shown_and_put_in_its_place(world: World) -> None:
    data = photograph(1600, 1000, 3, places=True)
    await known(world, data)
    pictures = world.nailer.checks.pictures

    picture = await pictures.look(world.site, path("/htdocs/wide.jpg"))
    job = await world.run(await pictures.plan(world.account_id, world.site, path("/htdocs/wide.jpg"), 600, 80))

    assert (picture.width, picture.enough, picture.has_places) == (1600, 600, True)
    assert job.state == "done"
    there = (world.there / "wide.jpg").read_bytes()
    assert opened(there).size == (600, 375)
    assert len(there) < len(data) / 3
    assert not opened(there).getexif(), "where it was taken is not in the copy"


async def test_a_picture_that_was_turned_by_a_mark_stands_upright(world: World) -> None:
    kept = io.BytesIO()
    exif = Image.Exif()
    exif[0x0112] = 6  # to be turned by a quarter
    Image.new("RGB", (400, 200), "teal").save(kept, "JPEG", exif=exif)
    await known(world, kept.getvalue())
    made = await world.nailer.checks.pictures.smaller(world.site, path("/htdocs/wide.jpg"), 100, 80)
    assert (made.width, made.height) == (100, 200)


async def test_a_copy_is_never_larger_than_the_picture(world: World) -> None:
    await known(world, photograph(400, 250, 3))
    made = await world.nailer.checks.pictures.smaller(world.site, path("/htdocs/wide.jpg"), 5000, 95)
    assert made.width == 400
    with pytest.raises(InvalidInput, match="not smaller"):
        await world.nailer.checks.pictures.plan(world.account_id, world.site, path("/htdocs/wide.jpg"), 5000, 95)
    assert opened((world.there / "wide.jpg").read_bytes()).size == (400, 250)


def _moving() -> bytes:
    kept = io.BytesIO()
    frames = [Image.new("RGB", (20, 20), colour) for colour in ("red", "blue")]
    frames[0].save(kept, "WEBP", save_all=True, append_images=frames[1:])
    return kept.getvalue()


def _gif() -> bytes:
    kept = io.BytesIO()
    Image.new("P", (4, 4)).save(kept, "GIF")
    return kept.getvalue()


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"no picture at all", "cannot be read"),
        (photograph(400, 250, 3)[:900], "cannot be read"),
        (_moving(), "is animated"),
        (_gif(), "JPEG, PNG and WebP"),
    ],
    ids=["text", "cut", "moving", "gif"],
)
async def test_what_cannot_be_made_smaller_is_said(world: World, data: bytes, words: str) -> None:
    await known(world, data)
    with pytest.raises(InvalidInput, match=words):
        await world.nailer.checks.pictures.smaller(world.site, path("/htdocs/wide.jpg"), 100, 80)


@pytest.mark.parametrize(
    ("picture", "said"),
    [
        (PictureKnown(4000, 2000, 4_000_000, (620,)), 1),
        (PictureKnown(4000, 2000, 4_000_000, ()), 0),
        (PictureKnown(1240, 700, 200_000, (620,)), 0),
        (PictureKnown(400, 300, 200_000, (400,)), 1),
        (PictureKnown(400, 300, 20_000, (400,), has_places=True), 1),
    ],
    ids=["too wide", "nobody says how wide", "sharp", "heavy", "says where"],
)
def test_what_speaks_for_a_smaller_copy(picture: PictureKnown, said: int) -> None:
    assert len(advice(picture)) == said
