"""The servers measured against: OpenSSH's and the FTP stand-in, each a process of its own, each behind a relay."""

from __future__ import annotations

import contextlib
import getpass
import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import asyncssh

NEAR, FAR = "127.0.0.1", "127.0.0.2"
ROUND_TRIP_MS = 40
_PASSIVE_PORTS = 64


@dataclass(frozen=True, slots=True)
class Server:
    """One server: reached at `NEAR` directly, at `FAR` through the relay."""

    port: int
    user: str
    root: Path
    key: str | None = None
    password: str | None = None


def _free_ports(count: int) -> list[int]:
    """Free on both addresses, so that the relay can use the same numbers."""
    held, ports = [], []
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
    """OpenSSH's own server, for the person who runs this, with a key made for it."""
    program = shutil.which("sshd") or "/usr/sbin/sshd"
    home.mkdir(parents=True, exist_ok=True, mode=0o700)
    (port,) = _free_ports(1)
    key, host_key = (asyncssh.generate_private_key("ssh-ed25519") for _ in range(2))
    (home / "host_key").write_bytes(host_key.export_private_key())
    (home / "host_key").chmod(0o600)
    (home / "allowed").write_bytes(key.export_public_key())
    (home / "conf").write_text(
        f"Port {port}\nListenAddress {NEAR}\nHostKey {home}/host_key\nAuthorizedKeysFile {home}/allowed\nPidFile none\n"
        "StrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin yes\nSubsystem sftp internal-sftp\n"
        "MaxStartups 100\nLogLevel ERROR\n"
    )
    if os.getuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True, mode=0o755)
    root = home / "there"
    root.mkdir(exist_ok=True)
    with _running(program, "-D", "-e", "-f", str(home / "conf")), _relayed([port]):
        _wait_for(port)
        yield Server(port, getpass.getuser(), root, key=key.export_private_key().decode())


@contextlib.contextmanager
def ftp(home: Path, tls: str) -> Iterator[Server]:
    """The FTP stand-in; `tls` is "" or "explicit"."""
    root = home / "there"
    root.mkdir(parents=True, exist_ok=True)
    port, *passive = _free_ports(_PASSIVE_PORTS + 1)
    command = (sys.executable, "-m", "bench.ftp_host", str(root), tls or "plain", str(port), *map(str, passive))
    with _running(*command, ready="ready"), _relayed([port, *passive]):
        yield Server(port, "bench", root, password="carry-and-count")


def _wait_for(port: int) -> None:
    for _ in range(100):
        with contextlib.suppress(OSError), socket.create_connection((NEAR, port), 1):
            return
        time.sleep(0.1)
    raise SystemExit("the server never listened")
