"""Group commit: writes of many files at once share one transaction.

Whoever submits waits until its rows are on the disk, as a safe write must; meanwhile others line up, and the next
transaction takes them all. No timer: the database's own pace makes the groups.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any

from nailer.store.database import Database, Work

Statement = tuple[str, Mapping[str, Any]]
_MOST_AT_ONCE = 500


class GroupCommit:
    def __init__(self, database: Database) -> None:
        self._db = database
        self._waiting: list[tuple[tuple[Statement, ...], asyncio.Future[None]]] = []
        self._drain: asyncio.Task[None] | None = None

    async def submit(self, *statements: Statement) -> None:
        """Return once all statements are committed. Raises what the database says, to every submitter of the group."""
        done: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.append((statements, done))
        if self._drain is None or self._drain.done():
            self._drain = asyncio.create_task(self._write_all())
        await done

    async def close(self) -> None:
        """Write what waits, then end."""
        if self._drain is not None:
            await asyncio.gather(self._drain, return_exceptions=True)

    async def _write_all(self) -> None:
        while self._waiting:
            batch, self._waiting = self._waiting[:_MOST_AT_ONCE], self._waiting[_MOST_AT_ONCE:]
            statements = [statement for some, _ in batch for statement in some]
            try:
                await self._db.write(lambda work, rows=statements: _write(work, rows))  # type: ignore[misc]
            except Exception as error:
                for _, done in batch:
                    if not done.done():
                        done.set_exception(error)
                continue
            for _, done in batch:
                if not done.done():
                    done.set_result(None)


def _write(work: Work, statements: list[Statement]) -> None:
    by_name: dict[str, list[Mapping[str, Any]]] = {}
    for name, row in statements:
        by_name.setdefault(name, []).append(row)
    for name, rows in by_name.items():
        work.many(name, rows)
