"""The encryption of FTP lines: what is heard where everything comes at once, and where the line is gone."""

from __future__ import annotations

import asyncio
import contextlib
import socket
import ssl
import struct
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from nailer.sides.ftp.tls import client_context, encrypted
from nailer.standins.certificates import make_certificate


@contextlib.contextmanager
def speaks_and_goes(certificate: Path, words: bytes) -> Iterator[tuple[str, int]]:
    """A server that sends the end of its handshake, its words and its farewell in one piece, and is gone before any of
    that is looked at."""
    loop, held, gone = asyncio.get_running_loop(), threading.Event(), threading.Event()

    def hold() -> None:
        held.set()
        gone.wait(5)

    make_certificate(certificate, "localhost")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate)
    context.maximum_version = ssl.TLSVersion.TLSv1_2  # its handshake ends with the server's word (RFC 5246, 7.3)

    def serve() -> None:
        line, _ = listener.accept()
        incoming, outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
        tls = context.wrap_bio(incoming, outgoing, server_side=True)
        with line:
            while True:
                try:
                    tls.do_handshake()
                    break
                except ssl.SSLWantReadError:
                    if sent := outgoing.read():
                        line.sendall(sent)
                    incoming.write(line.recv(65536))
            tls.write(words)
            with contextlib.suppress(ssl.SSLWantReadError):
                tls.unwrap()
            loop.call_soon_threadsafe(hold)
            held.wait(5)
            line.sendall(outgoing.read())
            line.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        gone.set()

    with socket.create_server(("127.0.0.1", 0)) as listener:
        server = threading.Thread(target=serve)
        server.start()
        yield listener.getsockname()
        server.join()


@pytest.mark.parametrize("from_the_start", [True, False])
async def test_words_that_come_with_the_end_of_the_handshake_and_of_the_line_are_heard(
    tmp_path: Path, from_the_start: bool
) -> None:
    with speaks_and_goes(tmp_path / "certificate.pem", b"421 Too many guests.\r\n") as address:
        made = socket.socket()
        made.setblocking(False)
        await asyncio.get_running_loop().sock_connect(made, address)
        plain = None if from_the_start else (await asyncio.open_connection(sock=made))[1]

        reader, writer = await encrypted(
            plain.transport if plain else made, client_context(old_allowed=False), None, limit=4096
        )

        assert await reader.read() == b"421 Too many guests.\r\n"
        writer.transport.abort()


async def test_a_line_that_is_gone_is_not_encrypted() -> None:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        _, writer = await asyncio.open_connection(*listener.getsockname())
        writer.transport.abort()

        with pytest.raises(ConnectionResetError):
            await encrypted(writer.transport, client_context(old_allowed=False), None, limit=4096)
