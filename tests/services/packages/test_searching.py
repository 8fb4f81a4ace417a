"""The search for what breaks a page on a real server: it finds what was planted, and leaves every tree as it found it."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Sequence

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.packages.tested import PageTest
from nailer.core.people.rights import Grant, Person, Right
from nailer.engine.work import RunningWork
from nailer.errors import (
    Conflict,
    ConnectionDropped,
    InvalidInput,
    LeaseLost,
    Locked,
    NailerError,
    NotAllowed,
    NotFound,
    UnderWay,
)
from nailer.services.packages import SearchKnown, SearchState
from nailer.sides.sftp.side import SftpSide
from nailer.standins.pages import Pages
from tests.builders import path, tree, write
from tests.killing import kill_long_work
from tests.world import World

PAGE = PageTest("https://mosslane.example/cgi-bin/board.cgi")
# A page that is made of what its add-ons say; one that fails, fails the page.
BOARD = """#!/bin/sh
set -e
for part in ../add-ons/*/part.sh; do [ -e "$part" ] && . "$part"; done
BREAKS
printf 'Content-Type: text/plain\\n\\nBoard'
"""


def lay_out(world: World, count: int, breaks: str = "") -> list[SitePath]:
    """A page with so many add-ons; `breaks` are lines of its script that end it."""
    write(world.there, "cgi-bin/board.cgi", BOARD.replace("BREAKS", breaks)).chmod(0o755)
    for number in range(count):
        write(world.there, f"add-ons/part-{number:02d}/part.sh", f"part_{number}=in\n")
        write(
            world.there,
            f"add-ons/part-{number:02d}/addon.json",
            f'{{"name": "Part {number}", "version": "1.{number}"}}',
        )
    return [path(f"/htdocs/add-ons/part-{number:02d}") for number in range(count)]


def alone(*numbers: int) -> str:
    return "\n".join(f'[ "$part_{number}" = in ] && exit 3 || :' for number in numbers)


def together(*numbers: int) -> str:
    return " && ".join(f'[ "$part_{number}" = in ]' for number in numbers) + " && exit 3 || :"


async def ended(world: World) -> SearchKnown:
    await world.nailer.packages.searching.wait(world.site.id)
    known = await world.nailer.packages.searching.known(world.site)
    assert known is not None
    return known


async def searched(world: World, packages: Sequence[SitePath], wish: PageTest = PAGE) -> SearchKnown:
    await world.nailer.packages.searching.begin(world.account_id, world.site, wish, packages)
    return await ended(world)


def groups(known: SearchKnown) -> list[set[str]]:
    assert known.culprits is not None, known.search
    names = [one.name.decode() for one in known.search.packages]
    return [{names[number] for number in group} for group in known.culprits.groups]


async def test_what_breaks_a_page_is_found_and_everything_is_put_back(world: World, pages: Pages) -> None:
    packages = lay_out(world, 11, alone(7))
    before = tree(world.there)
    known = await searched(world, packages)
    assert groups(known) == [{"part-07"}]
    assert known.search.state is SearchState.ENDED
    assert "found by" in known.search.words
    assert len(known.tests) <= 8
    assert tree(world.there) == before
    assert await world.nailer.packages.asides.open(world.site) == []


async def test_two_that_only_fail_together_are_found_together(world: World, pages: Pages) -> None:
    packages = lay_out(world, 7, together(1, 5))
    before = tree(world.there)
    assert groups(await searched(world, packages)) == [{"part-01", "part-05"}]
    assert tree(world.there) == before


async def test_a_page_that_is_well_and_one_that_is_broken_anyhow_end_at_once(world: World, pages: Pages) -> None:
    known = await searched(world, lay_out(world, 5))
    assert "nothing to search for" in known.search.words
    known = await searched(world, lay_out(world, 5, "exit 3"))
    assert "none of them" in known.search.words
    assert len(known.tests) == 2


async def test_what_changed_lately_is_suspected_first(world: World, pages: Pages) -> None:
    packages = lay_out(world, 8, alone(6))
    write(world.here, "add-ons/part-06/part.sh", "part_6=in\n# new\n")
    await world.upload("add-ons")
    known = await searched(world, packages)
    assert known.search.packages[0] == path("/htdocs/add-ons/part-06")
    assert groups(known) == [{"part-06"}]


async def test_a_phrase_decides_where_the_status_does_not(world: World, pages: Pages) -> None:
    packages = lay_out(world, 4)
    says = BOARD.replace("BREAKS", "").replace("nBoard'", 'nSays %s\' "$part_2"')
    write(world.there, "cgi-bin/board.cgi", says).chmod(0o755)
    known = await searched(world, packages, PageTest(PAGE.address, must_not="Says in"))
    assert groups(known) == [{"part-02"}]


@pytest.mark.parametrize("seed", range(8))
async def test_wherever_it_is_given_up_every_tree_is_as_it_was(world: World, pages: Pages, seed: int) -> None:
    packages = lay_out(world, 6, together(0, 4))
    before = tree(world.there)
    searching = world.nailer.packages.searching
    await searching.begin(world.account_id, world.site, PAGE, packages)
    await asyncio.sleep(random.Random(seed).uniform(0, 3.0))
    await searching.give_up(world.site)
    assert tree(world.there) == before
    assert await world.nailer.packages.asides.open(world.site) == []


async def test_one_given_up_before_its_first_step_leaves_the_site_free(world: World, pages: Pages) -> None:
    packages = lay_out(world, 4, alone(1))
    searching = world.nailer.packages.searching
    await searching.begin(world.account_id, world.site, PAGE, packages)
    await searching.give_up(world.site)
    assert groups(await searched(world, packages)) == [{"part-01"}]


async def test_a_rename_that_was_cut_is_not_taken_for_made(world: World, pages: Pages) -> None:
    """The line ends at the first rename, which was written down and never made: the test must not run as if it had been."""
    packages = lay_out(world, 4, alone(2))
    asides, cut = world.nailer.packages.asides, []
    rename = SftpSide.rename

    async def _cut_once(self: SftpSide, old: SitePath, new: SitePath, **more: bool) -> None:
        if not cut and new.name.endswith(b".aside"):
            cut.append(new)
            raise ConnectionDropped("The connection was lost.")
        await rename(self, old, new, **more)

    with pytest.MonkeyPatch.context() as line:
        line.setattr(SftpSide, "rename", _cut_once)
        known = await searched(world, packages)
    assert cut
    assert groups(known) == [{"part-02"}]
    assert await asides.open(world.site) == []


async def test_who_has_a_part_of_the_site_sees_none_of_it(world: World) -> None:
    (package,) = lay_out(world, 1)
    packages = world.nailer.packages
    await packages.asides.set_aside(world.account_id, world.site, package)
    part = Grant(frozenset(Right), path("/htdocs/news"), path("/studio/moss/news"))
    with acting_as(Acting(Person(99, "orla", grants={world.site.id: part}))):
        for asked in (packages.asides.open, packages.searching.known, packages.book.seen, packages.copies.of):
            with pytest.raises(NotAllowed):
                await asked(world.site)
        with pytest.raises(NotAllowed):
            await packages.copies.take(world.account_id, world.site, world.top, "x")
        assert packages.asides.shown(world.site.id) == []
    assert len(packages.asides.shown(world.site.id)) == 1


@pytest.mark.parametrize("seed", range(8))
async def test_wherever_nailer_is_killed_everything_is_put_back_and_the_search_goes_on(
    world: World, pages: Pages, seed: int
) -> None:
    """A kill runs none of the code that puts back: only what was written down is left."""
    packages = lay_out(world, 6, alone(3))
    before = tree(world.there)
    searching, asides = world.nailer.packages.searching, world.nailer.packages.asides
    await searching.begin(world.account_id, world.site, PAGE, packages)
    await asyncio.sleep(random.Random(seed).uniform(0, 3.0))
    await kill_long_work(world)

    await asides.start()
    await world.nailer.engine.work.start()
    await searching.wait(world.site.id)
    await asides.restored(world.site.id)
    assert tree(world.there) == before
    assert await asides.open(world.site) == []

    known = await searching.known(world.site)
    assert known is not None
    if known.search.state is SearchState.STOPPED:
        asked = len(known.tests)
        await searching.go_on(world.account_id, world.site)
        known = await ended(world)
        assert len(known.tests) >= asked
    assert groups(known) == [{"part-03"}]
    assert tree(world.there) == before


async def test_a_line_that_is_cut_meanwhile_is_dialled_anew(world: World, pages: Pages) -> None:
    packages = lay_out(world, 6, alone(5))
    before = tree(world.there)
    await world.nailer.packages.searching.begin(world.account_id, world.site, PAGE, packages)
    for _ in range(3):
        await asyncio.sleep(0.7)
        await world.nailer.sites.pool.close_site(world.site.id)
    assert groups(await ended(world)) == [{"part-05"}]
    assert tree(world.there) == before


async def test_a_server_that_is_away_at_the_end_gets_its_names_back_when_it_comes(world: World, pages: Pages) -> None:
    packages = lay_out(world, 5, alone(2))
    before = tree(world.there)
    searching = world.nailer.packages.searching
    await searching.begin(world.account_id, world.site, PAGE, packages)
    while not await world.nailer.packages.asides.open(world.site):
        await asyncio.sleep(0.02)
    await world.host.stop()
    await world.nailer.sites.pool.close_site(world.site.id)
    await searching.give_up(world.site)
    assert tree(world.there) != before, "the server was away: nothing could be put back"

    await world.host.start()
    await world.nailer.packages.asides.restored(world.site.id)
    assert tree(world.there) == before


async def test_one_search_at_a_time_and_none_by_who_may_only_look(world: World, pages: Pages) -> None:
    packages = lay_out(world, 6, alone(1))
    searching = world.nailer.packages.searching
    looks = Person(99, "orla", grants={world.site.id: Grant(frozenset({Right.LOOK}))})
    with acting_as(Acting(looks)), pytest.raises(NotAllowed):
        await searching.begin(world.account_id, world.site, PAGE, packages)
    await searching.begin(world.account_id, world.site, PAGE, packages)
    with pytest.raises(UnderWay):
        await searching.begin(world.account_id, world.site, PAGE, packages)
    await searching.give_up(world.site)
    with pytest.raises(InvalidInput):
        await searching.begin(world.account_id, world.site, PAGE, [])
    with pytest.raises(InvalidInput):
        await searching.begin(world.account_id, world.site, PageTest("mosslane"), packages)


async def test_a_package_is_set_aside_until_somebody_brings_it_back(world: World) -> None:
    (package,) = lay_out(world, 1)
    before = tree(world.there)
    asides = world.nailer.packages.asides
    aside = await asides.set_aside(world.account_id, world.site, package, "it flickers")
    assert aside.name == b".part-00.aside"
    assert not (world.there / "add-ons" / "part-00").exists()
    (one,) = await asides.open(world.site)
    assert (one.path, one.why, one.account_name) == (package, "it flickers", "maren")
    await asides.start()
    await asides.restored(world.site.id)
    assert len(await asides.open(world.site)) == 1, "what a person set aside stays until a person brings it back"
    await asides.bring_back(world.account_id, world.site, one.id)
    assert tree(world.there) == before
    with pytest.raises(NotFound):
        await asides.bring_back(world.account_id, world.site, one.id)


async def test_a_name_that_is_taken_by_now_is_never_renamed_over(world: World) -> None:
    (package,) = lay_out(world, 1)
    asides = world.nailer.packages.asides
    await asides.set_aside(world.account_id, world.site, package)
    write(world.there, "add-ons/part-00/part.sh", "another one\n")
    (one,) = await asides.open(world.site)
    with pytest.raises(Conflict, match="Rename one of them"):
        await asides.bring_back(world.account_id, world.site, one.id)
    assert (world.there / "add-ons/part-00/part.sh").read_text() == "another one\n"
    assert len(await asides.open(world.site)) == 1


async def test_a_guarded_package_is_not_touched_before_it_is_opened(world: World) -> None:
    write(world.there, "mail/addon.json", '{"version": "1"}')
    with pytest.raises(Locked):
        await world.nailer.packages.asides.set_aside(world.account_id, world.site, path("/htdocs/mail/x"))
    with pytest.raises(NailerError):
        await world.nailer.packages.asides.set_aside(world.account_id, world.site, path("/htdocs/none"))
    assert await world.nailer.packages.asides.open(world.site) == [], "a rename that was refused leaves no row"


async def test_packages_are_seen_with_what_is_here(world: World, pages: Pages) -> None:
    lay_out(world, 3)
    write(world.here, "add-ons/part-01/addon.json", '{"name": "Part 1", "version": "1.10"}')
    write(world.there, "plain/index.html", "no package")
    write(world.there, "index.html", '<img src="/add-ons/part-02/a.png">')
    write(world.there, "add-ons/part-02/a.png", "x")
    write(world.there, "add-ons/part-02/vendor/package.json", '{"name": "inner", "version": "9"}')
    book = world.nailer.packages.book
    found = {one.name: one for one in (await book.seen(world.site)).packages}
    assert sorted(found) == ["Part 0", "Part 1", "Part 2"], "what lies in a package is part of it"
    assert found["Part 1"].order == "newer"
    assert (found["Part 0"].here, found["Part 0"].used_by) == (None, None)
    await world.nailer.checks.reader.begin(world.account_id, world.site)
    await world.nailer.checks.reader.wait(world.site.id)
    found = {one.name: one for one in (await book.seen(world.site)).packages}
    assert (found["Part 2"].used_by, found["Part 0"].used_by, found["Part 0"].files) == (1, 0, 2)
    await world.nailer.packages.asides.set_aside(world.account_id, world.site, found["Part 0"].path)
    found = {one.name: one for one in (await book.seen(world.site)).packages}
    assert found["Part 0"].aside is not None
    assert found["Part 0"].path == path("/htdocs/add-ons/part-00")


async def test_bringing_back_is_not_over_because_its_lease_may_be(world: World) -> None:
    """After an outage of the database nobody knows who holds the work: it is begun again, never called done."""
    packages = lay_out(world, 3, alone(1))
    before = tree(world.there)
    asides, engine = world.nailer.packages.asides, world.nailer.engine
    adding = world.nailer.stores.packages.beginning(world.site.id, world.account_id, PAGE, packages)
    search_id = await world.nailer.stores.database.write(adding)
    async with world.nailer.files.browse.side(world.site, SideName.THERE) as side:
        await asides.move(world.site, side, packages[0], account_id=world.account_id, search_id=search_id)
    hold, refused = RunningWork.hold, []

    def _lost_once(self: RunningWork) -> None:
        if not refused:
            refused.append("once")
            raise LeaseLost("Another process may have taken this work over.")
        hold(self)

    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(RunningWork, "hold", _lost_once)
        await world.nailer.stores.packages.bring_back_left()
        await engine.work._look()
        await asides.restored(world.site.id)
    assert refused == ["once"]
    assert tree(world.there) == before
