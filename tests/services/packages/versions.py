"""Steps of a replacement, as tests of several kinds take them: an archive is dropped, the plan read, and carried out."""

from __future__ import annotations

import io
import zipfile
from collections.abc import AsyncIterator, Mapping
from pathlib import Path

from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.core.packages.replacing import Fate, Take
from nailer.services.packages import Replacement, ReplacementPlan, ReplacementState
from tests.builders import path, write
from tests.world import World

SKIN = path("/htdocs/skins/harbour")
OLD = {
    "skin.json": '{"name": "Harbour", "version": "1.9"}',
    "style.css": "a { color: teal }\np { margin: 1em }\nb { top: 0 }\n",
    "lib/old.js": "old()\n",
    "lib/tides.js": "tides(1)\n",
    "img/gull.svg": "<svg/>\n",
}
NEW = {
    "skin.json": '{"name": "Harbour", "version": "1.10"}',
    "style.css": "a { color: teal }\np { margin: 1em }\nb { top: 2px }\n",
    "lib/new.js": "new()\n",
    "lib/tides.js": "tides(1)\n",
    "img/gull.svg": "<svg/>\n",
}


def lay_out(world: World, files: Mapping[str, str] = OLD, top: str = "skins/harbour") -> Path:
    for name, content in files.items():
        write(world.there, f"{top}/{name}", content)
    return world.there / top


def archive(files: Mapping[str, str] = NEW, top: str = "harbour-1.10/") -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as zipped:
        for name, content in files.items():
            zipped.writestr(top + name, content)
    return packed.getvalue()


async def sent(content: bytes) -> AsyncIterator[bytes]:
    yield content


async def planned(
    world: World,
    files: Mapping[str, str] = NEW,
    top: str = "harbour-1.10/",
    name: str = "harbour-1.10.zip",
    skin: SitePath = SKIN,
) -> ReplacementPlan:
    """Drop an archive for the package that is there, and read what it would do."""
    packages = world.nailer.packages
    old = await packages.replacing.there(world.site, skin)
    source = await packages.sources.dropped(name, sent(archive(files, top)), old)
    return await read(world, await packages.replacing.replace(world.account_id, world.site, old, source))


async def read(world: World, number: int) -> ReplacementPlan:
    replacing = world.nailer.packages.replacing
    await replacing.reading.wait(number)
    one = await replacing.get(world.site, number)
    assert one.state is ReplacementState.PLANNED, one.words
    return await replacing.plans.of(one)


async def carried_out(world: World, plan: ReplacementPlan, typed: str = "") -> Replacement:
    replacing = world.nailer.packages.replacing
    await replacing.carry_out(world.account_id, world.site, plan.one.id, typed)
    await replacing.runs.wait(world.site.id)
    return await replacing.get(world.site, plan.one.id)


async def back(world: World, number: int) -> Replacement:
    replacing = world.nailer.packages.replacing
    await replacing.back(world.account_id, world.site, number)
    await replacing.runs.wait(world.site.id)
    return await replacing.get(world.site, number)


async def choose(world: World, plan: ReplacementPlan, **takes: Take) -> ReplacementPlan:
    wanted = {row.below: takes[row.below[-1].decode().partition(".")[0]] for row in plan.rows if row.advised is None}
    return await world.nailer.packages.replacing.choose(world.site, plan.one.id, wanted)


def fates(plan: ReplacementPlan) -> dict[str, Fate]:
    return {b"/".join(row.below).decode(): row.fate for row in plan.rows}


def below(name: str) -> RelativePath:
    return tuple(name.encode().split(b"/"))
