"""The side contract on real servers. Each server is started once for all tests, which get a folder of their own."""

from __future__ import annotations

import contextlib
import itertools
import shutil
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import AbstractContextManager, ExitStack
from functools import partial
from pathlib import Path
from typing import Any

from nailer.core.files.charset import UTF8
from nailer.core.files.sitepath import SitePath
from nailer.sides.connection import Connection, ConnectionOptions, Lane, SignIn, Wanted
from nailer.sides.dial import Endpoint
from nailer.sides.reach import reach
from tests.contracts.sides import Ground
from tests.real.servers import HOST, PASSWORD, USER, RealHost, dropbear, give, openssh, proftpd, vsftpd

_FTP_LACKS = frozenset({"links", "line breaks", "own link looks"})

_WRITTEN_OUT = frozenset({"own link targets"})
_NO_EXTENSIONS = "SFTPExtensions -checkFile -copyFile -vendorID -versionSelect -fsync -posixRename -statvfs -hardlink"

# Every configuration: how it is started, and what it cannot do by the contract's words.
CONFIGURATIONS: dict[str, tuple[Callable[[Path], AbstractContextManager[RealHost]], frozenset[str]]] = {
    "openssh": (openssh, frozenset()),
    "openssh-chroot": (partial(openssh, chroot=True), frozenset()),
    "openssh-one-session": (lambda place: openssh(place, "MaxSessions 1"), frozenset()),
    "dropbear": (dropbear, frozenset()),
    "proftpd-sftp": (partial(proftpd, sftp=True), _WRITTEN_OUT),
    "proftpd-sftp-bare": (lambda place: proftpd(place, _NO_EXTENSIONS, sftp=True), _WRITTEN_OUT | {"replacing"}),
    "proftpd-sftp-no-overwrite": (
        lambda place: proftpd(place, "AllowOverwrite off", sftp=True),
        _WRITTEN_OUT,
    ),
    "vsftpd": (vsftpd, _FTP_LACKS),
    "vsftpd-tls": (lambda place: vsftpd(place, "require_ssl_reuse=YES", tls="explicit"), _FTP_LACKS),
    "vsftpd-implicit": (lambda place: vsftpd(place, "local_umask=077", tls="implicit"), _FTP_LACKS),
    "proftpd": (proftpd, _FTP_LACKS),
    "proftpd-tls": (lambda place: proftpd(place, "Umask 027", tls="explicit"), _FTP_LACKS),
    "proftpd-no-overwrite": (lambda place: proftpd(place, "AllowOverwrite off"), _FTP_LACKS),
}


class RealHosts:
    """The real servers of a test session, started when they are first asked for."""

    def __init__(self, place: Path) -> None:
        self._place = place
        self._stack = ExitStack()
        self._running: dict[str, RealHost] = {}
        self._numbers = itertools.count(1)

    def get(self, kind: str) -> RealHost:
        if kind not in self._running:
            start, _ = CONFIGURATIONS[kind]
            self._running[kind] = self._stack.enter_context(start(self._place / kind))
        return self._running[kind]

    @contextlib.contextmanager
    def folder(self, kind: str) -> Iterator[tuple[RealHost, Path]]:
        """A running server and a new folder of the account's in it."""
        host = self.get(kind)
        folder = host.home / f"ground-{next(self._numbers)}"
        folder.mkdir()
        give(folder)
        try:
            yield host, folder
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def close(self) -> None:
        self._stack.close()


def wanted_of(host: RealHost, **manner: Any) -> Wanted:
    """What it takes to connect to a real server whose identity is known."""
    sign_in = manner.pop("sign_in", SignIn(USER, PASSWORD))
    where = Endpoint(HOST, host.protocol.port, host.address, host.port)
    return Wanted(host.protocol, where, sign_in, (host.identity,), ConnectionOptions(**({"charset": UTF8} | manner)))


def path_of(host: RealHost, folder: Path) -> SitePath:
    """A folder of the disk as the server has it."""
    return SitePath.parse(b"/" + str(folder.relative_to(host.root)).encode())


@contextlib.asynccontextmanager
async def connected_to(host: RealHost, **manner: Any) -> AsyncIterator[Connection]:
    connection = await reach(wanted_of(host, **manner))
    try:
        yield connection
    finally:
        await connection.close()


@contextlib.asynccontextmanager
async def real_ground(hosts: RealHosts, kind: str) -> AsyncIterator[Ground]:
    with hosts.folder(kind) as (host, folder):
        async with connected_to(host) as connection:
            side = await connection.channel(Lane.BROWSE)
            yield Ground(side, path_of(host, folder), folder, CONFIGURATIONS[kind][1])
