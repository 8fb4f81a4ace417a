"""The one place where tasks are begun: what goes on beside others, what is looked for again and again, what many do at once.

Whatever is begun here is ended here, too: nobody is left who writes after everything was closed.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncGenerator, Awaitable, Callable, Coroutine, Hashable, Iterable
from typing import Any, TypeVar

import structlog

from nailer.errors import StoreUnavailable

_log = structlog.get_logger()
_T = TypeVar("_T")
_EVERY_S = 5.0


class Background:
    """Tasks that go on beside others, by their keys; what has no key of its own is known by nobody."""

    def __init__(self) -> None:
        self._tasks: dict[Hashable, asyncio.Task[Any]] = {}

    def begin(self, work: Coroutine[Any, Any, _T], key: Hashable = None) -> asyncio.Task[_T]:
        """Begin something; return its task, which may be awaited."""
        task = asyncio.create_task(work)
        mine = key if key is not None else object()
        self._tasks[mine] = task
        task.add_done_callback(lambda ended: self._forget(mine, ended))
        return task

    def _forget(self, key: Hashable, ended: asyncio.Task[Any]) -> None:
        if self._tasks.get(key) is ended:
            del self._tasks[key]

    def of(self, key: Hashable) -> asyncio.Task[Any] | None:
        """What goes on by a key; None for nothing."""
        return self._tasks.get(key)

    def cancel(self, key: Hashable) -> None:
        """End what goes on by a key, without waiting for that."""
        task = self._tasks.get(key)
        if task is not None:
            task.cancel()

    async def all_ended(self) -> None:
        """Until everything has come to its end."""
        await asyncio.gather(*self._tasks.values(), return_exceptions=True)

    async def close(self) -> None:
        """End everything."""
        tasks = list(self._tasks.values())
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


class Often:
    """`what` says in the log what is looked for; `look` is called every few seconds between `start` and `stop`, and soon
    after `wake`. Whatever fails once is looked for again."""

    def __init__(self, what: str, look: Callable[[], Awaitable[None]], *, every_s: float = _EVERY_S) -> None:
        self._what = what
        self._look = look
        self._every_s = every_s
        self._woken = asyncio.Event()
        self._tasks = Background()

    def start(self) -> None:
        """Begin to look."""
        self._tasks.begin(self._watch(), "looking")

    def wake(self) -> None:
        """Look soon, and not only at the next time."""
        self._woken.set()

    async def stop(self) -> None:
        """End looking, and what began by it."""
        await self._tasks.close()

    def begin(self, work: Coroutine[None, None, None]) -> asyncio.Task[None]:
        """Begin something that was found: looking goes on beside it."""
        return self._tasks.begin(work)

    async def _watch(self) -> None:
        while True:
            self._woken.clear()
            try:
                await self._look()
            except StoreUnavailable:
                _log.warning("the database does not answer; it is looked for again", what=self._what)
            except Exception:
                # Whatever it was, the others must be found.
                _log.exception("looking failed", what=self._what)
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(self._every_s):
                    await self._woken.wait()


async def at_once(work: Iterable[Coroutine[Any, Any, _T]], most: int) -> AsyncGenerator[_T, None]:
    """What each of some steps returns, in the order in which they end, `most` of them under way at a time; `work` makes each
    when its turn comes. The first that fails ends the others, too, and is raised; left early, all are ended."""
    waiting, running = iter(work), set[asyncio.Task[_T]]()
    try:
        while True:
            for step in waiting:
                running.add(asyncio.create_task(step))
                if len(running) >= most:
                    break
            if not running:
                return
            ended, _ = await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
            for task in ended:
                running.discard(task)
                yield task.result()
    finally:
        # Those that failed together with the first are among them: what they raise is heard, too.
        for task in running:
            task.cancel()
        await asyncio.gather(*running, return_exceptions=True)


async def told_by(work: Callable[[Callable[[_T], None]], Awaitable[None]]) -> AsyncGenerator[_T, None]:
    """What some work tells while it goes on; then what it raises. Left early, the work is ended."""
    news: asyncio.Queue[tuple[_T] | None] = asyncio.Queue()

    async def _follow() -> None:
        try:
            await work(lambda one: news.put_nowait((one,)))
        finally:
            news.put_nowait(None)

    task = asyncio.create_task(_follow())
    try:
        while (told := await news.get()) is not None:
            yield told[0]
        await task
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)


def begun(coming: Awaitable[_T]) -> asyncio.Future[_T]:
    """Begin something that its caller awaits later, or cancels."""
    return asyncio.ensure_future(coming)


async def comes_first(wanted: asyncio.Future[Any], other: asyncio.Event, within_s: float | None = None) -> bool:
    """Until a future is done, an event is set, or the time is over; True where the future is done."""
    told = asyncio.create_task(other.wait())
    try:
        await asyncio.wait({wanted, told}, timeout=within_s, return_when=asyncio.FIRST_COMPLETED)
    finally:
        told.cancel()
        await asyncio.gather(told, return_exceptions=True)
    return wanted.done()
