"""A share of the random runs (`loop.py`): the same numbers each time, so that what fails can be looked at again."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.rough.loop import one_run
from tests.rough.server import LASTING, STRIKING


@pytest.mark.parametrize("number", range(1, 25))
async def test_every_byte_is_on_a_side_or_kept_and_what_is_said_is_true(
    migrated_url: str, database: object, tmp_path: Path, number: int
) -> None:
    await one_run(number, migrated_url, tmp_path)


def test_there_are_misbehaviours_enough_in_every_step() -> None:
    assert len(LASTING) + len(STRIKING) >= 40
    assert not LASTING.keys() & STRIKING.keys()
