"""The servers measured against: OpenSSH's and the FTP stand-in, each a process of its own, each behind a relay."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from tests.real import servers as real

NEAR, FAR = "127.0.0.1", "127.0.0.2"
ROUND_TRIP_MS = 40
_PASSIVE_PORTS = 64


@dataclass(frozen=True, slots=True)
class Server:
    """One server: reached at `NEAR` directly, at `FAR` through the relay."""

    port: int
    user: str
    root: Path
    password: str


def _free_ports(count: int) -> list[int]:
    """Free on both addresses, so that the relay can use the same numbers."""
    held: list[socket.socket] = []
    ports: list[int] = []
    while len(ports) < count:
        one, other = socket.socket(), socket.socket()
        one.bind((NEAR, 0))
        port = one.getsockname()[1]
        with contextlib.suppress(OSError):
            other.bind((FAR, port))
            ports.append(port)
        held += [one, other]
    for each in held:
        each.close()
    return ports


@contextlib.contextmanager
def _running(*command: str, ready: str = "") -> Iterator[None]:
    process = subprocess.Popen(command, stdout=subprocess.PIPE if ready else None, text=True)
    try:
        if ready and process.stdout is not None and process.stdout.readline().strip() != ready:
            raise SystemExit(f"{command[0]} did not start")
        yield
    finally:
        process.terminate()
        process.wait(10)


@contextlib.contextmanager
def _relayed(ports: list[int]) -> Iterator[None]:
    half = str(ROUND_TRIP_MS / 2)
    with _running(sys.executable, "-m", "bench.relay", half, *map(str, ports), ready="ready"):
        yield


@contextlib.contextmanager
def openssh(home: Path) -> Iterator[Server]:
    """OpenSSH's own server, as the tests meet it: with an account of its own, and nothing installed for it."""
    with real.openssh(home, "Subsystem sftp internal-sftp") as host, _relayed([host.port]):
        yield Server(host.port, real.USER, host.home, real.PASSWORD)


@contextlib.contextmanager
def ftp(home: Path, tls: str) -> Iterator[Server]:
    """The FTP stand-in; `tls` is "" or "explicit"."""
    root = home / "there"
    root.mkdir(parents=True, exist_ok=True)
    port, *passive = _free_ports(_PASSIVE_PORTS + 1)
    command = (sys.executable, "-m", "bench.ftp_host", str(root), tls or "plain", str(port), *map(str, passive))
    with _running(*command, ready="ready"), _relayed([port, *passive]):
        yield Server(port, "bench", root, "carry-and-count")
