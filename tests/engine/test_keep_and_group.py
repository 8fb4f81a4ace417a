"""Kept copies are whole or not there; grouped writes are all committed before anyone goes on."""

from __future__ import annotations

import asyncio
import os
from collections.abc import AsyncIterator
from pathlib import Path

import pytest

from nailer.engine.group_commit import GroupCommit
from nailer.engine.kept import KeptStore
from nailer.errors import ConnectionDropped, NotFound
from nailer.sides.side import once
from nailer.store.database import Database, utc_now


async def read_all(store: KeptStore, digest: bytes) -> bytes:
    return b"".join([chunk async for chunk in store.read(digest)])


@pytest.fixture
def store(database: Database, tmp_path: Path) -> KeptStore:
    return KeptStore(tmp_path / "kept", GroupCommit(database))


@pytest.mark.parametrize("size", [0, 1, 100, 3_000_000])
async def test_a_kept_content_comes_back(store: KeptStore, size: int) -> None:
    content = os.urandom(size // 2) + b"a" * (size - size // 2)

    kept = await store.put(once(content))

    assert kept.size == size
    assert await read_all(store, kept.hash) == content


async def test_the_same_content_lies_once(store: KeptStore, tmp_path: Path) -> None:
    hashes = {(await store.put(once(b"again and again"))).hash for _ in range(5)}

    assert len(hashes) == 1
    assert len([one for one in os.scandir(tmp_path / "kept") if one.is_dir()]) == 1


async def test_a_source_that_breaks_off_leaves_nothing(store: KeptStore, tmp_path: Path) -> None:
    async def broken() -> AsyncIterator[bytes]:
        yield b"half of it"
        raise ConnectionDropped("cut")

    with pytest.raises(ConnectionDropped):
        await store.put(broken())

    assert os.listdir(tmp_path / "kept") == []


async def test_a_damaged_copy_is_never_handed_out_as_whole(store: KeptStore, tmp_path: Path) -> None:
    kept = await store.put(once(os.urandom(50_000)))
    (file,) = (tmp_path / "kept").glob("*/*.zst")
    data = bytearray(file.read_bytes())
    data[len(data) // 2] ^= 0xFF
    file.write_bytes(data)

    with pytest.raises(NotFound, match="damaged"):
        await read_all(store, kept.hash)
    with pytest.raises(NotFound):
        await read_all(store, bytes(32))


async def test_many_submitters_share_transactions_and_all_are_written(database: Database) -> None:
    group = GroupCommit(database)
    transactions = 0
    plain = database.write_now

    def counted(change):  # type: ignore[no-untyped-def]
        nonlocal transactions
        transactions += 1
        return plain(change)

    database.write_now = counted  # type: ignore[method-assign]
    rows = [{"hash": os.urandom(32), "size": 1, "stored_size": 1, "now": utc_now()} for _ in range(300)]

    await asyncio.gather(*(group.submit(("changes.keep", row)) for row in rows))

    database.write_now = plain  # type: ignore[method-assign]
    with database.reading() as work:
        assert all(work.value("changes.is_kept", hash=row["hash"]) for row in rows)
    assert transactions <= 10


async def test_a_submitter_hears_that_its_group_failed(database: Database) -> None:
    group = GroupCommit(database)

    with pytest.raises(KeyError):
        await group.submit(("changes.no_such_query", {}))

    await group.submit(("changes.keep", {"hash": bytes(32), "size": 1, "stored_size": 1, "now": utc_now()}))
