"""Doing something on a server however long it is away: names must not stay between two states."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

import structlog

from nailer.core.files.entry import SideName
from nailer.errors import NailerError
from nailer.services.files import Browse
from nailer.sides.side import Side
from nailer.store.sites import Site

_log = structlog.get_logger()
_AGAIN_S = (0.5, 2.0, 5.0, 15.0, 30.0)


class Patience:
    def __init__(self, browse: Browse) -> None:
        self._browse = browse

    async def do(self, site: Site, act: Callable[[Side], Awaitable[None]]) -> None:
        """Do something there, again and again with growing waits until it is done. It must find out by itself how far an
        earlier try came. Raises what does not heal."""
        tries = 0
        while True:
            try:
                async with self._browse.side(site, SideName.THERE) as side:
                    return await act(side)
            except NailerError as error:
                if not error.retryable:
                    raise
                _log.warning("a replacement waits for the server", site=site.id, why=error.what)
            await asyncio.sleep(_AGAIN_S[min(tries, len(_AGAIN_S) - 1)])
            tries += 1
