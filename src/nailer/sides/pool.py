"""Connections of sites: one for each site, opened when it is first needed, kept open, closed when idle.

A connection has lanes, each a channel of its own: browsing answers while carrying works. A lane whose line was cut is
thrown away; the next call dials anew.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass, field

import structlog

from nailer.errors import ConnectionDropped, NotFound, StoreUnavailable, TooManyConnections
from nailer.sides.connection import CommandResult, Connection, Lane
from nailer.sides.side import Side

_log = structlog.get_logger()

IDLE_S = 90.0
_LOOK_EVERY_S = 15.0


@dataclass(slots=True)
class _Held:
    """What the pool knows of one site. `users` counts the calls that are inside a lane now."""

    lock: asyncio.Lock = field(default_factory=asyncio.Lock)
    connection: Connection | None = None
    lanes: dict[Lane, Side] = field(default_factory=dict)
    users: int = 0
    used_at_s: float = 0.0


Whose = tuple[int, int]
"""A site, and the account of the person whose own line it is; 0 for a line that everybody shares."""


def _everybodys(site_id: int) -> Whose:
    return site_id, 0


class Pool:
    """Warm connections by site, and by person where each signs in with a password of their own. `dial` makes a new one, or
    raises why it cannot; `whose` says which of the two a site is."""

    def __init__(
        self,
        dial: Callable[[int], Awaitable[Connection]],
        *,
        whose: Callable[[int], Whose] = _everybodys,
        when_closed: Callable[[Whose], Awaitable[None]] | None = None,
        idle_s: float = IDLE_S,
    ) -> None:
        self._dial = dial
        self._whose = whose
        self._when_closed = when_closed
        self._idle_s = idle_s
        self._held: dict[Whose, _Held] = {}
        self._reaper: asyncio.Task[None] | None = None

    @contextlib.asynccontextmanager
    async def side(self, site_id: int, lane: Lane = Lane.BROWSE) -> AsyncIterator[Side]:
        """A site's side in a lane, connected. Raises what dialling raises."""
        held = self._held.setdefault(self._whose(site_id), _Held())
        held.users += 1
        connection: Connection | None = None
        try:
            async with held.lock:
                side = await self._open_lane(site_id, held, lane)
                connection = held.connection
            yield side
        except ConnectionDropped:
            # Another call may have dialled anew meanwhile: only the connection that failed is thrown away.
            if connection is not None and held.connection is connection and _is_lost(connection):
                await self._drop(held)
            raise
        finally:
            held.users -= 1
            held.used_at_s = time.monotonic()

    async def run(self, site_id: int, script: bytes, *, within_s: float) -> CommandResult:
        """Run a shell script on a site's server. Raises NotSupported where the account has no shell."""
        async with self.side(site_id):
            connection = self.connection(site_id)
            if connection is None:
                raise ConnectionDropped("The connection to the server was lost.")
            return await connection.run(script, within_s=within_s)

    async def fresh(self, site_id: int, lane: Lane, failed: object) -> Side:
        """A lane in place of one whose line failed; dialled anew unless somebody else did so already."""
        held = self._held.setdefault(self._whose(site_id), _Held())
        async with held.lock:
            if held.lanes.get(lane) is failed and held.connection and _is_lost(held.connection):
                await self._drop(held)
            return await self._open_lane(site_id, held, lane)

    def is_open(self, site_id: int) -> bool:
        """True where a site is connected now."""
        return self.connection(site_id) is not None

    def connection(self, site_id: int) -> Connection | None:
        """A site's connection where it is open now; nothing is dialled."""
        held = self._held.get(self._whose(site_id))
        return held.connection if held and held.connection and held.connection.is_open else None

    def open_sites(self) -> dict[int, Connection]:
        """What is open now for whoever asks, by site."""
        found = {site_id: self.connection(site_id) for site_id, _ in self._held}
        return {site_id: one for site_id, one in found.items() if one is not None}

    @property
    def open_lines(self) -> int:
        """How many connections to servers are open in all."""
        return sum(connection.lines for connection in self.open_sites().values())

    async def cut(self, site_id: int) -> None:
        """Close a site's connection over which nothing moves. Its users get `ConnectionDropped`."""
        held = self._held.get(self._whose(site_id))
        if held is not None:
            await self._drop(held)

    async def close_site(self, site_id: int) -> None:
        """End a site's connections, e.g. after its sign-in was changed."""
        for whose in [one for one in self._held if one[0] == site_id]:
            await self.close_one(whose)

    async def close_one(self, whose: Whose) -> None:
        """End one connection of a site."""
        held = self._held.pop(whose, None)
        if held is not None:
            await self._drop(held)
            await self._say_closed(whose)

    async def close(self) -> None:
        """Close every connection."""
        if self._reaper is not None:
            self._reaper.cancel()
            await asyncio.gather(self._reaper, return_exceptions=True)
            self._reaper = None
        for whose in list(self._held):
            await self.close_one(whose)

    async def _open_lane(self, site_id: int, held: _Held, lane: Lane) -> Side:
        before = held.connection
        try:
            return await self._lane_of(site_id, held, lane)
        except ConnectionDropped:
            if held.connection is not None:
                await self._drop(held)
            if before is None:
                raise
            # The line was cut while nobody used it, and nobody knew yet: nothing was asked over it that could be lost.
            return await self._lane_of(site_id, held, lane)

    async def _lane_of(self, site_id: int, held: _Held, lane: Lane) -> Side:
        if held.connection is not None and not held.connection.is_open:
            await self._drop(held)
        if held.connection is None:
            held.connection = await self._dial(site_id)
            self._start_reaper()
            _log.info("connected", site=site_id)
        lanes = held.lanes
        for closed in [name for name, side in lanes.items() if not _is_open(side)]:
            del lanes[closed]  # a channel may be closed while its connection lives
        if lane not in lanes:
            try:
                lanes[lane] = await held.connection.channel(lane)
            except TooManyConnections:
                if not lanes:
                    raise
                # The server gives a sign-in one channel only: browsing and carrying share it.
                lanes[lane] = next(iter(lanes.values()))
        return lanes[lane]

    async def _drop(self, held: _Held) -> None:
        connection, held.connection = held.connection, None
        held.lanes.clear()
        if connection is not None:
            await connection.close()

    def _start_reaper(self) -> None:
        if self._reaper is None or self._reaper.done():
            self._reaper = asyncio.create_task(self._reap())

    async def _reap(self) -> None:
        while True:
            await asyncio.sleep(min(_LOOK_EVERY_S, self._idle_s))
            now_s = time.monotonic()
            for whose, held in list(self._held.items()):
                if held.connection and not held.users and now_s - held.used_at_s >= self._idle_s:
                    await self._drop(held)
                    await self._say_closed(whose)
                    _log.info("closed while idle", site=whose[0])

    async def _say_closed(self, whose: Whose) -> None:
        if self._when_closed is not None:
            # The site itself may be gone by now.
            with contextlib.suppress(NotFound, StoreUnavailable):
                await self._when_closed(whose)


def _is_open(side: Side) -> bool:
    open_still: bool = getattr(side, "is_open", True)
    return open_still


def _is_lost(connection: Connection) -> bool:
    """After a line was cut: the whole connection where it has only the one, else where no line is left."""
    return connection.one_line or not connection.is_open
