"""A whole Nailer with one site on the scripted server, and what tests ask of it."""

from __future__ import annotations

import contextlib
import os
from collections.abc import AsyncIterator, Iterable
from pathlib import Path
from typing import Any
from unittest.mock import patch

from nailer.core.compare.joint import Compare
from nailer.core.connecting.protocol import Protocol
from nailer.core.pairs.wishes import Direction, Removals, SyncWish
from nailer.services.pairs.plan import SyncPlan
from nailer.sides.sftp import silence
from nailer.store.jobs import Item, Job
from tests.rough.server import RoughFtp
from tests.rough.sftp_server import RoughSftp
from tests.world import World, a_world_on


@contextlib.asynccontextmanager
async def a_rough_world(
    tmp_path: Path, database_url: str, faults: Iterable[str] = (), *, times: int = 1, **site: Any
) -> AsyncIterator[World]:
    host = RoughFtp(_root(tmp_path), faults, times=times)
    async with _a_world_on(host, tmp_path, database_url, protocol=Protocol.FTP, clock_offset_s=0, **site) as made:
        yield made


@contextlib.asynccontextmanager
async def a_rough_sftp_world(
    tmp_path: Path, database_url: str, faults: Iterable[str] = (), *, times: int = 1, **site: Any
) -> AsyncIterator[World]:
    host = RoughSftp(_root(tmp_path), faults, times=times)
    # A request that is lost is noticed sooner than on people's servers.
    with patch.object(silence, "_LOOK_EVERY_S", 0.5):
        async with _a_world_on(host, tmp_path, database_url, identity=host.identity, **site) as made:
            yield made


def _root(tmp_path: Path) -> Path:
    (tmp_path / "there" / "htdocs").mkdir(parents=True, exist_ok=True)
    return tmp_path / "there"


@contextlib.asynccontextmanager
async def _a_world_on(
    host: RoughFtp | RoughSftp, tmp_path: Path, database_url: str, **site: Any
) -> AsyncIterator[World]:
    await host.start()
    try:
        async with a_world_on(host, tmp_path, database_url, host.root / "htdocs", **site) as made:
            yield made
    finally:
        await host.stop()


async def read_pair(
    world: World, direction: Direction, removals: Removals = Removals.FOLLOW, compare: Compare = Compare.SIZE_AND_TIME
) -> SyncPlan:
    """Read both sides of the site's pair."""
    nailer = world.nailer
    pair = await nailer.pairs.book.first_pair(world.site)
    return await nailer.pairs.readings.read_now(world.account_id, pair, SyncWish(direction, removals), compare)


async def items_of(world: World, job: Job) -> list[Item]:
    return await world.nailer.stores.jobs.items(job.id, limit=5000)


async def failures(world: World, job: Job) -> str:
    """All that a person reads of what failed in a job."""
    found = await world.nailer.stores.jobs.failures(job.id)
    return "\n".join(f"{one.what} {one.server_words or ''}" for one in found) + (job.trouble or "")


def hidden(top: Path) -> list[str]:
    """The temporary files that lie anywhere below a folder."""
    return [name for _, _, names in os.walk(top) for name in names if "nailer-" in name]
