"""Dialled sockets: who closes them where a server is gone before the first word."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import os
import select
import socket
import struct
import threading
from collections.abc import Awaitable, Callable, Iterator
from typing import Any

import asyncssh
import pytest

from nailer.sides.dial import taken_over
from nailer.sides.ftp.tls import client_context, encrypted


@contextlib.contextmanager
def resets_at_once() -> Iterator[tuple[str, int]]:
    """A server that takes one line and resets it before a word is said."""

    def serve() -> None:
        line, _ = listener.accept()
        line.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        line.close()

    with socket.create_server(("127.0.0.1", 0)) as listener:
        server = threading.Thread(target=serve)
        server.start()
        yield listener.getsockname()
        server.join()


async def _by_tls(made: socket.socket) -> Any:
    return await encrypted(made, client_context(old_allowed=False), None, limit=4096)


async def _by_ssh(made: socket.socket) -> Any:
    with taken_over(made):
        return await asyncssh.connect("nobody.example", sock=made, known_hosts=None, config=None)


@pytest.mark.parametrize("taken_by", [_by_tls, _by_ssh])
async def test_a_socket_that_the_loop_has_closed_is_not_closed_again(
    taken_by: Callable[[socket.socket], Awaitable[Any]],
) -> None:
    with resets_at_once() as address:
        made = socket.create_connection(address)
        number = made.fileno()
        told = select.poll()
        told.register(made, select.POLLERR)
        assert told.poll(5000), "the reset has come"

        with pytest.raises(ConnectionResetError):
            await taken_by(made)

    # Somebody else has that number by now.
    source = os.open(os.devnull, os.O_RDONLY)
    other = source if source == number else os.dup2(source, number)
    try:
        del made
        gc.collect()
        await asyncio.sleep(0)
        assert os.fstat(other).st_rdev == os.stat(os.devnull).st_rdev
    finally:
        for one in {other, source}:
            os.close(one)


async def test_a_socket_that_nobody_took_is_closed() -> None:
    one, other = socket.socketpair()
    with other:
        with pytest.raises(ValueError, match="no taker"), taken_over(one):
            raise ValueError("no taker")
        assert other.recv(1) == b"", "its other end has heard"
