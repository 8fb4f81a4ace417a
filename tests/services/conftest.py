"""A web server for the world's site."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import AsyncIterator

import pytest
import uvicorn

from nailer.standins.pages import Pages
from tests.world import World


@pytest.fixture
async def pages(world: World) -> AsyncIterator[Pages]:
    """The world's site answered by the stand-in web server, styles held by a cache for a minute; http leads to https."""
    bound, plain = socket.socket(), socket.socket()
    for one in (bound, plain):
        one.bind(("127.0.0.1", 0))
    place = bound.getsockname()
    pages = Pages({place: world.there}, held_s={place: 60}, leads_on={plain.getsockname()})
    server = uvicorn.Server(uvicorn.Config(pages, log_level="warning", lifespan="off"))
    server.install_signal_handlers = lambda: None  # type: ignore[attr-defined]
    with contextlib.suppress(AttributeError):
        server.capture_signals = contextlib.nullcontext  # type: ignore[method-assign]
    serving = asyncio.create_task(server.serve(sockets=[bound, plain]))
    for name in ("mosslane.example", "www.mosslane.example"):
        world.nailer.settings.routes[f"{name}:443"] = f"127.0.0.1:{place[1]}"
        world.nailer.settings.routes[f"{name}:80"] = f"127.0.0.1:{plain.getsockname()[1]}"
    yield pages
    server.should_exit = True
    await serving
    bound.close()
    plain.close()
