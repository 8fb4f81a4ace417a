"""Streams of events that stay open: each ends with the session it was opened in, and a session has only so many."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import AsyncGenerator, AsyncIterator
from contextlib import aclosing
from typing import Any, TypeVar

from nailer.errors import Busy
from nailer.store.people.accounts import AccountStore, Session

T = TypeVar("T")

_MOST = 24  # each open page has one
_LOOK_EVERY_S = 20.0


class Streams:
    """The open streams of every session."""

    def __init__(self, store: AccountStore, idle_hours: int) -> None:
        self._store = store
        self._idle_hours = idle_hours
        self._open: Counter[bytes] = Counter()
        self._ended = asyncio.Event()

    def end(self) -> None:
        """Sessions have ended: every stream looks whether its own is among them."""
        self._ended.set()
        self._ended = asyncio.Event()

    def check_room(self, session: Session) -> None:
        """Raises Busy where a session has as many open streams as it may."""
        if self._open[session.key] >= _MOST:
            raise Busy(f"{_MOST} pages of this session are open already. Close some.")

    async def while_signed_in(self, session: Session, events: AsyncGenerator[T, None]) -> AsyncIterator[T]:
        """The events for as long as the session lasts."""
        self._open[session.key] += 1
        looks_at_s = asyncio.get_running_loop().time() + _LOOK_EVERY_S
        ended = self._ended
        try:
            async with aclosing(events):
                while True:
                    coming = asyncio.ensure_future(anext(events))
                    try:
                        while not await _first(coming, ended, looks_at_s):
                            if await self._store.session(session.key, self._idle_hours) is None:
                                return
                            ended, looks_at_s = self._ended, asyncio.get_running_loop().time() + _LOOK_EVERY_S
                        event = await coming
                    except StopAsyncIteration:
                        return
                    finally:
                        coming.cancel()
                        await asyncio.gather(coming, return_exceptions=True)
                    yield event
        finally:
            self._open[session.key] -= 1
            self._open += Counter()  # sessions without any are forgotten


async def _first(coming: asyncio.Future[Any], ended: asyncio.Event, until_s: float) -> bool:
    """True once the next event has come; False where it is time to look after the session."""
    told: asyncio.Future[Any] = asyncio.ensure_future(ended.wait())
    try:
        left_s = max(0.0, until_s - asyncio.get_running_loop().time())
        await asyncio.wait({coming, told}, timeout=left_s, return_when=asyncio.FIRST_COMPLETED)
    finally:
        told.cancel()
        await asyncio.gather(told, return_exceptions=True)
    return coming.done()
