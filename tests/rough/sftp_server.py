"""A scripted SFTP server that misbehaves in named ways, over real sockets and a real folder. Another implementation of the
protocol than Nailer's own library speaks on its side.

`FAULTS` says of each misbehaviour what it does; those of the second group strike a bounded number of `times`.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import stat
import threading
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import asyncssh
import paramiko
from paramiko.common import OPEN_SUCCEEDED
from paramiko.message import Message
from paramiko.sftp import (
    CMD_EXTENDED,
    CMD_FSTAT,
    CMD_INIT,
    CMD_VERSION,
    SFTP_FAILURE,
    SFTP_NO_SUCH_FILE,
    SFTP_OK,
    SFTP_OP_UNSUPPORTED,
    SFTP_PERMISSION_DENIED,
)

from nailer.sides.identities.identity import Identity, host_key
from tests.rough.faulty import Faulty

LASTING = {
    "rename-refused": "every rename answers PERMISSION_DENIED",
    "rename-keeps": "a rename onto a taken name answers FAILURE, and posix-rename is not on offer",
    "rename-lies": "every rename answers OK and does nothing",
    "rename-lies-where-taken": "a rename onto a taken name answers OK and does nothing",
    "rename-late": "a rename is carried out a moment after it was answered",
    "rename-eats": "a rename onto a taken name answers FAILURE, and removes what had it",
    "rename-loses": "a rename onto a taken name answers OK, removes the new file and keeps the old one",
    "remove-refused": "REMOVE answers PERMISSION_DENIED",
    "remove-lies": "REMOVE answers OK and removes nothing",
    "remove-late": "REMOVE removes a moment after it was answered",
    "rmdir-lies": "RMDIR answers OK and removes nothing",
    "close-cuts": "every third file of more than a few bytes is cut to half when it is closed, and CLOSE answers OK",
    "close-drops": "every third file of more than a few bytes is removed when it is closed, and CLOSE answers OK",
    "close-fails": "every third CLOSE of more than a few bytes answers FAILURE, and the file is gone",
    "write-corrupts": "every third file of more than a few bytes gets other bytes, with the size and time that were sent",
    "names-only": "READDIR names files and says nothing more of them",
    "sizes-zero-in-lists": "READDIR says a size of 0 of every file, STAT the right one",
    "size-zero-of-nothing": "STAT of a name that does not exist answers an empty file's attributes",
    "missing-as-failure": "what is missing is told as FAILURE",
    "missing-as-denied": "what is missing is told as PERMISSION_DENIED",
    "no-hidden-names": "a name that begins with a dot is refused with FAILURE",
    "no-fstat": "FSTAT answers OP_UNSUPPORTED",
    "no-setstat": "SETSTAT and FSETSTAT answer OP_UNSUPPORTED",
    "setstat-ignored": "SETSTAT and FSETSTAT answer OK and set nothing",
    "version-2": "the server speaks version 2 of the protocol",
    "one-handle": "a second open file of a channel is refused with FAILURE",
    "folds-case": "names that differ by capital letters only are one, and are listed in small letters",
    "lists-through-links": "READDIR shows what a link leads to, and LSTAT the link",
    "looks-through-links": "LSTAT shows what a link leads to, and READDIR the link",
    "readlink-of-all": "READLINK names a place for what is no link, too",
    "no-extensions": "no extension is on offer",
    "reads-refused": "no file may be opened to be read: PERMISSION_DENIED",
    "mkdir-lies": "MKDIR answers OK and makes nothing",
    "umask-077": "new files are for their owner only",
}
STRIKING = {
    "cut-before-rename": "the line is cut at a rename, and nothing was renamed",
    "cut-after-rename": "the line is cut after a rename was carried out",
    "cut-in-write": "the line is cut in the middle of a file",
    "cut-at-close": "the line is cut when a file is closed",
    "full-in-write": "a write answers FAILURE, with no room left",
    "silent-once": "a request is never answered",
}
FAULTS = {**LASTING, **STRIKING}
_MOMENT_S = 0.4
_MORE_BYTES = 10


def _led(place: Path) -> os.stat_result:
    """What a name leads to, or itself where that is nothing."""
    try:
        return os.stat(place)
    except OSError:
        return os.lstat(place)


class RoughSftp(Faulty):
    """Serves `root` to anybody who signs in."""

    def __init__(self, root: Path, faults: Iterable[str] = (), *, times: int = 1) -> None:
        super().__init__(root, set(FAULTS), set(STRIKING), faults, times)
        self.closed = 0
        self._key: Any = paramiko.RSAKey.generate(2048)
        self._lines: set[paramiko.Transport] = set()
        self._socket: socket.socket | None = None
        self._listening: threading.Thread | None = None

    @property
    def identity(self) -> Identity:
        return host_key(asyncssh.import_public_key(f"ssh-rsa {self._key.get_base64()}"))

    async def start(self) -> None:
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        self._listening = threading.Thread(target=self._listen, name="asyncio_rough", daemon=True)
        self._listening.start()

    async def stop(self) -> None:
        assert self._socket is not None
        assert self._listening is not None
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()
        lines = list(self._lines)
        for line in lines:
            line.close()
        await asyncio.to_thread(self._listening.join, 5)
        for line in lines:
            await asyncio.to_thread(line.join, 5)

    async def cut_all(self) -> None:
        """Cut every line that is open."""
        for line in list(self._lines):
            line.close()

    def _listen(self) -> None:
        assert self._socket is not None
        while True:
            try:
                met, _ = self._socket.accept()
            except OSError:
                return
            line = paramiko.Transport(met)
            line.daemon = True
            line.add_server_key(self._key)
            line.set_subsystem_handler("sftp", _Sftp, _Files, self)
            self._lines.add(line)
            with contextlib.suppress(paramiko.SSHException, EOFError):
                line.start_server(event=threading.Event(), server=_Door())


class _Door(paramiko.ServerInterface):
    def check_auth_password(self, username: str, password: str) -> int:
        return paramiko.AUTH_SUCCESSFUL

    def get_allowed_auths(self, username: str) -> str:
        return "password"

    def check_channel_request(self, kind: str, chanid: int) -> int:
        return OPEN_SUCCEEDED


class _Cut(Exception):
    """The line is cut here."""


class _Sftp(paramiko.SFTPServer):
    """Answers requests in their order, as the library does, but for what the host does otherwise."""

    server: _Files

    def _send_server_version(self) -> int:
        kind, _ = self._read_packet()
        assert kind == CMD_INIT
        host = self.server.host
        message = Message()
        message.add_int(2 if host.has("version-2") else 3)
        if not (host.has("no-extensions") or host.has("rename-keeps") or host.has("version-2")):
            message.add_string("posix-rename@openssh.com")
            message.add_string("1")
        self._send_packet(CMD_VERSION, message)
        return 3

    def _process(self, kind: int, number: int, message: Message) -> None:
        host = self.server.host
        if kind != CMD_INIT and host.strikes("silent-once"):
            return
        if kind == CMD_FSTAT and host.has("no-fstat"):
            self._send_status(number, SFTP_OP_UNSUPPORTED)
            return
        if kind == CMD_EXTENDED and host.has("no-extensions"):
            self._send_status(number, SFTP_OP_UNSUPPORTED)
            return
        try:
            if kind == 4 and (code := self._closed(Message(message.asbytes()))) is not None:
                self._send_status(number, code)
                return
            super()._process(kind, number, message)
        except _Cut:
            self.sock.get_transport().close()

    def _closed(self, message: Message) -> int | None:
        """What the end of a file is answered, where the host does otherwise than the library; None where it does not."""
        message.get_int()
        file = self.file_table.pop(message.get_binary(), None)
        return file.ended() if file is not None else None


class _Files(paramiko.SFTPServerInterface):
    def __init__(self, server: paramiko.ServerInterface, host: RoughSftp) -> None:
        super().__init__(server)
        self.host = host
        self.open_files = 0

    def place(self, path: str) -> Path:
        path = os.path.normpath("/" + path)
        if self.host.has("folds-case"):
            path = path.lower()
        return self.host.root / path.lstrip("/")

    def later(self, fault: str, act: Callable[[], object]) -> None:
        """Act now, or in a moment where the host is such a one."""
        if not self.host.has(fault):
            act()
            return

        def _quietly() -> None:
            with contextlib.suppress(OSError):
                act()

        timer = threading.Timer(_MOMENT_S, _quietly)
        timer.name, timer.daemon = "asyncio_moment", True
        timer.start()

    def code(self, error: OSError) -> int:
        """What a failure of the disk is called."""
        if isinstance(error, FileNotFoundError | NotADirectoryError):
            if self.host.has("missing-as-failure"):
                return SFTP_FAILURE
            return SFTP_PERMISSION_DENIED if self.host.has("missing-as-denied") else SFTP_NO_SUCH_FILE
        return SFTP_PERMISSION_DENIED if isinstance(error, PermissionError) else SFTP_FAILURE

    def note(self, *words: object) -> None:
        self.host.log.append(" ".join(map(str, words)))

    def canonicalize(self, path: str) -> str:
        return os.path.normpath("/" + path)

    def list_folder(self, path: str) -> Any:
        place = self.place(path)
        self.note("READDIR", path)
        try:
            names = sorted(os.listdir(place))
            through = self.host.has("lists-through-links")
            found = [self.attributes(_led(place / name) if through else os.lstat(place / name)) for name in names]
        except OSError as error:
            return self.code(error)
        for name, one in zip(names, found, strict=True):
            if self.host.has("sizes-zero-in-lists"):
                one.st_size = 0
            if self.host.has("names-only"):
                one._flags = 0
                one.st_size = one.st_mode = one.st_mtime = one.st_atime = one.st_uid = one.st_gid = None
            one.filename = name
        return found

    def attributes(self, found: os.stat_result) -> Any:
        return paramiko.SFTPAttributes.from_stat(found)

    def stat(self, path: str) -> Any:
        return self._look(path, os.stat)

    def lstat(self, path: str) -> Any:
        return self._look(path, _led if self.host.has("looks-through-links") else os.lstat)

    def _look(self, path: str, how: Callable[[Path], os.stat_result]) -> Any:
        self.note("STAT", path)
        try:
            return self.attributes(how(self.place(path)))
        except OSError as error:
            if isinstance(error, FileNotFoundError) and self.host.has("size-zero-of-nothing"):
                empty = paramiko.SFTPAttributes()
                empty.st_size, empty.st_mode = 0, stat.S_IFREG | 0o644
                empty.st_atime = empty.st_mtime = 0
                empty._flags = empty.FLAG_SIZE | empty.FLAG_PERMISSIONS | empty.FLAG_AMTIME
                return empty
            return self.code(error)

    def open(self, path: str, flags: int, attr: Any) -> Any:
        place = self.place(path)
        self.note("OPEN", path)
        if self.host.has("one-handle") and self.open_files:
            return SFTP_FAILURE
        writes = bool(flags & (os.O_WRONLY | os.O_RDWR))
        if writes and place.name.startswith(".") and self.host.has("no-hidden-names"):
            return SFTP_FAILURE
        if not writes and self.host.has("reads-refused"):
            return SFTP_PERMISSION_DENIED
        try:
            number = os.open(
                place, flags | getattr(os, "O_NOFOLLOW", 0), 0o600 if self.host.has("umask-077") else 0o644
            )
        except OSError as error:
            return self.code(error)
        self.open_files += 1
        return _File(self, place, number, writes=writes)

    def remove(self, path: str) -> int:
        place = self.place(path)
        self.note("REMOVE", path)
        if self.host.has("remove-refused"):
            return SFTP_PERMISSION_DENIED
        return self._done(place, "remove-lies", "remove-late", lambda: os.unlink(place))

    def rmdir(self, path: str) -> int:
        place = self.place(path)
        self.note("RMDIR", path)
        return self._done(place, "rmdir-lies", "", lambda: os.rmdir(place))

    def mkdir(self, path: str, attr: Any) -> int:
        place = self.place(path)
        self.note("MKDIR", path)
        return self._done(place.parent, "mkdir-lies", "", lambda: os.mkdir(place))

    def _done(self, place: Path, lies: str, late: str, act: Callable[[], object]) -> int:
        try:
            os.lstat(place)
            if not self.host.has(lies):
                self.later(late, act)
        except OSError as error:
            return self.code(error)
        return SFTP_OK

    def rename(self, oldpath: str, newpath: str) -> int:
        return self._rename(oldpath, newpath, over=False)

    def posix_rename(self, oldpath: str, newpath: str) -> int:
        return self._rename(oldpath, newpath, over=True)

    def _rename(self, oldpath: str, newpath: str, *, over: bool) -> int:
        host, old, new = self.host, self.place(oldpath), self.place(newpath)
        self.note("RENAME", oldpath, newpath)
        tried = "nailer-try" in old.name
        taken = os.path.lexists(new)
        if host.has("rename-refused"):
            return SFTP_PERMISSION_DENIED
        if new.name.startswith(".") and host.has("no-hidden-names"):
            return SFTP_FAILURE
        if taken and new.is_file() and host.has("rename-eats"):
            new.unlink()
            return SFTP_FAILURE
        if taken and new.is_file() and host.has("rename-loses"):
            old.unlink()
            return SFTP_OK
        if not tried and host.strikes("cut-before-rename"):
            raise _Cut
        if host.has("rename-lies") or (taken and host.has("rename-lies-where-taken")):
            return SFTP_OK
        if taken and not over:
            return SFTP_FAILURE
        try:
            os.lstat(old)
            self.later("rename-late", lambda: os.rename(old, new))
        except OSError as error:
            return self.code(error)
        if not tried and host.strikes("cut-after-rename"):
            raise _Cut
        return SFTP_OK

    def chattr(self, path: str, attr: Any) -> int:
        return self.set(self.place(path), attr)

    def set(self, place: Path, attr: Any) -> int:
        if self.host.has("no-setstat"):
            return SFTP_OP_UNSUPPORTED
        if self.host.has("setstat-ignored"):
            return SFTP_OK
        try:
            if attr._flags & attr.FLAG_PERMISSIONS:
                os.chmod(place, stat.S_IMODE(attr.st_mode))
            if attr._flags & attr.FLAG_AMTIME:
                os.utime(place, (attr.st_atime, attr.st_mtime))
        except OSError as error:
            return self.code(error)
        return SFTP_OK

    def readlink(self, path: str) -> Any:
        try:
            return os.readlink(self.place(path))
        except OSError as error:
            if self.host.has("readlink-of-all") and self.place(path).exists():
                return f"/real{path}"
            return self.code(error)

    def symlink(self, target_path: str, path: str) -> int:
        try:
            os.symlink(target_path, self.place(path))
        except OSError as error:
            return self.code(error)
        return SFTP_OK


class _File(paramiko.SFTPHandle):
    def __init__(self, files: _Files, place: Path, number: int, *, writes: bool) -> None:
        super().__init__()
        self._files, self._place, self._number, self._writes = files, place, number, writes
        self._wrote = 0

    def read(self, offset: int, length: int) -> Any:
        return os.pread(self._number, length, offset)

    def write(self, offset: int, data: bytes) -> int:
        host = self._files.host
        if len(data) > _MORE_BYTES and host.strikes("full-in-write"):
            return SFTP_FAILURE
        if len(data) > _MORE_BYTES and host.strikes("cut-in-write"):
            os.pwrite(self._number, data[: len(data) // 2], offset)
            raise _Cut
        self._wrote += os.pwrite(self._number, data, offset)
        return SFTP_OK

    def stat(self) -> Any:
        return self._files.attributes(os.fstat(self._number))

    def chattr(self, attr: Any) -> int:
        return self._files.set(self._place, attr)

    def close(self) -> None:
        if self._number >= 0:
            os.close(self._number)
            self._number = -1
            self._files.open_files -= 1

    def ended(self) -> int:
        """Close, as the host does it."""
        host = self._files.host
        self.close()
        if not (self._writes and self._wrote > _MORE_BYTES):
            return SFTP_OK
        host.closed += 1
        if host.strikes("cut-at-close"):
            raise _Cut
        if host.closed % 3 == 0:
            with contextlib.suppress(OSError):
                if host.has("close-cuts"):
                    os.truncate(self._place, self._place.stat().st_size // 2)
                if host.has("close-drops") or host.has("close-fails"):
                    self._place.unlink()
            if host.has("write-corrupts"):
                was = self._place.stat()
                self._place.write_bytes(b"?" * was.st_size)
                os.utime(self._place, (was.st_atime, was.st_mtime))
            if host.has("close-fails"):
                return SFTP_FAILURE
        return SFTP_OK


def wait_a_moment() -> None:
    """Until what a server does late is done."""
    time.sleep(2 * _MOMENT_S)
