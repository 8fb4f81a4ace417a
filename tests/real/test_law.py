"""Cut, or killed, at counted calls on SFTP servers other than the usual one: no live file is ever half, all ends level."""

from __future__ import annotations

import asyncio
import os
import random
from collections.abc import AsyncIterator, Awaitable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import pytest

from nailer.core.files.sitepath import SitePath
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Removals
from nailer.sides.sftp.side import SftpSide
from tests.builders import NOON_S, tree, write
from tests.real.grounds import CONFIGURATIONS, RealHosts, path_of
from tests.real.relay import Relay
from tests.real.servers import RealHost
from tests.rough.worlds import hidden, read_pair
from tests.world import World, a_world_on

KINDS = [kind for kind in CONFIGURATIONS if kind.startswith(("dropbear", "proftpd-sftp"))]
SEEDS = range(5)
# What one run asks at the least, once it is begun: the point of the cut lies in it.
_CALLS = 40


def _counted(patch: pytest.MonkeyPatch, relay: Relay) -> None:
    """Each request to the server is a call. Packets on the wire come together on a busy machine: they are no count."""
    ask = SftpSide.ask

    async def counted(side: SftpSide, request: Awaitable[Any], path: SitePath) -> Any:
        relay.count()
        return await ask(side, request, path)

    patch.setattr(SftpSide, "ask", counted)


@asynccontextmanager
async def _between(
    hosts: RealHosts, kind: str, patch: pytest.MonkeyPatch
) -> AsyncIterator[tuple[RealHost, Path, Relay]]:
    with hosts.folder(kind) as (host, folder):
        relay = Relay(host.port)
        _counted(patch, relay)
        await relay.start()
        try:
            yield host, folder, relay
        finally:
            await relay.stop()


def _world(host: RealHost, folder: Path, relay: Relay, tmp_path: Path, url: str, *, run: bool = True):  # type: ignore[no-untyped-def]
    return a_world_on(relay, tmp_path, url, folder, identity=host.identity, start_there=path_of(host, folder), run=run)


async def _changed(world: World, dice: random.Random) -> tuple[dict[str, set[bytes]], int]:
    """Both sides level, then files here replaced, added and removed. Returns what each name there may hold, and the run that
    publishes them."""
    for number in range(12):
        write(world.here, f"p{number}.html", f"old {number}")
    plan = await read_pair(world, Direction.PUBLISH, Removals.FOLLOW)
    await world.nailer.pairs.runs.ended(await world.nailer.pairs.runs.carry_out(plan))
    may = {name: {content} for name, content in tree(world.there).items()}
    for number in range(6):
        write(world.here, f"p{number}.html", dice.randbytes(dice.choice([40, 30_000, 90_000])), NOON_S + 60)
    for number in range(9, 12):
        (world.here / f"p{number}.html").unlink()
    for number in range(4):
        write(world.here, f"more/n{number}.html", dice.randbytes(20_000), NOON_S + 60)
    for name, content in tree(world.here).items():
        may.setdefault(name, set()).add(content)
    plan = await read_pair(world, Direction.PUBLISH, Removals.FOLLOW)
    return may, await _begun(world, plan, dice)


async def _begun(world: World, plan: object, dice: random.Random) -> int:
    relay = world.host
    assert isinstance(relay, Relay)
    run_id = await world.nailer.pairs.runs.carry_out(plan, typed=plan.word_to_type, guarded_confirmed=True)  # type: ignore[attr-defined, arg-type]
    relay.at = relay.calls + dice.randrange(2, _CALLS)
    return run_id


def _whole(world: World, may: dict[str, set[bytes]]) -> None:
    for name, content in tree(world.there).items():
        if "nailer-" not in name:
            assert content in may[name], f"{name} is half"
    missing = [name for name in (f"p{number}.html" for number in range(9)) if not os.path.exists(world.there / name)]
    assert not missing, "what stays is never gone"


@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize("kind", KINDS)
async def test_a_line_that_is_cut_at_any_call_costs_nothing(
    real_hosts: RealHosts,
    database: object,
    migrated_url: str,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    kind: str,
    seed: int,
) -> None:
    dice = random.Random(f"{kind} {seed}")
    async with (
        _between(real_hosts, kind, monkeypatch) as (host, folder, relay),
        _world(host, folder, relay, tmp_path, migrated_url) as world,
    ):
        may, run_id = await _changed(world, dice)

        run = await world.nailer.pairs.runs.ended(run_id)

        assert relay.at is None, "the connection was lost"
        _whole(world, may)
        assert run.state is RunState.DONE, [await world.nailer.stores.jobs.failures(job) for job in run.jobs]
        assert tree(world.there) == tree(world.here)
        assert not hidden(world.there)


@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize("kind", KINDS)
async def test_nailer_killed_at_any_call_goes_on_and_ends_level(
    real_hosts: RealHosts,
    database: object,
    migrated_url: str,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    kind: str,
    seed: int,
) -> None:
    dice = random.Random(f"{kind} {seed}")
    async with _between(real_hosts, kind, monkeypatch) as (host, folder, relay):
        killed = asyncio.Event()

        def kill() -> None:
            # Nothing gets through any more, so that nothing can be tidied up: the process is gone.
            relay.refuses = True
            killed.set()

        relay.then = kill
        async with _world(host, folder, relay, tmp_path, migrated_url) as world:
            may, run_id = await _changed(world, dice)
            async with asyncio.timeout(30):
                await killed.wait()
            await relay.cut()
        _whole(world, may)
        relay.refuses = False
        async with _world(host, folder, relay, tmp_path, migrated_url, run=False) as world:
            await world.nailer.start()

            run = await world.nailer.pairs.runs.ended(run_id)

            _whole(world, may)
            assert run.state is RunState.DONE, [await world.nailer.stores.jobs.failures(job) for job in run.jobs]
            assert tree(world.there) == tree(world.here)
            assert not hidden(world.there)
