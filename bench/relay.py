"""A line with a delay: a TCP relay that hands every byte on a fixed time after it came, in both directions.

Bytes wait in a queue with the moment they are due, so that the delay adds to the round trip and takes nothing from the
rate; nothing is lost. At most 64 MiB wait, as on a long, fast line.
"""

from __future__ import annotations

import asyncio
import contextlib
import sys
from functools import partial

_CHUNK_BYTES = 256 * 1024
_MOST_WAITING = 64 * 1024 * 1024


async def _transfer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, delay_s: float) -> None:
    loop = asyncio.get_running_loop()
    waiting: asyncio.Queue[tuple[float, bytes]] = asyncio.Queue()
    room = asyncio.Semaphore(_MOST_WAITING // _CHUNK_BYTES)

    async def take_in() -> None:
        with contextlib.suppress(OSError):  # a line that was cut ends at its other side, too
            while chunk := await reader.read(_CHUNK_BYTES):
                await room.acquire()
                waiting.put_nowait((loop.time() + delay_s, chunk))
        waiting.put_nowait((loop.time() + delay_s, b""))

    taking = asyncio.create_task(take_in())
    try:
        while True:
            due, chunk = await waiting.get()
            if (wait_s := due - loop.time()) > 0:
                await asyncio.sleep(wait_s)
            if not chunk:
                break
            room.release()
            writer.write(chunk)
            await writer.drain()
        with contextlib.suppress(OSError):
            writer.write_eof()
    finally:
        taking.cancel()
        await asyncio.gather(taking, return_exceptions=True)


async def serve(ports: list[int], delay_s: float) -> None:
    """Relay these ports of 127.0.0.2 to the same ones of 127.0.0.1; each direction takes `delay_s`. Says when ready."""

    async def one(port: int, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        # The far end is dialled half a round trip later, as over a long line.
        await asyncio.sleep(delay_s)
        try:
            far_reader, far_writer = await asyncio.open_connection("127.0.0.1", port, limit=_CHUNK_BYTES)
        except OSError:
            writer.close()
            return
        try:
            await asyncio.gather(
                _transfer(reader, far_writer, delay_s), _transfer(far_reader, writer, delay_s), return_exceptions=True
            )
        finally:
            writer.close()
            far_writer.close()

    for port in ports:
        await asyncio.start_server(partial(one, port), "127.0.0.2", port, limit=_CHUNK_BYTES)
    print("ready", flush=True)
    await asyncio.Event().wait()


if __name__ == "__main__":
    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(serve([int(port) for port in sys.argv[2:]], float(sys.argv[1]) / 1000))
