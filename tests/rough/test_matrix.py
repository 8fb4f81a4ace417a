"""Every row of docs/servers.md, held against a server that is so."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.rough.matrix import KINDS, PLACE, tried

ROWS = [(kind, fault) for kind, scripted in KINDS.items() for fault in scripted.FAULTS]


@pytest.mark.parametrize(("kind", "fault"), ROWS, ids=[f"{kind} {fault}" for kind, fault in ROWS])
async def test_what_is_written_of_a_server_is_so(
    migrated_url: str, database: object, tmp_path: Path, kind: str, fault: str
) -> None:
    row = await tried(kind, fault, tmp_path, migrated_url)

    assert row.untrue == 0, "done is said only where it is so, and nothing is left beside"
    assert f"| {KINDS[kind].FAULTS[fault]} | {row.cells} |" in PLACE.read_text()
