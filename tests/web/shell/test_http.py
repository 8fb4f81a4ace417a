"""A line on which a request never comes whole, over a real socket."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from typing import Any

import pytest
import uvicorn

from nailer.web.shell import http
from nailer.web.shell.headers import ALWAYS
from nailer.web.shell.http import StrictHttp


async def hello(scope: Any, receive: Any, send: Any) -> None:
    """Answers everything with one word."""
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"5")]})
    await send({"type": "http.response.body", "body": b"hello"})


@pytest.fixture
async def port(monkeypatch: pytest.MonkeyPatch) -> AsyncIterator[int]:
    monkeypatch.setattr(http, "_HEAD_WITHIN_S", 0.3)
    config = uvicorn.Config(hello, port=0, http=StrictHttp, ws="none", lifespan="off", log_config=None)
    server = uvicorn.Server(config)
    config.load()
    server.lifespan = config.lifespan_class(config)
    await server.startup()
    yield server.servers[0].sockets[0].getsockname()[1]
    await server.shutdown()


async def answer_to(port: int, *pieces: bytes) -> bytes:
    """What comes back for some bytes, until the server closes the line."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    for piece in pieces:
        writer.write(piece)
        await writer.drain()
    try:
        async with asyncio.timeout(15):
            return await reader.read()
    finally:
        writer.close()


WHOLE = b"GET / HTTP/1.1\r\nHost: localhost\r\n\r\n"


@pytest.mark.parametrize(
    "pieces",
    [(), (b"GET",), (b"GET / HTTP/1.1\r\nHost: local",), (WHOLE, b"GET / HT")],
    ids=["silence", "a word", "half a head", "half a second one"],
)
async def test_a_half_sent_request_ends_after_a_while(port: int, pieces: tuple[bytes, ...]) -> None:
    answer = await answer_to(port, *pieces)

    assert answer.count(b"hello") == pieces.count(WHOLE)


@pytest.mark.parametrize(
    "junk",
    [
        b"GET /\xc3\xa9 HTTP/1.1\r\nHost: localhost\r\n\r\n",
        b"\x16\x03\x01\x02\x00",
        b"GET / HTTP/1.1\r\nHost: localhost\r\nX: " + b"a" * 66_000,
        b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: x\r\n\r\n",
    ],
)
async def test_what_is_no_request_is_refused_with_the_headers_of_every_answer(port: int, junk: bytes) -> None:
    answer = (await answer_to(port, junk)).decode()

    assert answer.startswith("HTTP/1.1 400")
    assert all(f"{name.lower()}: {value}" in answer for name, value in ALWAYS.items())


async def test_a_line_that_is_used_stays(port: int) -> None:
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    for _ in range(4):
        writer.write(WHOLE)
        await writer.drain()
        assert b"hello" in await reader.readuntil(b"hello")
        await asyncio.sleep(0.2)  # in all longer than a head may take
    writer.close()
