"""Something that is looked for every few seconds, and what begins by that: whatever fails once is looked for again."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Coroutine

import structlog

from nailer.errors import StoreUnavailable

_log = structlog.get_logger()
_EVERY_S = 5.0


class Often:
    """`what` says in the log what is looked for; `look` is called every few seconds between `start` and `stop`."""

    def __init__(self, what: str, look: Callable[[], Awaitable[None]]) -> None:
        self._what = what
        self._look = look
        self._loop: asyncio.Task[None] | None = None
        self._under_way: set[asyncio.Task[None]] = set()

    def start(self) -> None:
        """Begin to look."""
        self._loop = asyncio.create_task(self._watch())

    async def stop(self) -> None:
        """End looking, and what began by it."""
        tasks = [task for task in (self._loop, *self._under_way) if task is not None]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    def begin(self, work: Coroutine[None, None, None]) -> asyncio.Task[None]:
        """Begin something that was found: looking goes on beside it."""
        task = asyncio.create_task(work)
        self._under_way.add(task)
        task.add_done_callback(self._under_way.discard)
        return task

    async def _watch(self) -> None:
        while True:
            try:
                await self._look()
            except StoreUnavailable:
                _log.warning("the database does not answer; it is looked for again", what=self._what)
            except Exception:
                # Whatever it was, the others must be found.
                _log.exception("looking failed", what=self._what)
            await asyncio.sleep(_EVERY_S)
