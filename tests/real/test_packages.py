"""A version takes the place of another over real servers in every configuration, while visitors ask without pause."""

from __future__ import annotations

import asyncio
from collections import Counter
from pathlib import Path

import pytest

from nailer.core.packages.replacing import Take
from nailer.services.packages import ReplacementState
from tests.builders import tree
from tests.real.grounds import CONFIGURATIONS, RealHosts
from tests.real.servers import give
from tests.real.test_stories import a_real_world
from tests.services.packages import versions


@pytest.mark.parametrize("kind", CONFIGURATIONS)
async def test_a_version_takes_the_place_of_another_and_goes_back(
    real_hosts: RealHosts, kind: str, database: object, migrated_url: str, tmp_path: Path
) -> None:
    async with a_real_world(real_hosts, kind, tmp_path, migrated_url) as world:
        top = versions.lay_out(world)
        give(*world.there.rglob("*"))
        before = tree(world.there)
        skin = world.top.join((b"skins", b"harbour"))
        plan = await versions.choose(world, await versions.planned(world, skin=skin), old=Take.DROP)
        met: Counter[bytes] = Counter()
        ended = asyncio.Event()

        def _looks() -> None:
            while not ended.is_set():
                try:
                    met[(top / "skin.json").read_bytes()[-6:-2]] += 1
                except OSError:
                    met[b"none"] += 1

        visitor = asyncio.create_task(asyncio.to_thread(_looks))
        one = await versions.carried_out(world, plan)
        ended.set()
        await visitor
        assert one.state is ReplacementState.IN_PLACE, one.words
        assert tree(top) == {name: text.encode() for name, text in versions.NEW.items()}
        assert met.keys() <= {b'"1.9', b"1.10", b"none"}, "never half of one and half of the other"
        assert (await versions.back(world, one.id)).state is ReplacementState.BACK
        assert tree(world.there) == before
