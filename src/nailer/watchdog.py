"""Says in the log what held the event loop: everybody waits for whatever computes there.

A thread of its own asks the loop for a sign every few milliseconds. Where none comes in time it looks at what the loop's
thread is doing just then. This module imports nothing of Nailer.
"""

from __future__ import annotations

import asyncio
import contextlib
import sys
import threading
import time
import traceback
from collections.abc import Iterator

import structlog

_log = structlog.get_logger()

HELD_S = 0.1
_LOOK_EVERY_S = 0.025
_SHOWN_FRAMES = 6


@contextlib.contextmanager
def watched() -> Iterator[None]:
    """While this holds, whatever keeps the running loop longer than `HELD_S` is logged with where it was."""
    ended = threading.Event()
    watcher = threading.Thread(
        target=_watch, args=(asyncio.get_running_loop(), threading.get_ident(), ended), daemon=True, name="watchdog"
    )
    watcher.start()
    try:
        yield
    finally:
        ended.set()
        watcher.join()


def _watch(loop: asyncio.AbstractEventLoop, thread: int, ended: threading.Event) -> None:
    while not ended.wait(_LOOK_EVERY_S):
        answered = threading.Event()
        asked = time.monotonic()
        try:
            loop.call_soon_threadsafe(answered.set)
        except RuntimeError:
            return  # the loop is closed
        if answered.wait(HELD_S):
            continue
        where = _where(thread)
        while not answered.wait(HELD_S) and not ended.is_set():
            pass
        _log.warning("the event loop was held", held_ms=round((time.monotonic() - asked) * 1000), where=where)


def _where(thread: int) -> str:
    """The innermost calls of the loop's thread, outermost first."""
    frame = sys._current_frames().get(thread)
    calls = traceback.extract_stack(frame)[-_SHOWN_FRAMES:] if frame is not None else []
    return " > ".join(f"{one.filename.rpartition('/')[2]}:{one.lineno} {one.name}" for one in calls)
