"""Recovery in one place, and scratch areas with an end."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.packages.recovery import WayKind
from nailer.core.packages.replacing import Take
from nailer.core.people.rights import Grant, Person, Right
from nailer.errors import InvalidInput, NotAllowed, NotFound, PermissionRefused
from nailer.sides.sftp.side import SftpSide
from nailer.standins.pages import Pages
from nailer.store.changes import NewChange, What
from tests.builders import path, tree, write
from tests.services.packages import versions
from tests.services.packages.test_copies import taken
from tests.world import World


async def test_the_ways_back_are_there_in_their_order(world: World, pages: Pages) -> None:
    packages = world.nailer.packages
    versions.lay_out(world)
    write(world.there, "add-ons/tides/addon.json", '{"name": "Tides", "version": "1.9"}')
    assert [way.kind for way in await packages.recovery.ways(world.site)] == [WayKind.SEARCH]

    copy = await taken(world)
    write(world.here, "index.html", "new")
    write(world.here, "news.html", "new")
    job = await world.upload("index.html", "news.html")
    replaced = await versions.carried_out(
        world, await versions.choose(world, await versions.planned(world), old=Take.DROP)
    )
    await packages.asides.set_aside(world.account_id, world.site, path("/htdocs/add-ons/tides"))
    await packages.book.seen(world.site)

    aside, version, changed, old, search = await packages.recovery.ways(world.site)
    assert (aside.kind, version.kind, changed.kind) == (WayKind.ASIDE, WayKind.VERSION, WayKind.CHANGE)
    assert (version.number, changed.number, changed.is_job) == (replaced.id, job.id, True)
    assert "2 items" in changed.cost, "what the replacement built is no change of its own"
    assert (old.kind, old.number) == (WayKind.COPY, copy.id)
    assert "Search 2 packages" in search.title

    await versions.back(world, replaced.id)
    await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))
    kinds = [way.kind for way in await packages.recovery.ways(world.site)]
    assert WayKind.VERSION not in kinds
    left = [way.number for way in await packages.recovery.ways(world.site) if way.kind is WayKind.CHANGE]
    assert job.id not in left


async def test_a_change_of_no_job_is_a_way_back_whatever_else_was_planned(world: World, pages: Pages) -> None:
    versions.lay_out(world)
    write(world.there, "new.html", "x")
    replacing = world.nailer.packages.replacing
    number = await replacing.remove(world.account_id, world.site, await replacing.there(world.site, versions.SKIN))
    await versions.read(world, number)
    old, new = world.top.child(b"old.html"), world.top.child(b"new.html")
    change = NewChange(world.site.id, SideName.THERE, old, What.RENAMED, world.account_id, other_path=new)
    number = await world.nailer.stores.changes.add_confirmed(change)
    ways = await world.nailer.packages.recovery.ways(world.site)
    assert [(way.number, way.is_job) for way in ways if way.kind is WayKind.CHANGE] == [(number, False)]


async def test_who_sees_a_part_is_told_no_way_back(world: World) -> None:
    part = Grant(frozenset(Right), path("/htdocs/news"), path("/studio/moss/news"))
    with acting_as(Acting(Person(99, "orla", grants={world.site.id: part}))), pytest.raises(NotAllowed):
        await world.nailer.packages.recovery.ways(world.site)


async def test_a_scratch_area_answers_nobody_can_guess_it_and_it_ends(world: World, pages: Pages) -> None:
    scratch = world.nailer.packages.scratch
    before = tree(world.there)
    area = await scratch.make(world.account_id, world.site, 2, "a new form")
    ((same, address),) = await scratch.of(world.site)
    assert same == area
    assert len(area.path.name) == len("scratch-") + 24
    write(world.there, f"{area.path.name.decode()}/try.html", "tried")
    answer = await world.nailer.editing.live_check.once(f"{address}try.html")
    assert answer.status == 200
    _, listed = await world.nailer.editing.live_check.content(address)
    assert b"try.html" not in listed, "its first page lists nothing"
    await scratch.longer(world.site, area.id, 48)
    ((area, _),) = await scratch.of(world.site)
    assert area.ends_at > datetime.now(UTC) + timedelta(hours=47)

    past = datetime.now(UTC) - timedelta(seconds=1)
    await world.nailer.stores.scratch.longer(world.site.id, area.id, past)
    (due,) = await world.nailer.stores.scratch.due()
    await scratch.due(due)
    assert tree(world.there) == before
    assert await scratch.of(world.site) == []
    changes = await world.nailer.stores.changes.latest(world.site.id, wanted="try.html")
    assert changes[0].can_be_taken_back, "what was in it is kept"


async def test_one_that_cannot_be_removed_is_said_and_tried_again(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    scratch = world.nailer.packages.scratch
    area = await scratch.make(world.account_id, world.site, 1, "")

    async def _refuses(side: SftpSide, old: SitePath) -> None:
        raise PermissionRefused("{path} may not be removed.", path=old)

    with monkeypatch.context() as patched:
        patched.setattr(SftpSide, "remove_file", _refuses)
        await world.nailer.stores.scratch.longer(world.site.id, area.id, datetime.now(UTC) - timedelta(seconds=1))
        (due,) = await world.nailer.stores.scratch.due()
        await scratch.due(due)
        ((area, _),) = await scratch.of(world.site)
        assert "could be removed; job" in area.problem
        assert area.ends_at > datetime.now(UTC)
    await scratch.end(world.account_id, world.site, area.id)
    assert await scratch.of(world.site) == []
    with pytest.raises(NotFound):
        await scratch.end(world.account_id, world.site, area.id)


async def test_one_that_cannot_be_made_is_none(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    async def _refuses(side: SftpSide, path: SitePath) -> None:
        raise PermissionRefused("{path} may not be made.", path=path)

    with monkeypatch.context() as patched:
        patched.setattr(SftpSide, "make_folder", _refuses)
        with pytest.raises(PermissionRefused):
            await world.nailer.packages.scratch.make(world.account_id, world.site, 1, "")
    assert await world.nailer.packages.scratch.of(world.site) == []


async def test_one_that_somebody_removed_is_gone(world: World) -> None:
    scratch = world.nailer.packages.scratch
    area = await scratch.make(world.account_id, world.site, 1, "")
    folder = world.there / area.path.name.decode()
    (folder / "index.html").unlink()
    folder.rmdir()
    await scratch.end(world.account_id, world.site, area.id)
    assert await scratch.of(world.site) == []


async def test_who_may_not_remove_makes_none_and_none_is_for_ever(world: World) -> None:
    scratch = world.nailer.packages.scratch
    changes = Person(99, "orla", grants={world.site.id: Grant(frozenset({Right.LOOK, Right.CHANGE}))})
    with acting_as(Acting(changes)), pytest.raises(NotAllowed):
        await scratch.make(world.account_id, world.site, 1, "")
    for hours in (0, 10_000):
        with pytest.raises(InvalidInput):
            await scratch.make(world.account_id, world.site, hours, "")
