"""Searching a side, over memory and over a real server."""

from __future__ import annotations

import asyncio
from contextlib import aclosing

import pytest

from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.search import PermissionsSought, SearchWanted, parse_days, parse_size
from nailer.core.files.sitepath import SitePath
from nailer.errors import InvalidInput
from nailer.services.files.search import Hit, Passed, search
from nailer.standins.faults import Slow
from tests.builders import NOON_S, a_file, a_folder, a_link, write
from tests.world import THERE, World

NOW_NS = int((NOON_S + 86_400) * 1e9)


@pytest.mark.parametrize(
    ("wanted", "names"),
    [
        (SearchWanted(name="index"), {"index.html", "Index-old.HTML"}),
        (SearchWanted(name="*.html"), {"index.html", "Index-old.HTML"}),
        (SearchWanted(kind=Kind.FOLDER), {"img"}),
        (SearchWanted(kind=Kind.LINK), {"www"}),
        (SearchWanted(least_bytes=5_000), {"film.bin"}),
        (SearchWanted(most_bytes=100), {"index.html"}),
        (SearchWanted(newer_days=2, now_ns=NOW_NS), {"index.html", "film.bin", "run.cgi"}),
        (SearchWanted(older_days=100, now_ns=NOW_NS), {"Index-old.HTML"}),
        (SearchWanted(permissions=PermissionsSought.ALL_WRITE), {"film.bin"}),
        (SearchWanted(permissions=PermissionsSought.RUNS), {"run.cgi"}),
        (SearchWanted(permissions=PermissionsSought.ALL_CANNOT_READ), {"run.cgi"}),
    ],
    ids=lambda one: " ".join(sorted(one)) if isinstance(one, set) else str(one),
)
def test_what_fits(wanted: SearchWanted, names: set[str]) -> None:
    entries: list[Entry] = [
        a_file("index.html", 100),
        a_file("Index-old.HTML", 300, NOON_S - 200 * 86_400),
        a_file("film.bin", 9_000, permissions=0o666),
        a_file("run.cgi", 500, permissions=0o750),
        a_folder("img"),
        a_link("www"),
    ]
    assert {one.name.decode() for one in entries if wanted.fits(one)} == names


@pytest.mark.parametrize("text", ["many", "1 league", "-4k"])
def test_a_size_that_is_none_is_refused(text: str) -> None:
    with pytest.raises(InvalidInput):
        parse_size(text)


def test_days_are_numbers() -> None:
    assert (parse_days("1,5"), parse_days(" ")) == (1.5, None)
    with pytest.raises(InvalidInput):
        parse_days("yesterday")


async def found(world: World, wanted: SearchWanted) -> dict[str, str]:
    hits = {}
    async with (
        world.nailer.files.browse.side(world.site, SideName.THERE) as side,
        aclosing(search(side, THERE, wanted)) as all_of,
    ):
        async for one in all_of:
            if isinstance(one, Hit):
                hits["/".join(name.decode() for name in one.path.below(THERE) or ())] = one.line
    return hits


async def test_text_inside_is_found_with_its_line(world: World) -> None:
    write(world.there, "news/a.html", "<p>first</p>\n  <p>Winter Sailings begin</p>\nlast")
    write(world.there, "news/b.html", "nothing")
    write(world.there, "deep/er/c.css", "x" * 300_000 + " winter sailings " + "y" * 10)
    write(world.there, "pier.png", "winter sailings, but a picture")
    write(world.there, "blob", b"\0\0\0 winter sailings")

    hits = await found(world, SearchWanted(inside="winter sailings"))

    assert hits.keys() == {"news/a.html", "deep/er/c.css", "blob"}
    assert hits["news/a.html"] == "<p>Winter Sailings begin</p>"


async def test_a_search_that_is_left_ends_its_requests(world: World) -> None:
    for number in range(300):
        write(world.there, f"d{number}/a.html", "x")
    world.host.fault = Slow(0.02)
    async with world.nailer.files.browse.side(world.site, SideName.THERE) as side:
        async with aclosing(search(side, THERE, SearchWanted())) as hits:
            async for one in hits:
                if isinstance(one, Passed) and one.folders > 3:
                    break
        # What was asked ahead is still answered, and nothing behind it.
        asked = -1
        while world.host.requests != asked:
            asked = world.host.requests
            await asyncio.sleep(0.2)

    assert asked < 450, "all of it takes 903"


async def test_what_was_found_is_downloaded_to_its_own_place_and_removed(world: World) -> None:
    write(world.there, "news/deep/a.html", "a")
    write(world.there, "news/b.html", "b")
    write(world.there, "c.html", "c")
    paths = [THERE.join((b"news", b"deep", b"a.html")), THERE.join((b"c.html",))]
    planning = world.nailer.plans.make

    job = await world.run(
        await planning.transfer_found(world.account_id, world.site, SideName.HERE, THERE, world.site.start_here, paths)
    )
    assert {str(one.relative_to(world.here)) for one in world.here.rglob("*.html")} == {"news/deep/a.html", "c.html"}
    assert job.tally.done.files == 2
    await world.run(await planning.removal_found(world.account_id, world.site, SideName.THERE, THERE, paths))

    assert {str(one.relative_to(world.there)) for one in world.there.rglob("*.html")} == {"news/b.html"}
    with pytest.raises(InvalidInput, match="below"):
        await planning.removal_found(world.account_id, world.site, SideName.THERE, THERE, [SitePath((b"etc",))])
