"""A real small disk that fills up: as the folder of Nailer's own data, and as the working folder. Nothing is halved or lost,
what failed says why, and it goes on once there is room. Only root can lay such a disk out."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import JobState
from nailer.store.packages.copies import CopyState
from tests.builders import NOON_S, tree, write
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
    assert "no room" in failed.problem
    assert again.state is CopyState.PROVED, again.problem
