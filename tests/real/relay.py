"""A relay in front of a server, whose lines a test can cut, or stop from carrying anything."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable


class Relay:
    """Passes bytes on both ways. `refuses`: nobody and nothing gets through, as in an outage. `count` counts the calls of
    this end: at the number `at`, `then` is done once."""

    def __init__(self, port: int) -> None:
        self._to = port
        self.port = 0
        self.refuses = False
        self.passed = 0
        self.calls = 0
        self.at: int | None = None
        self.then: Callable[[], None] = self.cut_now
        self._server: asyncio.Server | None = None
        self._lines: set[asyncio.Task[None]] = set()

    async def start(self) -> None:
        self._server = await asyncio.start_server(self._meet, "127.0.0.1", self.port)
        self.port = self._server.sockets[0].getsockname()[1]

    async def stop(self) -> None:
        assert self._server is not None
        self._server.close()
        await self.cut()

    async def cut(self) -> None:
        """Cut every line that is open."""
        lines, self._lines = self._lines, set()
        for one in lines:
            one.cancel()
        await asyncio.gather(*lines, return_exceptions=True)

    def count(self) -> None:
        """One more call is about to be made."""
        self.calls += 1
        if self.at is not None and self.calls >= self.at:
            self.at = None
            self.then()

    def cut_now(self) -> None:
        """As `cut`, from the middle of what is passed on."""
        for one in self._lines:
            one.cancel()

    async def _meet(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if self.refuses:
            writer.transport.abort()
            return
        task = asyncio.current_task()
        assert task is not None
        self._lines.add(task)
        far: asyncio.StreamWriter | None = None
        try:
            back, far = await asyncio.open_connection("127.0.0.1", self._to)
            await asyncio.gather(self._pass(reader, far), self._pass(back, writer))
        except (OSError, asyncio.CancelledError):
            pass
        finally:
            self._lines.discard(task)
            for one in (writer, far):
                if one is not None:
                    one.transport.abort()

    async def _pass(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while chunk := await reader.read(65536):
            if self.refuses:
                await asyncio.sleep(3600)
            writer.write(chunk)
            self.passed += len(chunk)
            await writer.drain()
        with contextlib.suppress(OSError):
            writer.close()
