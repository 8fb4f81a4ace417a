"""Streams of events that stay open: each tells what its reader may know at that moment, and ends as their right to it does.

Who reads is looked at anew for every event: the session or token, the person, what they may do. An event that was put
together under rights that have changed since is thrown away, and put together again.
"""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable
from contextlib import aclosing
from dataclasses import dataclass
from typing import TypeVar

from nailer.acting import Acting, acting_as
from nailer.engine.tasks import begun, comes_first
from nailer.errors import Busy, NotFound

T = TypeVar("T")

_MOST_EACH = 24  # of one session or token: each open page has one
_MOST_OF_A_PERSON = 60
_LOOK_EVERY_S = 20.0


@dataclass(frozen=True, slots=True)
class Listener:
    """Who listens: a session or token by its `key`, whose person `account_id` is. `now` gives who acts by it at this moment;
    None where it has ended."""

    key: bytes
    account_id: int
    now: Callable[[], Awaitable[Acting | None]]


class Streams:
    """The open streams of everybody."""

    def __init__(self) -> None:
        self._open: Counter[bytes] = Counter()
        self._of_person: Counter[int] = Counter()
        self._ended = asyncio.Event()

    def end(self) -> None:
        """Sessions, tokens or rights have ended: every stream looks whether its own is among them."""
        self._ended.set()
        self._ended = asyncio.Event()

    def check_room(self, reader: Listener) -> None:
        """Raises Busy where a session, a token or a person has as many open streams as they may."""
        if self._open[reader.key] >= _MOST_EACH:
            raise Busy(f"You have {_MOST_EACH} Nailer pages open, which is the limit. Close some of them.")
        if self._of_person[reader.account_id] >= _MOST_OF_A_PERSON:
            raise Busy(f"{_MOST_OF_A_PERSON} pages and programs of this person listen already. End some.")

    async def while_allowed(
        self, reader: Listener, begin: Callable[[T | None], AsyncGenerator[T, None]]
    ) -> AsyncIterator[T]:
        """The events for as long as their reader may hear them. `begin` starts them, after the last one that was heard."""
        self._open[reader.key] += 1
        self._of_person[reader.account_id] += 1
        try:
            async for event in self._events(reader, begin):
                yield event
        finally:
            self._open[reader.key] -= 1
            self._of_person[reader.account_id] -= 1
            self._open += Counter()  # those without any are forgotten
            self._of_person += Counter()

    async def _events(self, reader: Listener, begin: Callable[[T | None], AsyncGenerator[T, None]]) -> AsyncIterator[T]:
        last: T | None = None
        while True:
            ended = self._ended  # taken before the look: what ends in between is heard
            if (who := await reader.now()) is None:
                return
            events = begin(last)
            async with aclosing(events):
                while True:
                    try:
                        event = await self._next(reader, who, events, ended)
                    except (StopAsyncIteration, NotFound):
                        return
                    if event is None:
                        break  # rights have changed, or all has ended: look, and begin anew
                    last = event
                    yield event

    async def _next(
        self, reader: Listener, who: Acting, events: AsyncGenerator[T, None], ended: asyncio.Event
    ) -> T | None:
        """The next event; None where its reader has other rights by now than it was put together under."""
        with acting_as(who):
            coming = begun(anext(events))
        try:
            while True:
                came = await comes_first(coming, ended, _LOOK_EVERY_S)
                ended = self._ended
                if await reader.now() != who:
                    return None
                if came:
                    return await coming
        finally:
            coming.cancel()
            await asyncio.gather(coming, return_exceptions=True)
