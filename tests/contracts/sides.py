"""Every kind of side, each with an empty folder to work in, made by one fixture."""

from __future__ import annotations

import contextlib
import os
from collections.abc import AsyncIterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from nailer.core.connecting.protocol import Protocol
from nailer.core.files.charset import UTF8
from nailer.core.files.sitepath import SitePath
from nailer.sides.connection import Connection, ConnectionOptions, Lane, SignIn, Wanted
from nailer.sides.connection_log import ConnectionLog
from nailer.sides.dial import Endpoint
from nailer.sides.here import HereSide
from nailer.sides.identities.certificate import identity_of_pem
from nailer.sides.identities.identity import Identity, host_key
from nailer.sides.memory import MemorySide
from nailer.sides.reach import reach
from nailer.sides.side import Side
from nailer.standins.certificates import make_certificate
from nailer.standins.ftp import FtpHost
from nailer.standins.sftp import SftpHost

HOST = "ftp.mosslane.example"


@dataclass
class Ground:
    """A side and an empty folder in it. `local` is that folder on this machine's disk, where it has one. `lacks` are
    the things this kind of side cannot do, by the words the contract uses."""

    side: Side
    top: SitePath
    local: Path | None
    lacks: frozenset[str] = frozenset()

    async def link(self, path: SitePath, target: bytes) -> None:
        """A link, made by the side or, where it cannot, behind its back."""
        if "links" not in self.lacks:
            await self.side.make_link(path, target)
            return
        assert self.local is not None
        below = path.below(self.top) or ()
        os.symlink(target, os.path.join(os.fsencode(self.local), *below))


@contextlib.asynccontextmanager
async def memory(tmp_path: Path) -> AsyncIterator[Ground]:
    yield Ground(MemorySide(), SitePath(), None)


@contextlib.asynccontextmanager
async def here(tmp_path: Path) -> AsyncIterator[Ground]:
    root = tmp_path / "root"
    root.mkdir()
    yield Ground(HereSide({b"studio": root}), SitePath((b"studio",)), root)


@contextlib.asynccontextmanager
async def sftp(tmp_path: Path) -> AsyncIterator[Ground]:
    root = tmp_path / "root"
    root.mkdir()
    async with an_sftp_side(root) as (side, _):
        yield Ground(side, SitePath(), root)


@contextlib.asynccontextmanager
async def an_sftp_side(root: Path) -> AsyncIterator[tuple[Side, SftpHost]]:
    """A connected side over a real socket, and the host it is connected to."""
    host = SftpHost(root, "seedlib", "sow-and-reap", hashes=True)
    await host.start()
    connection = await reach(wanted(host))
    try:
        yield await connection.channel(Lane.BROWSE), host
    finally:
        await connection.close()
        await host.stop()


@contextlib.asynccontextmanager
async def ftp(tmp_path: Path) -> AsyncIterator[Ground]:
    async with an_ftp_ground(tmp_path) as ground:
        yield ground


@contextlib.asynccontextmanager
async def ftp_tls(tmp_path: Path) -> AsyncIterator[Ground]:
    async with an_ftp_ground(tmp_path, tls="explicit", demands_reuse=True) as ground:
        yield ground


@contextlib.asynccontextmanager
async def ftp_implicit(tmp_path: Path) -> AsyncIterator[Ground]:
    async with an_ftp_ground(tmp_path, tls="implicit", shows_links=False) as ground:
        yield ground


@contextlib.asynccontextmanager
async def ftp_old(tmp_path: Path) -> AsyncIterator[Ground]:
    """LIST only, and nothing newer than RFC 959."""
    async with an_ftp_ground(tmp_path, old=True) as ground:
        ground.lacks |= {"attributes"}
        yield ground


@contextlib.asynccontextmanager
async def an_ftp_ground(tmp_path: Path, *, old: bool = False, **manners: Any) -> AsyncIterator[Ground]:
    root = tmp_path / "root"
    root.mkdir()
    host = an_ftp_host(root, tmp_path, old=old, hashes=not old, **manners)
    async with connected(host) as connection:
        lacks = frozenset({"links", "line breaks", "own link looks"})
        yield Ground(await connection.channel(Lane.BROWSE), SitePath(), root, lacks)


def an_ftp_host(root: Path, tmp_path: Path, *, old: bool = False, **manners: Any) -> FtpHost:
    certificate = tmp_path / "certificate.pem"
    if manners.get("tls") and not certificate.exists():
        make_certificate(certificate, HOST)
    if old:
        return FtpHost.old_fashioned(root, "seedlib", "sow-and-reap", **manners)
    return FtpHost(root, "seedlib", "sow-and-reap", certificate=certificate, **manners)


@contextlib.asynccontextmanager
async def connected(host: FtpHost | SftpHost, **more: Any) -> AsyncIterator[Connection]:
    """A running host and a signed-in connection to it."""
    await host.start()
    try:
        connection = await reach(wanted(host, **more))
        try:
            yield connection
        finally:
            await connection.close()
    finally:
        await host.stop()


def wanted(host: FtpHost | SftpHost, **more: Any) -> Wanted:
    """What it takes to connect to a stand-in whose identity is known."""
    manner = {
        name: more.pop(name) for name in ("passive", "old_allowed", "charset", "most", "offset_s") if name in more
    }
    return Wanted(
        more.pop("protocol", protocol_of(host)),
        more.pop("where", endpoint(host)),
        more.pop("sign_in", SignIn("seedlib", "sow-and-reap")),
        more.pop("pinned", (shown_key(host),)),
        ConnectionOptions(**({"charset": UTF8} | manner)),
        more.pop("log", ConnectionLog()),
        **more,
    )


def protocol_of(host: FtpHost | SftpHost) -> Protocol:
    if isinstance(host, SftpHost):
        return Protocol.SFTP
    return {"explicit": Protocol.FTP_TLS, "implicit": Protocol.FTP_IMPLICIT}.get(host.tls, Protocol.FTP)


def endpoint(host: FtpHost | SftpHost) -> Endpoint:
    return Endpoint(HOST, protocol_of(host).port, host.address, host.port)


def shown_key(host: FtpHost | SftpHost) -> Identity:
    if isinstance(host, SftpHost):
        return host_key(host.host_key.convert_to_public())
    if not host.tls or host.certificate is None:
        return Identity("none", "", "")
    return identity_of_pem(host.certificate.read_text().partition("-----END PRIVATE KEY-----\n")[2])


KINDS = {
    "memory": memory,
    "here": here,
    "sftp": sftp,
    "ftp": ftp,
    "ftp-tls": ftp_tls,
    "ftp-implicit": ftp_implicit,
    "ftp-old": ftp_old,
}
