"""A hosting server for SFTP: a folder of its own as its root, password and key, modes and times kept."""

from __future__ import annotations

import asyncio
import hashlib
import os
import sys
import time
from asyncio.subprocess import PIPE
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import asyncssh
from asyncssh.packet import String
from asyncssh.sftp import SFTPServerHandler

from nailer.sides.sftp.meeting import one_time_code
from nailer.standins.faults import CutListing, Healthy

_Challenge = tuple[str, str, str, list[tuple[str, bool]]]


@dataclass
class SftpHost:
    """One server with one account. Starts on a free port of `address`; `fault` may be changed while it runs.

    With `one_time_secret`, `question` (what it asks, and the right answer) or `password_by_question` it signs people in
    by asking them (keyboard-interactive): the password first, then the rest. `algorithms` narrows what it speaks. With
    `hashes` it answers check-file-name. With `most_read_bytes` it answers a read with no more than that.
    """

    root: Path
    user: str
    password: str | None = field(default=None, repr=False)
    authorized_key: str | None = None
    host_key: asyncssh.SSHKey = field(default_factory=lambda: asyncssh.generate_private_key("ssh-ed25519"))
    address: str = "127.0.0.1"
    port: int = 0
    fault: Healthy = field(default_factory=Healthy)
    one_time_secret: str = ""
    question: tuple[str, str] = ("", "")
    password_by_question: bool = False
    algorithms: dict[str, list[str]] = field(default_factory=dict)
    shell: bool = False
    hashes: bool = False
    most_read_bytes: int = 0
    open_files: int = 0
    sign_ins: int = 0
    requests: int = 0
    bytes_passed: int = 0

    async def start(self) -> int:
        """Listen; return the port."""
        self._acceptor = await asyncssh.listen(
            self.address,
            self.port,
            server_host_keys=[self.host_key],
            server_factory=lambda: _Door(self),
            sftp_factory=lambda channel: _Files(channel, self),
            process_factory=self._run,
            encoding=None,
            reuse_address=True,
            **({"encryption_algs": ["aes128-gcm@openssh.com", "aes256-ctr"]} | self.algorithms),
        )
        self.port = self._acceptor.get_port()
        return self.port

    async def stop(self) -> None:
        self._acceptor.close()
        for connection in list(self._connections):
            connection.abort()
        await self._acceptor.wait_closed()

    def cut(self) -> None:
        """Cut every line that is open now."""
        for connection in list(self._connections):
            connection.abort()

    async def _run(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        """A command of the account, begun in its root, as its shell would: with nothing of this machine's environment."""
        if not self.shell:
            process.stdout.write(b"This service allows sftp connections only.\n")
            process.exit(1)
            return
        environment = {"PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin", "HOME": os.fspath(self.root)}
        running = await asyncio.create_subprocess_exec(
            "/bin/sh",
            "-c",
            process.command or "exit 1",
            cwd=self.root,
            env=environment,
            stdin=PIPE,
            stdout=PIPE,
            stderr=PIPE,
        )
        out, err = await running.communicate(await process.stdin.read())
        process.stdout.write(out)
        process.stderr.write(err)
        process.exit(running.returncode or 0)

    _connections: set[asyncssh.SSHServerConnection] = field(default_factory=set)


class _Door(asyncssh.SSHServer):
    def __init__(self, host: SftpHost) -> None:
        self._host = host
        self._connection: asyncssh.SSHServerConnection | None = None

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        self._connection = conn
        self._host._connections.add(conn)

    def connection_lost(self, exc: Exception | None) -> None:
        self._host.fault.line_lost()
        if self._connection is not None:
            self._host._connections.discard(self._connection)

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return self._host.password is not None and not self._asks

    @property
    def _asks(self) -> list[tuple[str, Callable[[str], bool]]]:
        """The questions, each with what tells a right answer."""
        host = self._host
        asks: list[tuple[str, Callable[[str], bool]]] = []
        if host.one_time_secret or host.question[0] or host.password_by_question:
            asks.append(("Password: ", lambda text: text == host.password))
        if host.one_time_secret:
            asks.append(("Verification code: ", self._is_code))
        if host.question[0]:
            asks.append((host.question[0], lambda text: text == host.question[1]))
        return asks

    def _is_code(self, text: str) -> bool:
        """The code of now or of the half minute before."""
        now_s = time.time()
        return text in (one_time_code(self._host.one_time_secret, at_s) for at_s in (now_s, now_s - 30))

    def kbdint_auth_supported(self) -> bool:
        return bool(self._asks)

    def get_kbdint_challenge(self, username: str, lang: str, submethods: str) -> _Challenge:
        self._asked = 0
        return ("", "Please sign in.", "", [(self._asks[0][0], False)])

    def validate_kbdint_response(self, username: str, responses: Sequence[str]) -> _Challenge | bool:
        asks = self._asks
        if username != self._host.user or len(responses) != 1 or not asks[self._asked][1](responses[0]):
            return False
        self._asked += 1
        if self._asked == len(asks):
            return self._let_in(username)
        return ("", "One more thing.", "", [(asks[self._asked][0], False)])

    def validate_password(self, username: str, password: str) -> bool:
        host = self._host
        if username != host.user or password != host.password:
            return False
        return self._let_in(username)

    def public_key_auth_supported(self) -> bool:
        return self._host.authorized_key is not None

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        host = self._host
        if username != host.user or host.authorized_key is None:
            return False
        wanted = asyncssh.import_public_key(host.authorized_key)
        return key.public_data == wanted.public_data and self._let_in(username)

    def auth_completed(self) -> None:
        self._host.sign_ins += 1

    def _let_in(self, username: str) -> bool:
        return self._host.fault.lets_in(username)


class _Files(asyncssh.SFTPServer):
    """The files of a host below its root, with the host's fault in every request."""

    def __init__(self, channel: asyncssh.SSHServerChannel[bytes], host: SftpHost) -> None:
        super().__init__(channel, chroot=os.fsencode(host.root))
        self._host = host
        if not host.fault.opens():
            channel.get_connection().abort()

    @property
    def hashes(self) -> bool:
        return self._host.hashes

    async def hash_of(self, path: bytes, algorithm: str) -> bytes:
        await self._request()
        content = await asyncio.to_thread(Path(os.fsdecode(self.map_path(path))).read_bytes)
        return hashlib.new(algorithm, content).digest()

    async def _request(self) -> None:
        self._host.requests += 1
        await self._host.fault.before_request()

    def _bytes_pass(self, count: int) -> None:
        self._host.bytes_passed += count
        if not self._host.fault.on_bytes(count):
            self.channel.get_connection().abort()
            raise asyncssh.SFTPConnectionLost("cut")

    async def open(self, path: bytes, pflags: int, attrs: asyncssh.SFTPAttrs) -> object:
        await self._request()
        opened = super().open(path, pflags, attrs)
        self._host.open_files += 1
        return opened

    def close(self, file_obj: object) -> None:
        self._host.open_files -= 1
        super().close(file_obj)

    async def lstat(self, path: bytes) -> os.stat_result | asyncssh.SFTPAttrs:
        await self._request()
        found = super().lstat(path)
        return await found if isinstance(found, Awaitable) else found

    def readlink(self, path: bytes) -> bytes:
        """The link's own text, as most servers send it."""
        return os.readlink(self.map_path(path))

    async def read(self, file_obj: object, offset: int, size: int) -> bytes:
        await self._request()
        most = self._host.most_read_bytes or size
        data: bytes = super().read(file_obj, offset, min(size, most))  # type: ignore[assignment]
        self._bytes_pass(len(data))
        return data

    async def write(self, file_obj: object, offset: int, data: bytes) -> int:
        await self._request()
        self._host.fault.check_room(len(data))
        self._bytes_pass(len(data))
        return super().write(file_obj, offset, data)  # type: ignore[return-value]

    async def scandir(self, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        await self._request()
        fault = self._host.fault
        fault.check_listing(path)
        names = 0
        async for name in super().scandir(path):
            names += name.filename not in (b".", b"..")
            if isinstance(fault, CutListing) and path.rstrip(b"/").endswith(fault.folder) and names > fault.most:
                return
            yield name


@dataclass(frozen=True, slots=True)
class _Checked:
    """The answer to `check-file-name` (draft-ietf-secsh-filexfer-13, 9.1.2)."""

    algorithm: bytes
    value: bytes

    def encode(self, _: int) -> bytes:
        return String(b"check-file") + String(self.algorithm) + self.value


async def _check_file(handler: Any, packet: Any) -> _Checked:
    """The library's server has no place for extensions of others: this one is put among its own."""
    files, path, algorithms = handler._server, packet.get_string(), packet.get_string().split(b",")
    if not isinstance(files, _Files) or not files.hashes:
        raise asyncssh.SFTPOpUnsupported("Unsupported request type: check-file-name")
    chosen = next((one for one in algorithms if one in (b"sha256", b"sha1", b"md5")), None)
    if chosen is None:
        raise asyncssh.SFTPFailure("None of these algorithms.")
    return _Checked(chosen, await files.hash_of(path, chosen.decode()))


SFTPServerHandler._packet_handlers[b"check-file-name"] = _check_file
SFTPServerHandler._return_types[b"check-file-name"] = 201
