"""Answers compressed on their way out (RFC 9110, 8.4; zstd: RFC 8878). What is sent in pieces passes as it is: events are
waited for, and files are of unknown kinds."""

from __future__ import annotations

import zlib

import zstandard
from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

_KINDS = (
    "text/html",
    "text/plain",
    "text/css",
    "text/csv",
    "text/javascript",
    "application/json",
    "application/problem+json",
)
_WORTH_BYTES = 800
# Past this size the faster of the two ways of gzip: a page of a megabyte would hold the event loop.
_LARGE_BYTES = 200_000
_GZIP_BITS = 31


class Compress:
    """The outermost layer round the application."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        coding = best_coding(Headers(scope=scope).get("accept-encoding", "")) if scope["type"] == "http" else None
        if coding is None or scope["method"] == "HEAD":
            await self._app(scope, receive, send)
            return
        await self._app(scope, receive, _Compressing(send, coding))


class _Compressing:
    """Holds the start of an answer back until its first piece shows whether it is the only one."""

    def __init__(self, send: Send, coding: str) -> None:
        self._send = send
        self._coding = coding
        self._start: Message | None = None

    async def __call__(self, message: Message) -> None:
        if message["type"] == "http.response.start" and _may_be(message):
            self._start = message
            return
        if self._start is not None:
            start, self._start = self._start, None
            message = self._compressed(start, message)
            await self._send(start)
        await self._send(message)

    def _compressed(self, start: Message, message: Message) -> Message:
        body: bytes = message.get("body", b"")
        if message["type"] != "http.response.body" or message.get("more_body") or len(body) < _WORTH_BYTES:
            return message
        made = compressed(body, self._coding)
        headers = MutableHeaders(raw=start["headers"])
        headers["Content-Encoding"] = self._coding
        headers["Content-Length"] = str(len(made))
        headers.add_vary_header("Accept-Encoding")
        return {**message, "body": made}


def _may_be(start: Message) -> bool:
    headers = Headers(raw=start["headers"])
    kind = headers.get("content-type", "").partition(";")[0]
    return kind in _KINDS and "content-encoding" not in headers and start["status"] != 206


def compressed(body: bytes, coding: str) -> bytes:
    """A whole body in one coding, `zstd` or `gzip`."""
    if coding == "zstd":
        return zstandard.compress(body, 3)
    packer = zlib.compressobj(1 if len(body) > _LARGE_BYTES else 5, zlib.DEFLATED, _GZIP_BITS)
    return packer.compress(body) + packer.flush()


def accepted(header: str) -> set[str]:
    """The codings that a browser takes; those with the weight 0 are none of them."""
    taken = set()
    for one in header.lower().split(","):
        name, _, weight = one.partition(";")
        if weight.replace(" ", "") not in ("q=0", "q=0.0", "q=0.00", "q=0.000"):
            taken.add(name.strip())
    return taken


def best_coding(header: str) -> str | None:
    """The coding of an answer that is made for this request."""
    taken = accepted(header)
    return next((name for name in ("zstd", "gzip") if name in taken), None)
