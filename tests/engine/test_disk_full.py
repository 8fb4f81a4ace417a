"""A real small disk that fills up: as the folder of Nailer's own data, and as the working folder. Nothing is halved or lost,
what failed says why, and it goes on once there is room. Only root can lay such a disk out."""

from __future__ import annotations

import asyncio
import io
import os
import subprocess
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import JobState
from nailer.core.work.states import CopyState
from nailer.errors import NailerError, NoSpaceLeft, OwnDiskFull
from nailer.services.packages import ReplacementState
from nailer.services.plans.unpacking.archives import Archives
from nailer.sides.side import once
from tests.builders import NOON_S, path, tree, write
from tests.services.packages.versions import NEW, OLD, lay_out, planned
from tests.world import a_world

SMALL_BYTES = 4 * 1024 * 1024


@contextmanager
def a_small_disk(folder: Path) -> Iterator[None]:
    """A file system in memory of 4 MiB at a folder."""
    folder.mkdir(parents=True)
    how = ["mount", "-t", "tmpfs", "-o", f"size={SMALL_BYTES}", "tmpfs", os.fspath(folder)]
    if subprocess.run(how, capture_output=True, check=False).returncode != 0:
        pytest.skip("a file system cannot be mounted here")
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", os.fspath(folder)], check=True)


@pytest.fixture
def small_home(tmp_path: Path) -> Iterator[Path]:
    with a_small_disk(tmp_path / "home"):
        yield tmp_path / "home"


@pytest.fixture
def small_here(tmp_path: Path) -> Iterator[Path]:
    with a_small_disk(tmp_path / "here" / "moss"):
        yield tmp_path / "here" / "moss"


async def test_no_live_file_is_replaced_that_could_not_be_kept(
    small_home: Path, tmp_path: Path, migrated_url: str, database: object
) -> None:
    async with a_world(tmp_path, migrated_url) as world:
        for number in range(8):
            write(world.here, f"f{number}.bin", b"new" * 1000)
            write(world.there, f"f{number}.bin", os.urandom(1024 * 1024), NOON_S - 900)
        before = tree(world.there)

        job = await world.upload(*(f"f{number}.bin" for number in range(8)))
        after = tree(world.there)
        if after != before:
            undone = await world.nailer.plans.take_back.take_job_back(world.account_id, job.id)
            assert (await world.run(undone)).state is JobState.DONE

    assert (job.state, job.trouble_kind) == (JobState.NEEDS_YOU, "NoSpaceLeft")
    assert all(after[name] in (before[name], b"new" * 1000) for name in before)
    assert set(after) == set(before), "no half file is left"
    assert tree(world.there) == before


async def test_a_download_stops_at_the_full_disk_and_goes_on_once_there_is_room(
    small_here: Path, tmp_path: Path, migrated_url: str, database: object
) -> None:
    async with a_world(tmp_path, migrated_url) as world:
        ballast = write(world.here, "ballast.bin", bytes(3 * 1024 * 1024))
        for number in range(4):
            write(world.there, f"f{number}.bin", os.urandom(700_000))

        job = await world.download(*(f"f{number}.bin" for number in range(4)))
        left = tree(world.here)
        ballast.unlink()
        await world.nailer.stores.jobs.again(job.id)
        world.nailer.engine.runner.wake()
        ended = await world.ended(job.id)
        whole = {name: content for name, content in tree(world.here).items() if name != "ballast.bin"}

        assert (job.state, job.trouble_kind) == (JobState.NEEDS_YOU, "NoSpaceLeft")
        assert all(left[name] == tree(world.there)[name] for name in left if name != "ballast.bin")
        assert ended.state is JobState.DONE
        assert whole == tree(world.there)


async def test_a_verified_copy_that_finds_no_room_fails_with_that_reason_and_the_next_one_works(
    small_home: Path, tmp_path: Path, migrated_url: str, database: object
) -> None:
    async with a_world(tmp_path, migrated_url) as world:
        for number in range(8):
            write(world.there, f"f{number}.bin", os.urandom(1024 * 1024))
        copies, top = world.nailer.packages.copies, SitePath.parse(b"/htdocs")

        failed = await copies.taken(world.account_id, world.site, top, "all of it")
        for number in range(2, 8):
            (world.there / f"f{number}.bin").unlink()
        await world.nailer.plans.kept.tidy()
        world.nailer.files.browse.forget(world.site.id)
        again = await copies.taken(world.account_id, world.site, top, "what fits")

    assert failed.state is CopyState.FAILED
    assert "disk of" in failed.problem
    assert again.state is CopyState.VERIFIED, again.problem


async def test_an_archive_that_does_not_fit_is_refused_and_leaves_nothing(small_home: Path) -> None:
    unpack = Archives(small_home / "spool")
    await asyncio.to_thread(unpack.clear_old)
    for packed in (os.urandom(6 * 1024 * 1024), _stored(os.urandom(3 * 1024 * 1024)), _stored(bytes(20_000_000))):
        with pytest.raises((NoSpaceLeft, OwnDiskFull)) as refused:
            await unpack.take("harbour.zip", once(packed))
        assert "space" in refused.value.what or "full" in refused.value.what
        assert [one for one in (small_home / "spool").rglob("*") if one.is_file()] == []


async def test_a_copy_laid_down_here_stops_at_the_full_disk_and_goes_on(
    tmp_path: Path, migrated_url: str, database: object
) -> None:
    with a_small_disk(tmp_path / "here"):
        async with a_world(tmp_path, migrated_url) as world:
            ballast = write(world.here, "ballast.bin", bytes(2 * 1024 * 1024))
            for number in range(4):
                write(world.there, f"f{number}.bin", os.urandom(700_000))
            packages, top = world.nailer.packages, SitePath.parse(b"/htdocs")
            copy = await packages.copies.taken(world.account_id, world.site, top, "all of it")
            assert copy.state is CopyState.VERIFIED, copy.problem

            folder = path("/studio/copies/moss")
            job = await world.run(await packages.restoring.here(world.account_id, world.site, copy.id, folder))
            laid = world.here.parent / "copies" / "moss"
            half = tree(laid)
            ballast.unlink()
            await world.nailer.stores.jobs.again(job.id)
            world.nailer.engine.runner.wake()
            ended = await world.ended(job.id)
            whole = tree(laid)

            assert (job.state, job.trouble_kind) == (JobState.NEEDS_YOU, "NoSpaceLeft")
            assert all(content == tree(world.there).get(name, content) for name, content in half.items())
            assert ended.state is JobState.DONE
            assert {name: whole[name] for name in tree(world.there)} == tree(world.there)


async def test_a_replacement_that_cannot_keep_the_old_one_replaces_nothing(
    small_home: Path, tmp_path: Path, migrated_url: str, database: object
) -> None:
    async with a_world(tmp_path, migrated_url) as world:
        heavy = {f"media/{number}.txt": "x" * 100 + str(os.urandom(600_000)) for number in range(4)}
        top = lay_out(world, OLD | heavy)
        before = tree(top)
        ended = None
        try:
            plan = await planned(world, NEW | heavy)
            await world.nailer.packages.replacing.carry_out(world.account_id, world.site, plan.one.id)
            await world.nailer.packages.replacing.runs.wait(world.site.id)
            ended = await world.nailer.packages.replacing.get(world.site, plan.one.id)
        except (NailerError, AssertionError) as error:
            said = getattr(error, "what", str(error))
        else:
            said = ended.words

        assert ended is None or ended.state is ReplacementState.FAILED
        assert "full" in said, said
        assert tree(top) == before
        assert {one.name for one in top.parent.iterdir()} == {"harbour"}, "nothing half built is left beside"


def _stored(content: bytes) -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as zipped:
        zipped.writestr("plate.bin", content)
    return packed.getvalue()
