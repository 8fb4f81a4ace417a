"""Copying and moving within a side, copying from one site to another, and taking all of it back."""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import replace
from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Choice
from nailer.errors import InvalidInput
from nailer.sides.sftp.side import SftpSide
from nailer.standins.faults import CutAfter
from nailer.standins.sftp import SftpHost
from nailer.store.sites import Secrets, Site
from tests.builders import a_site, path, tree, write
from tests.contracts.sides import shown_key
from tests.world import HERE, THERE, World


async def copy(
    world: World, target: str, *names: str, side: SideName = SideName.THERE, to_site: Site | None = None
) -> int:
    folder = THERE if side is SideName.THERE else HERE
    raw = [name.encode() for name in names]
    return await world.nailer.plans.make.copy(
        world.account_id, world.site, side, folder, raw, path(target), to_site=to_site
    )


async def take_back(world: World, job_id: int) -> None:
    back = await world.nailer.plans.take_back.take_job_back(world.account_id, job_id)
    assert (await world.run(back)).state is JobState.DONE


@pytest.mark.parametrize("side", SideName)
@pytest.mark.parametrize("by_the_server", [True, False])
async def test_a_tree_is_copied_within_a_side_and_taken_back(
    world: World, side: SideName, by_the_server: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    if not by_the_server:

        async def cannot(self: SftpSide, source: object, target: object) -> bool:
            return False

        monkeypatch.setattr(SftpSide, "copy", cannot)
    root, top = (world.there, "/htdocs") if side is SideName.THERE else (world.here, "/studio/moss")
    write(root, "skins/harbour/site.css", "blue")
    write(root, "skins/harbour/img/pier.png", b"\x89PNG" * 90_000)
    before = tree(root)

    job = await world.run(await copy(world, f"{top}/old", "skins", side=side))

    assert job.state is JobState.DONE, await world.nailer.stores.jobs.failures(job.id)
    assert tree(root / "old" / "skins") == tree(root / "skins")
    assert (root / "old/skins/harbour/site.css").stat().st_mtime == (root / "skins/harbour/site.css").stat().st_mtime
    await take_back(world, job.id)
    assert tree(root) == before


async def test_the_server_copies_by_itself_where_it_can(world: World) -> None:
    write(world.there, "film.bin", b"x" * 3_000_000)

    job = await world.run(await copy(world, "/htdocs/old", "film.bin"))

    assert job.state is JobState.DONE
    assert (world.there / "old" / "film.bin").read_bytes() == b"x" * 3_000_000
    log = world.nailer.sites.connector.log(world.site.id)
    assert log.lines(wanted="copy /htdocs/film.bin to")
    assert not log.lines(wanted="open to"), "no byte came here and went back"


async def test_into_its_own_folder_a_copy_gets_a_free_name(world: World) -> None:
    write(world.there, "index.html", "page")

    job = await world.run(await copy(world, "/htdocs", "index.html"))

    assert job.state is JobState.DONE
    assert tree(world.there) == {"index.html": b"page", "index-2.html": b"page"}


async def test_a_folder_cannot_go_into_itself(world: World) -> None:
    write(world.there, "skins/a.css", "a")
    with pytest.raises(InvalidInput, match="into itself"):
        await copy(world, "/htdocs/skins/deeper", "skins")
    with pytest.raises(InvalidInput, match="into itself"):
        await world.nailer.plans.make.move(
            world.account_id, world.site, SideName.THERE, THERE, [b"skins"], path("/htdocs/skins")
        )


async def test_names_are_moved_whole_and_go_back(world: World) -> None:
    for name in ("skins/a.css", "skins/deep/b.css", "page.html"):
        write(world.there, name, name)
    write(world.there, "old/page.html", "in the way")
    before = tree(world.there)

    plan = await world.nailer.plans.make.move(
        world.account_id, world.site, SideName.THERE, THERE, [b"skins", b"page.html"], path("/htdocs/old")
    )
    job = await world.run(plan)

    assert (job.state, job.tally.done.files, job.tally.left.files) == (JobState.DONE, 1, 1)
    assert tree(world.there) == {
        "old/skins/a.css": b"skins/a.css",
        "old/skins/deep/b.css": b"skins/deep/b.css",
        "old/page.html": b"in the way",
        "page.html": b"page.html",
    }
    await take_back(world, job.id)
    assert tree(world.there) == before


@pytest.fixture
async def staging(world: World, tmp_path: Path) -> AsyncIterator[tuple[Site, SftpHost, Path]]:
    """A second site on a server of its own."""
    root = tmp_path / "staging"
    (root / "htdocs").mkdir(parents=True)
    host = SftpHost(root, "stage", "second-try")
    await host.start()
    wanted = replace(a_site(), name="Staging", host="127.0.0.1", port=host.port, user_name="stage")
    site = await world.nailer.stores.sites.add(wanted, Secrets(password="second-try"))
    await world.nailer.stores.identities.pin("127.0.0.1", host.port, shown_key(host), trusted_by=None, how="test")
    yield site, host, root / "htdocs"
    await world.nailer.sites.pool.close_site(site.id)
    await host.stop()


@pytest.mark.parametrize("cut", ["neither", "source", "target"])
async def test_from_one_site_to_another_through_nailer(
    world: World, staging: tuple[Site, SftpHost, Path], cut: str
) -> None:
    site, host, there = staging
    write(world.there, "data/sailings.json", "[]")
    write(world.there, "data/film.bin", b"f" * 600_000)
    if cut != "neither":
        (world.host if cut == "source" else host).fault = CutAfter(200_000)

    job = await world.run(await copy(world, "/htdocs", "data", to_site=site))

    assert job.state is JobState.DONE, await world.nailer.stores.jobs.failures(job.id)
    assert job.site_id == site.id
    assert tree(there) == tree(world.there)
    await take_back(world, job.id)
    assert tree(there) == {}


async def test_what_is_there_already_is_asked_about_once(world: World) -> None:
    write(world.there, "a.txt", "new")
    write(world.there, "old/a.txt", "old")
    job_id = await copy(world, "/htdocs/old", "a.txt")

    job = await world.run(job_id, Choice.LEAVE)

    assert job.tally.left.files == 1
    assert (world.there / "old" / "a.txt").read_bytes() == b"old"
