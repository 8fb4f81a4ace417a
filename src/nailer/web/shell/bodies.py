"""How much of a request is read, and for how long: what is not a file is bounded, and what is half-sent ends."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, MutableMapping
from typing import Any

from starlette.datastructures import Headers
from starlette.requests import ClientDisconnect, Request

from nailer.core.numbers import MOST, number_in
from nailer.core.words import size_text
from nailer.errors import CameTooLate, SendingStopped, TooLarge

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]

FORM_BYTES = 256 * 1024
_JSON_BYTES = 64 * 1024 * 1024  # the names of a drop of 200,000 files, or an editor's text with what can be undone
_PART_BYTES = 32 * 1024 * 1024  # a part of a large file
_QUIET_S = 60.0


def bounded(scope: Scope, receive: Receive) -> Receive:
    """`receive` with its bounds. Raises TooLarge and CameTooLate, from the first call on or at once where the request says
    how long it is."""
    most = _most_bytes(scope)
    announced = number_in(Headers(scope=scope).get("content-length", "0"))
    if most is not None and (MOST if announced is None else announced) > most:
        raise _too_large(most)
    came, whole = 0, False

    async def _receive() -> Message:
        nonlocal came, whole
        if whole:
            return await receive()  # only the end of the line can come now, and that takes as long as it takes
        try:
            async with asyncio.timeout(_QUIET_S):
                message = await receive()
        except TimeoutError as error:
            raise CameTooLate(f"No data arrived for {_QUIET_S:.0f} s.") from error
        came += len(message.get("body", b""))
        whole = message["type"] == "http.disconnect" or not message.get("more_body")
        if most is not None and came > most:
            raise _too_large(most)
        return message

    return _receive


def _most_bytes(scope: Scope) -> int | None:
    """None for what goes straight to a disk: a file, or an archive."""
    if scope["method"] == "PUT":
        return None
    if scope["method"] == "PATCH":
        return _PART_BYTES
    kind = Headers(scope=scope).get("content-type", "").partition(";")[0].strip().lower()
    return _JSON_BYTES if kind == "application/json" else FORM_BYTES


def _too_large(most: int) -> TooLarge:
    return TooLarge(f"You can upload at most {size_text(most)} at once.")


async def sent_bytes(request: Request) -> AsyncIterator[bytes]:
    """What a page sends, in chunks as they come. Raises SendingStopped where it stops before the end."""
    try:
        async for chunk in request.stream():
            if chunk:
                yield chunk
    except ClientDisconnect as error:
        # No ConnectionDropped: that would throw away the line to the server, and with it whatever else it carries.
        raise SendingStopped("The upload stopped before the file was complete.") from error
