"""A private MariaDB: its own data folder, a socket that only this user reaches, a new password at each start.

It listens on a free port of 127.0.0.1, too, but Nailer never goes there: a process that takes that port after a crash
must not be taken for the database. The socket is in a folder of mode 0700, and whoever answers there has to be the very
process that was started.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import secrets
import shutil
import signal
import socket
import struct
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import structlog

from nailer.ending import check
from nailer.errors import SetupFailed
from nailer.private import own_folder, write_own_file
from nailer.store.address import DatabaseAddress
from nailer.store.mariadb_accounts import DATABASE, DatabaseAccounts

_log = structlog.get_logger()

_START_WITHIN_S = 60.0
# InnoDB comes back whole from a kill; a person who pressed Ctrl-C does not wait for more.
_STOP_WITHIN_S = 3.0
_LEFTOVER_WITHIN_S = 30.0
_LONGEST_SOCKET = 100  # a unix socket's path may have 107 bytes at most (unix(7))
_UCRED = struct.Struct("3i")  # pid, uid and gid of the process behind a socket (unix(7), SO_PEERCRED)
_AGAIN_AFTER_S = 0.3
_PR_SET_PDEATHSIG = 1


class PrivateMariaDB:
    """A MariaDB server that lives and dies with this process. `start()` returns its address.

    `closed` names the accounts, as user@host, that an older installation still had and that this start dropped.
    """

    def __init__(self, home: Path, *, durable: bool = True) -> None:
        self._home = home / "mariadb"
        self._data = self._home / "data"
        # A folder of its own: a server that starts clears away what it takes for leftovers in a shared one.
        self._scratch = self._home / "scratch"
        self._secret = self._home / "password"
        self._log = self._home / "log"
        self._durable = durable
        self._accounts = DatabaseAccounts.of_this_user()
        self._process: subprocess.Popen[bytes] | None = None
        self._stopping = threading.Event()
        self._watcher: threading.Thread | None = None
        self._short: Path | None = None
        self.closed: tuple[str, ...] = ()

    def start(self) -> str:
        """Start the server, made first where there is none. Raises SetupFailed in words that say what to do."""
        _check_programs()
        try:
            own_folder(self._home)
            self._end_leftover()
            is_new = self._make_data()
            at = self._socket()
        except OSError as error:
            raise SetupFailed(f"The data folder {self._home} cannot be used: {error.strerror}.") from error
        password = secrets.token_urlsafe(32)
        write_own_file(self._secret, password)
        for _ in range(3):
            if self._launch(at, password):
                closed = self._seen(at, password)
                self.closed = () if is_new else closed
                self._watcher = threading.Thread(target=self._watch, args=(at, password), daemon=True, name="mariadb")
                self._watcher.start()
                return str(self._address(at, password))
        raise SetupFailed(f"Nailer's own MariaDB does not start. {self._last_words()}")

    def running(self) -> str | None:
        """The address of the server of this home where a Nailer runs it now; None where nobody does."""
        with contextlib.suppress(OSError, ValueError, StopIteration):
            pid = int((self._home / "pid").read_text())
            words = Path(f"/proc/{pid}/cmdline").read_bytes().split(b"\0")
            if Path(f"/proc/{pid}").stat().st_uid == os.geteuid() and f"--datadir={self._data}".encode() in words:
                at = next(os.fsdecode(word.partition(b"=")[2]) for word in words if word.startswith(b"--socket="))
                if _who_answers(at) == pid:
                    return str(self._address(at, self._secret.read_text().strip()))
        return None

    def _address(self, at: str, password: str) -> DatabaseAddress:
        return DatabaseAddress(self._accounts.own, password, "localhost", 3306, DATABASE, socket=at)

    def _seen(self, at: str, password: str) -> tuple[str, ...]:
        """The accounts that were closed. Raises SetupFailed, the server ended, where one is left open."""
        try:
            return self._accounts.seen(self._address(at, password))
        except SetupFailed:
            self._end()
            raise

    def _socket(self) -> str:
        """Where the server's socket is, in a folder that only this user may enter. Raises OSError."""
        folder = self._home / "run"
        if len(os.fsencode(folder / "socket")) < _LONGEST_SOCKET:
            own_folder(folder)
        else:
            folder = self._short = Path(tempfile.mkdtemp(prefix="nailer-"))
        return str(folder / "socket")

    def stop(self) -> None:
        """End the server and wait for it."""
        self._stopping.set()
        self._end()
        if self._watcher is not None:
            self._watcher.join()
        if self._short is not None:
            shutil.rmtree(self._short, ignore_errors=True)

    def _end(self) -> None:
        process, self._process = self._process, None
        if process is None:
            return
        process.terminate()
        try:
            process.wait(_STOP_WITHIN_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()

    def _watch(self, at: str, password: str) -> None:
        """Start the server again, on the same socket, where it ends without being told to."""
        while (process := self._process) is not None:
            process.wait()
            if self._stopping.wait(_AGAIN_AFTER_S):
                return
            _log.warning("the private MariaDB ended by itself and is started again", status=process.returncode)
            if self._launch(at, password):
                with contextlib.suppress(SetupFailed):  # it was ended, and is started once more
                    self._seen(at, password)

    @property
    def pid(self) -> int | None:
        """The server's process; None where it is not started."""
        return self._process.pid if self._process else None

    def _make_data(self) -> bool:
        """Make the data folder where there is none; True where it was made. Raises SetupFailed, OSError."""
        ready = self._home / "made"
        if ready.exists():
            return False
        # A first start that was killed half-way leaves a folder that no server can use.
        shutil.rmtree(self._data, ignore_errors=True)
        self._data.mkdir(parents=True)
        self._scratch.mkdir(exist_ok=True)
        status, said = _installed(
            [
                "mariadb-install-db",
                "--no-defaults",
                f"--datadir={self._data}",
                f"--tmpdir={self._scratch}",
                "--auth-root-authentication-method=socket",
                f"--auth-root-socket-user={self._accounts.by_hand or 'root'}",
                "--skip-test-db",
                *_as_user(),
            ]
        )
        if status != 0:
            words = said.decode(errors="replace").strip().splitlines()
            told = next((line for line in words if "ERROR" in line or "No space" in line), words[-1] if words else "")
            full = "error 28" in told or "No space" in told
            hint = "The disk is full. Free up space, then start Nailer again." if full else f"It says: {told}"
            raise SetupFailed(f"MariaDB cannot make its data folder {self._data}. {hint}")
        ready.touch()
        return True

    def _launch(self, at: str, password: str) -> bool:
        self._scratch.mkdir(exist_ok=True)
        first = self._home / "first.sql"
        write_own_file(first, self._accounts.statements(password))
        with open(self._log, "ab") as log:
            self._process = subprocess.Popen(
                [
                    "mariadbd",
                    "--no-defaults",
                    f"--datadir={self._data}",
                    f"--tmpdir={self._scratch}",
                    f"--port={_free_port()}",
                    "--bind-address=127.0.0.1",
                    f"--socket={at}",
                    f"--pid-file={self._home / 'pid'}",
                    f"--init-file={first}",
                    "--skip-name-resolve",
                    "--skip-log-bin",
                    "--character-set-server=utf8mb4",
                    "--collation-server=utf8mb4_bin",
                    "--innodb-buffer-pool-size=128M",
                    "--innodb-log-file-size=64M",
                    "--max-allowed-packet=64M",
                    f"--innodb-flush-log-at-trx-commit={1 if self._durable else 0}",
                    *_as_user(),
                ],
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                # Ctrl-C goes to us; we end the server after everything that uses it.
                start_new_session=True,
                umask=0o077,
                preexec_fn=die_with_parent(),
            )
        return self._answers(at)

    def _answers(self, at: str) -> bool:
        """True once the process that was started greets at the socket, and nobody else."""
        deadline = time.monotonic() + _START_WITHIN_S
        while time.monotonic() < deadline and not self._stopping.is_set():
            check()
            process = self._process
            if process is None or process.poll() is not None:
                return False
            if _who_answers(at) == process.pid:
                return True
            time.sleep(0.05)
        self._end()
        return False

    def _end_leftover(self) -> None:
        """End a server that a killed Nailer left behind: only one whose command line names our data folder."""
        with contextlib.suppress(OSError, ValueError):
            pid = int((self._home / "pid").read_text())
            command = Path(f"/proc/{pid}/cmdline").read_bytes()
            if f"--datadir={self._data}".encode() not in command.split(b"\0"):
                return
            os.kill(pid, signal.SIGTERM)
            deadline = time.monotonic() + _LEFTOVER_WITHIN_S
            while Path(f"/proc/{pid}").exists() and time.monotonic() < deadline:
                time.sleep(0.05)

    def _last_words(self) -> str:
        try:
            lines = self._log.read_text(errors="replace").splitlines()
        except OSError:
            return ""
        errors = [line for line in lines[-60:] if "[ERROR]" in line]
        if any("No space left" in line or "errno: 28" in line.lower() for line in errors):
            return "The disk is full. Free up space, then start Nailer again."
        return f"Its log {self._log} ends with: {errors[-1] if errors else (lines[-1] if lines else 'nothing')}"


def _who_answers(at: str) -> int | None:
    """The process that greets at a socket; None where nobody does."""
    with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
        line.settimeout(5)
        line.connect(at)
        if line.recv(1):
            pid: int = _UCRED.unpack(line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, _UCRED.size))[0]
            return pid
    return None


def _installed(command: list[str]) -> tuple[int, bytes]:
    """Run a program to its end; return its status and its words. It ends with us where we are told to stop."""
    process = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, umask=0o077, start_new_session=True
    )
    try:
        while True:
            check()
            with contextlib.suppress(subprocess.TimeoutExpired):
                out, errors = process.communicate(timeout=0.1)
                return process.returncode, errors or out
    except BaseException:
        # The program is a script: what it started ends with it.
        os.killpg(process.pid, signal.SIGKILL)
        process.communicate()
        raise


def _check_programs() -> None:
    for program in ("mariadbd", "mariadb-install-db"):
        if shutil.which(program) is None:
            raise SetupFailed(f"{program} is not installed. Start Nailer with ./nailer, which installs it.")


def _as_user() -> list[str]:
    """MariaDB runs as root only when told so by name."""
    return ["--user=root"] if os.geteuid() == 0 else []


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


def die_with_parent() -> Callable[[], None]:
    """For `preexec_fn`: the kernel ends the child when its parent dies, however it dies (prctl(2))."""
    libc = ctypes.CDLL(None)

    def _ask() -> None:
        libc.prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)

    return _ask
