"""Replacing a version on servers that misbehave: the old one or the new one is there, whole, and what happened is said."""

from __future__ import annotations

import pytest

from nailer.core.packages.replacing import Take
from nailer.errors import NailerError
from nailer.services.packages import Replacement, ReplacementState
from tests.builders import tree
from tests.rough.server import FAULTS
from tests.rough.worlds import a_rough_world
from tests.services.packages import versions
from tests.world import World

OLD = {name: text.encode() for name, text in versions.OLD.items()}
NEW = {name: text.encode() for name, text in versions.NEW.items()}
ENDED = (ReplacementState.IN_PLACE, ReplacementState.BACK, ReplacementState.FAILED)

# Those that strike where a replacement could be hurt: names, listings, what is sent, and lines that are cut.
WATCHED = [
    "hides-dots",
    "no-facts",
    "facts-550",
    "facts-without-size",
    "facts-say-cut",
    "no-size",
    "says-nothing",
    "rnfr-refused",
    "rnto-refused",
    "rnto-keeps",
    "stor-keeps",
    "no-hidden-names",
    "stor-short",
    "times-hours-off",
    "times-ignored",
    "permissions-refused",
    "dele-refused",
    "mkd-refused",
    "cut-before-rnto",
    "cut-after-rnto",
    "cut-after-mkd",
    "cut-in-stor",
    "cut-in-retr",
    "retr-short",
    "full-in-stor",
    "closes-421",
    "list-426",
]


async def replaced(world: World) -> Replacement | str:
    """How a replacement ended; why it could not even be planned."""
    replacing = world.nailer.packages.replacing
    try:
        old = await replacing.there(world.site, versions.SKIN)
        source = await world.nailer.packages.sources.dropped("harbour-1.10.zip", versions.sent(versions.archive()), old)
        number = await replacing.replace(world.account_id, world.site, old, source)
    except NailerError as error:
        return error.what
    await replacing.reading.wait(number)
    one = await replacing.get(world.site, number)
    if one.state is ReplacementState.FAILED:
        return one.words
    plan = await versions.choose(world, await replacing.plans.of(one), old=Take.DROP)
    return await versions.carried_out(world, plan)


@pytest.mark.parametrize("fault", WATCHED)
async def test_the_old_one_or_the_new_one_is_there(tmp_path, database, migrated_url: str, fault: str) -> None:  # type: ignore[no-untyped-def]
    assert fault in FAULTS
    async with a_rough_world(tmp_path, migrated_url, [fault]) as world:
        top = versions.lay_out(world)
        ended = await replaced(world)
        if isinstance(ended, str):
            assert ended
            assert tree(top) == OLD
            return
        assert ended.state in ENDED, ended
        if ended.state is ReplacementState.IN_PLACE:
            assert tree(top) == NEW
            assert (await versions.back(world, ended.id)).state in (ReplacementState.BACK, ReplacementState.IN_PLACE)
        else:
            assert ended.words
        if ended.state is not ReplacementState.IN_PLACE:
            assert tree(top) == OLD


@pytest.mark.parametrize("fault", ["hides-dots", "no-facts", "cut-before-rnto", "cut-after-rnto", "no-hidden-names"])
async def test_it_comes_in_place_where_it_can(tmp_path, database, migrated_url: str, fault: str) -> None:  # type: ignore[no-untyped-def]
    async with a_rough_world(tmp_path, migrated_url, [fault]) as world:
        top = versions.lay_out(world)
        ended = await replaced(world)
        assert not isinstance(ended, str), ended
        assert ended.state is ReplacementState.IN_PLACE, ended.words
        assert tree(top) == NEW
        assert (await versions.back(world, ended.id)).state is ReplacementState.BACK
        assert tree(top) == OLD
