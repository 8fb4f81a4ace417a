"""Requests that a server never answers. Some servers lose one in hundreds, and whoever waits for it would wait for ever."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from nailer.sides.sftp.pipeline import let_go, waiting_longest

if TYPE_CHECKING:
    from nailer.sides.sftp.side import SftpSide

_LOOK_EVERY_S = 5.0
# A request is lost where later ones were answered for a while; where none are, the line may just be slow.
_OVERTAKEN_LOOKS, _SILENT_LOOKS = 3, 12


@dataclass(slots=True)
class _Waiting:
    """The request that waits longest, how many had been answered when it was first seen to wait, and the looks since."""

    number: int
    answered: int
    looks: int = 0


class Silence:
    """Watches the channels of a connection, and closes one that has lost a request: what waits there is asked again on
    another channel."""

    def __init__(self, note: Callable[[str], None]) -> None:
        self._note = note
        self._sides: list[SftpSide] = []
        self._seen: dict[SftpSide, _Waiting] = {}
        self._task: asyncio.Task[None] | None = None

    def watch(self, side: SftpSide) -> None:
        """Watch one more channel."""
        self._sides.append(side)
        if self._task is None:
            self._task = asyncio.create_task(self._watch())

    async def stop(self) -> None:
        """End watching."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)

    def let_all_go(self) -> None:
        """The line is lost: nobody waits for an answer any more."""
        for side in self._sides:
            let_go(side.client)

    async def _watch(self) -> None:
        while True:
            await asyncio.sleep(_LOOK_EVERY_S)
            for side in list(self._sides):
                if not side.is_open:
                    let_go(side.client)  # who asked in the moment of its end waits for nobody
                    self._sides.remove(side)
                    self._seen.pop(side, None)
                elif self._has_lost(side):
                    self._note("a request was never answered; the channel is closed")
                    side.close()
                    let_go(side.client)

    def _has_lost(self, side: SftpSide) -> bool:
        now = waiting_longest(side.client)
        if now is None or side.slow:
            self._seen.pop(side, None)
            return False
        waiting = self._seen.get(side)
        if waiting is None or waiting.number != now[0]:
            self._seen[side] = _Waiting(*now)
            return False
        waiting.looks += 1
        return waiting.looks >= (_OVERTAKEN_LOOKS if now[1] > waiting.answered else _SILENT_LOOKS)
