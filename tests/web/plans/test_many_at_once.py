"""Two hundred uploads from browsers at once: the files of ten drops, each sent by a visitor of its own."""

from __future__ import annotations

import asyncio
import re
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from tests.builders import tree
from tests.web.conftest import Visitor

DROPS, FILES = 10, 20


def test_two_hundred_uploads_at_once_all_land_whole(maren: Visitor) -> None:
    site = maren.open_site()
    sent = {"x-csrf": maren.csrf}
    contents: dict[str, bytes] = {}
    files: list[tuple[str, int, bytes]] = []
    for drop in range(DROPS):
        wanted = {f"u{drop}-{number}.txt": f"upload {number} ".encode() * (number + 1) for number in range(FILES)}
        job, items = _begun(maren, site, wanted, sent)
        files += [(job, item, content) for item, content in zip(items, wanted.values(), strict=True)]
        contents |= wanted

    def _send(file: tuple[str, int, bytes]) -> str:
        job, item, content = file
        part = {"content-type": "application/partial-upload", "upload-offset": "0", "upload-complete": "?1"}
        answer = maren.client.patch(f"/drops/{job}/items/{item}", content=content, headers=sent | part)
        return "" if answer.status_code < 300 else answer.text

    with ThreadPoolExecutor(len(files)) as crowd:
        assert set(crowd.map(_send, files)) == {""}

    portal: Any = maren.client.portal
    assert set(portal.call(_ended, maren.nailer, {int(job) for job, _, _ in files})) == {"done"}
    assert tree(maren.there) == contents


def _begun(maren: Visitor, site: str, wanted: dict[str, bytes], sent: dict[str, str]) -> tuple[str, list[int]]:
    """A drop that awaits its files: its job, and the items in the order of the names."""
    files = [
        {"below": [name], "size": len(content), "modified_ms": 1_764_000_000_000} for name, content in wanted.items()
    ]
    body = {"to_side": "there", "folder": "/htdocs", "files": files}
    plan = maren.client.post(f"{site}/plans/drop", json=body, headers=sent).text
    job = re.search(r'data-job="(\d+)"', plan)
    assert job, plan
    assert maren.client.post(f"/plans/{job[1]}/carry-out", json={}, headers=sent).status_code == 200
    items = maren.client.post(f"/drops/{job[1]}/begin", json={}, headers=sent).json()["items"]
    return job[1], list(items.values())


async def _ended(nailer: Any, jobs: set[int]) -> list[str]:
    async with asyncio.timeout(60):
        while True:
            states = [str((await nailer.stores.jobs.get(one)).state) for one in jobs]
            if not {"waiting", "running"} & set(states):
                return states
            await asyncio.sleep(0.1)
