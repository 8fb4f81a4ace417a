"""A share of the random runs (`loop.py`): the same numbers each time, so that what fails can be looked at again."""

from __future__ import annotations

from pathlib import Path
from types import ModuleType

import pytest

from tests.rough import server, sftp_server
from tests.rough.loop import one_run


@pytest.mark.parametrize("number", range(1, 17))
@pytest.mark.parametrize("kind", ["ftp", "sftp"])
async def test_every_byte_is_on_a_side_or_kept_and_what_is_said_is_true(
    migrated_url: str, database: object, tmp_path: Path, kind: str, number: int
) -> None:
    await one_run(number, migrated_url, tmp_path, kind)


@pytest.mark.parametrize(("scripted", "least"), [(server, 50), (sftp_server, 30)], ids=["ftp", "sftp"])
def test_there_are_misbehaviours_enough_in_every_step(scripted: ModuleType, least: int) -> None:
    assert len(scripted.FAULTS) >= least
    assert not scripted.LASTING.keys() & scripted.STRIKING.keys()
