"""Steps that must not be cut in two: a caller that is cancelled is cancelled only once the step has ended.

A thread cannot be stopped. Left alone, one that outlives its caller would write to a descriptor that was closed and
given to another file, or return something that nobody closes. This module imports nothing of Nailer.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine
from contextlib import suppress
from typing import Any, ParamSpec, TypeVar

_P = ParamSpec("_P")
_R = TypeVar("_R")


async def unbroken(step: Coroutine[Any, Any, _R], *, undo: Callable[[_R], None] | None = None) -> _R:
    """The result of `step`. Cancelled meanwhile, it ends first; `undo` (which may block) gets a result nobody wants."""
    task = asyncio.create_task(step)
    try:
        return await asyncio.shield(task)
    except asyncio.CancelledError:
        await _outlast(task)
        if not task.cancelled() and task.exception() is None and undo is not None:
            await _outlast(asyncio.create_task(asyncio.to_thread(undo, task.result())))
        raise


async def _outlast(task: asyncio.Task[Any]) -> None:
    """Return once the task is done, however often the caller is cancelled."""
    while not task.done():
        with suppress(asyncio.CancelledError):
            await asyncio.wait({task})


async def in_thread(function: Callable[_P, _R], *args: _P.args, **kwargs: _P.kwargs) -> _R:
    """A blocking call off the event loop, unbroken."""
    return await unbroken(asyncio.to_thread(function, *args, **kwargs))
