"""A hosting server for FTP: plain, with explicit or implicit TLS, and with the manners that real ones have.

The server library runs its own loop, so each host lives in a thread of its own.
"""

from __future__ import annotations

import asyncio
import hashlib
import logging
import os
import stat
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

from OpenSSL import SSL
from pyftpdlib.authorizers import AuthenticationFailed, DummyAuthorizer
from pyftpdlib.filesystems import AbstractedFS
from pyftpdlib.handlers import DTPHandler, FTPHandler, TLS_DTPHandler, TLS_FTPHandler
from pyftpdlib.ioloop import IOLoop
from pyftpdlib.servers import FTPServer

from nailer.standins.faults import Healthy

logging.getLogger("pyftpdlib").setLevel(logging.CRITICAL)

_MODERN = ("MLSD", "MLST", "MFMT", "MDTM", "SIZE", "FEAT", "OPTS", "EPSV", "EPRT")


@dataclass
class FtpHost:
    """One server with one account. `fault` may be changed while it runs.

    `tls` is "", "explicit" or "implicit". `lacks` are commands it does not know. `clock_ahead_s` is what the clock of
    its listings is ahead of UTC. `quota_bytes` is the account's allowance. `passive_address` is what it says in PASV.
    """

    root: Path
    user: str
    password: str = field(repr=False)
    tls: str = ""
    certificate: Path | None = None
    lacks: tuple[str, ...] = ()
    demands_reuse: bool = False
    shows_links: bool = True
    dos_listing: bool = False
    clock_ahead_s: int = 0
    quota_bytes: int | None = None
    passive_address: str | None = None
    most_lines: int = 0
    refuses_first: int = 0
    refuses_files: bool = False
    refuses_dots: bool = False
    hashes: bool = False
    address: str = "127.0.0.1"
    port: int = 0
    passive_ports: list[int] | None = None
    fault: Healthy = field(default_factory=Healthy)
    sign_ins: int = 0
    commands: list[str] = field(default_factory=list)
    cut_listing: bool = False
    reused: list[bool] = field(default_factory=list)

    @classmethod
    def old_fashioned(cls, root: Path, user: str, password: str, **more: Any) -> FtpHost:
        """A server that knows nothing later than RFC 959."""
        return cls(root, user, password, lacks=(*_MODERN, "SITE CHMOD"), **more)

    async def start(self) -> int:
        """Listen; return the port."""
        await asyncio.to_thread(self._start)
        return self.port

    async def stop(self) -> None:
        await asyncio.to_thread(self._stop)

    def cut(self) -> None:
        """Cut every line that is open now."""
        self._loop.call_later(0, self._cut_all)

    def used_bytes(self) -> int:
        files = (Path(folder) / name for folder, _, names in os.walk(self.root) for name in names)
        return sum(file.lstat().st_size for file in files)

    def _start(self) -> None:
        self._loop = IOLoop()
        kind = _handler(self)
        self._server = FTPServer((self.address, self.port), kind, ioloop=self._loop)
        self._server.max_cons_per_ip = self.most_lines
        self.port = self._server.address[1]
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._run, name=f"ftp-{self.port}", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        while not self._ending.is_set():
            self._loop.loop(timeout=0.05, blocking=False)
        self._server.close_all()

    def _stop(self) -> None:
        self._ending.set()
        self._thread.join(10)

    def _cut_all(self) -> None:
        for one in list(self._loop.socket_map.values()):
            if isinstance(one, FTPHandler | DTPHandler):
                one.close()


class _Account(DummyAuthorizer):  # type: ignore[misc]
    """The one account; its fault may refuse it."""

    def __init__(self, host: FtpHost) -> None:
        super().__init__()
        self._host = host
        self.add_user(host.user, host.password, os.fspath(host.root), perm="elradfmwMT")

    def validate_authentication(self, username: str, password: str, handler: object) -> None:
        host = self._host
        if username != host.user or password != host.password or not host.fault.lets_in(username):
            raise AuthenticationFailed("login incorrect")
        host.sign_ins += 1


class _Files(AbstractedFS):  # type: ignore[misc]
    """Names as bytes whatever they are; links shown as links, as most servers do."""

    host: FtpHost

    def listdir(self, path: str) -> list[str]:
        names = sorted(os.fsdecode(name) for name in os.listdir(os.fsencode(path)))
        most = self.host.fault.most_names
        self.host.cut_listing = most is not None and len(names) > most
        return names[:most]

    def format_mlsx(
        self, basedir: str, listing: list[str], perms: str, facts: Any, ignore_err: bool = True
    ) -> Iterator[bytes]:
        for name in listing:
            target = _target(os.path.join(basedir, name))
            if self.host.shows_links and target is not None:
                yield f"type=OS.unix=slink:{target}; {name}\r\n".encode("utf-8", "surrogateescape")
                continue
            for line in super().format_mlsx(basedir, [name], perms, {*facts, "unix.mode"}, ignore_err):
                yield _unbroken(line)

    def format_list(self, basedir: str, listing: list[str], ignore_err: bool = True) -> Iterator[bytes]:
        for name in listing:
            path = os.path.join(basedir, name)
            found = os.lstat(path)
            when = time.gmtime(found.st_mtime + self.host.clock_ahead_s)
            yield _list_line(name, found, when, _target(path), dos=self.host.dos_listing)


def _unbroken(line: bytes) -> bytes:
    """A name with a line break in it would end its line early; servers show a question mark."""
    return line[:-2].replace(b"\r", b"?").replace(b"\n", b"?") + line[-2:]


def _list_line(name: str, found: os.stat_result, when: time.struct_time, target: str | None, *, dos: bool) -> bytes:
    shown = name.replace("\r", "?").replace("\n", "?")
    if dos:
        size = "<DIR>" if stat.S_ISDIR(found.st_mode) else str(found.st_size)
        text = f"{time.strftime('%m-%d-%y  %I:%M%p', when)} {size:>14} {shown}\r\n"
    else:
        old = time.time() - found.st_mtime > 180 * 86_400
        date = time.strftime("%b %d  %Y" if old else "%b %d %H:%M", when)
        arrow = f" -> {target}" if target is not None else ""
        text = f"{stat.filemode(found.st_mode)} 1 web www {found.st_size:>9} {date} {shown}{arrow}\r\n"
    return text.encode("utf-8", "surrogateescape")


def _target(path: str) -> str | None:
    try:
        return os.readlink(path)
    except OSError:
        return None


class _Manners(FTPHandler):  # type: ignore[misc]
    """What a host's settings and faults change about the library's handler."""

    host: FtpHost
    encoding = "utf8"
    unicode_errors = "surrogateescape"
    auth_failed_timeout = 0.05
    use_gmt_times = True
    banner = "files ready"
    use_sendfile = False  # a fault must see every byte pass
    _extra_feats: list[str]

    def push(self, data: str) -> None:
        # The library's own cannot send names that are no text.
        super(FTPHandler, self).push(data.encode("utf-8", "surrogateescape"))

    def ftp_FEAT(self, line: str) -> None:
        if self.host.quota_bytes is not None and "AVBL" not in (*self._extra_feats, *self.host.lacks):
            self._extra_feats = [*self._extra_feats, "AVBL"]
        if self.host.hashes and "XSHA256" not in self._extra_feats:
            self._extra_feats = [*self._extra_feats, "XSHA256"]
        super().ftp_FEAT(line)

    def handle(self) -> None:
        if self.host.refuses_first > 0:
            self.host.refuses_first -= 1
            self.respond("421 Come back in a moment.")
            self.close_when_done()
            return
        super().handle()

    def pre_process_command(self, line: str, cmd: str, arg: str) -> None:
        self.host.commands.append(cmd if cmd == "PASS" else line)
        verb = f"SITE {arg.split(' ')[0].upper()}" if cmd == "SITE" and arg else cmd
        if verb in self.host.lacks:
            self.respond(f"500 '{verb}': command not understood.")
            return
        if cmd in self.host.fault.refuses:
            self.respond(f"550 {cmd} is not allowed on this server.")
            return
        if self.host.fault.delay_s:
            self.ioloop.call_later(self.host.fault.delay_s, super().pre_process_command, line, cmd, arg)
            return
        super().pre_process_command(line, cmd, arg)

    def ftp_STOR(self, file: str, mode: str = "w") -> Any:
        if self.host.refuses_files:
            self.respond("550 Sorry.")
            return None
        if self.host.refuses_dots and os.path.basename(file).startswith("."):
            self.respond("553 Prohibited file name.")
            return None
        return super().ftp_STOR(file, mode)

    def ftp_XSHA256(self, path: str) -> None:
        self.respond(f"250 {hashlib.sha256(Path(path).read_bytes()).hexdigest().upper()}")

    def ftp_AVBL(self, line: str) -> None:
        allowance = self.host.quota_bytes
        if allowance is None:
            self.respond("502 No allowance is set.")
            return
        self.respond(f"213 {max(0, allowance - self.host.used_bytes())}")

    def ftp_SITE_QUOTA(self, line: str) -> None:
        allowance = self.host.quota_bytes
        if allowance is None:
            self.respond("202 No quota in effect.")
            return
        used = self.host.used_bytes() / 1024**2
        self.push("200-The quota of this account, used/allowed:\r\n")
        self.push(f"200-  Uploaded Mb:\t{used:.2f}/{allowance / 1024**2:.2f}\r\n")
        self.respond("200 Contact your host for more.")


class _Data(DTPHandler):  # type: ignore[misc]
    """A data channel that a fault can cut, and that knows a full account."""

    def send(self, data: bytes) -> int:
        self._watch(len(data))
        sent: int = super().send(data)
        return sent

    def handle_read(self) -> None:
        host = self.cmd_channel.host
        before = self.tot_bytes_received
        allowance, at = host.quota_bytes, getattr(self, "_used", None)
        if allowance is not None and at is None:
            self._used = host.used_bytes()
        super().handle_read()
        count = self.tot_bytes_received - before
        try:
            host.fault.check_room(count)
            full = allowance is not None and self._used + self.tot_bytes_received > allowance
        except OSError:
            full = True
        if full and not self._closed:
            self._resp = ("552 Transfer aborted. Disk quota exceeded.", lambda *_: None)
            self.close()
            return
        self._watch(count)

    handle_read_event = handle_read

    def close(self) -> None:
        host = self.cmd_channel.host
        if host.cut_listing and self._resp and self._resp[0].startswith("226"):
            host.cut_listing = False
            self._resp = (f"226 Output truncated to {host.fault.most_names} matches.", *self._resp[1:])
        super().close()

    def _watch(self, count: int) -> None:
        host = self.cmd_channel.host
        if count and not host.fault.on_bytes(count):
            host.cut()


class _TlsData(_Data, TLS_DTPHandler):  # type: ignore[misc]
    def handle_ssl_established(self) -> None:
        host = self.cmd_channel.host
        # The library has no public word for this.
        reused = bool(SSL._lib.SSL_session_reused(self.socket._ssl))  # type: ignore[attr-defined]
        host.reused.append(reused)
        if host.demands_reuse and not reused:
            self._resp = ("522 SSL connection failed: session reuse required.", lambda *_: None)
            self.close()
            return
        super().handle_ssl_established()


class _TlsManners(_Manners, TLS_FTPHandler):  # type: ignore[misc]
    tls_control_required = True
    tls_data_required = True


class _ImplicitManners(_TlsManners):
    def handle(self) -> None:
        self.secure_connection(self.ssl_context)

    def handle_ssl_established(self) -> None:
        super().handle()


def _handler(host: FtpHost) -> type[FTPHandler]:
    base: type[FTPHandler] = _Manners
    data: type[DTPHandler] = _Data
    extra: dict[str, Any] = {}
    if host.tls:
        base = _ImplicitManners if host.tls == "implicit" else _TlsManners
        data = _TlsData
        extra["ssl_context"] = _context(os.fspath(host.certificate or ""))
    commands = dict(base.proto_cmds)
    if host.hashes:
        commands["XSHA256"] = {"perm": "r", "auth": True, "arg": True, "help": "Syntax: XSHA256 <SP> path."}
    commands["AVBL"] = {"perm": None, "auth": True, "arg": None, "help": "Syntax: AVBL [<SP> path]."}
    commands["SITE QUOTA"] = {"perm": None, "auth": True, "arg": False, "help": "Syntax: SITE QUOTA."}
    extra["proto_cmds"] = {name: one for name, one in commands.items() if name not in host.lacks}
    files = type("_HostFiles", (_Files,), {"host": host})
    extra |= {
        "host": host,
        "authorizer": _Account(host),
        "abstracted_fs": files,
        "dtp_handler": type("_HostData", (data,), {}),
        "masquerade_address": host.passive_address,
        "passive_ports": host.passive_ports,
    }
    made: type[FTPHandler] = type("_HostHandler", (base,), extra)
    return made


@lru_cache(maxsize=32)
def _context(certificate: str) -> SSL.Context:
    context = SSL.Context(SSL.TLS_SERVER_METHOD)
    context.use_certificate_chain_file(certificate)
    context.use_privatekey_file(certificate)
    context.set_session_id(b"nailer stand-in")
    context.set_session_cache_mode(SSL.SESS_CACHE_SERVER)
    return context
