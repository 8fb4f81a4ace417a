"""HTTP/1.1 on a line, with an end to waiting for the rest of a request, and strict answers to what is none."""

from __future__ import annotations

import asyncio

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

from nailer.web.shell.headers import ALWAYS

_HEAD_WITHIN_S = 20.0


class StrictHttp(H11Protocol):
    """A line that says nothing, or never ends the head of its request, is closed after a while (RFC 9112, 9.5)."""

    _head_timer: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Wait for a first request, so long and no longer."""
        super().connection_made(transport)
        self._await_head()

    def connection_lost(self, exc: Exception | None) -> None:
        """Nothing is waited for any more."""
        self._head_came()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        """More of a request. The next head begins with its first byte; between two requests the server keeps the time."""
        try:
            super().data_received(data)
        except UnicodeDecodeError:
            self.send_400_response("Invalid HTTP request received.")  # an address that is not ASCII (RFC 3986, 2)
        if self.conn.their_state is not h11.IDLE or self.transport.is_closing():
            self._head_came()
        elif self._head_timer is None:
            self._await_head()

    def send_400_response(self, msg: str) -> None:
        """The answer to what is no request: with the headers of every other answer."""
        headers = [(name.lower().encode(), value.encode()) for name, value in ALWAYS.items()]
        headers += [(b"content-type", b"text/plain; charset=utf-8"), (b"connection", b"close")]
        parts: list[h11.Event] = [
            h11.Response(status_code=400, headers=headers, reason=b"Bad Request"),
            h11.Data(data=msg.encode("ascii")),
            h11.EndOfMessage(),
        ]
        if self.conn.our_state in (h11.IDLE, h11.SEND_RESPONSE):
            self.transport.write(b"".join(self.conn.send(part) or b"" for part in parts))
        self.transport.close()

    def _await_head(self) -> None:
        self._head_timer = self.loop.call_later(_HEAD_WITHIN_S, self.transport.close)

    def _head_came(self) -> None:
        if self._head_timer is not None:
            self._head_timer.cancel()
            self._head_timer = None
