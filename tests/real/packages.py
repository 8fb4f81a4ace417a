"""Debian's own servers, unpacked below the working tree and never installed: no service of the machine is touched.

Two of the packages cannot be installed beside each other, and installing one would start it for everybody. So the packages
are only downloaded, with the libraries that are missing, and unpacked into a folder of their own.
"""

from __future__ import annotations

import fcntl
import os
import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path

_PLACE = Path(__file__).parent.parent.parent / ".venv" / "real-servers"
# Every package that brings a program is named: what a machine has already is not fetched as something needed.
_SETS = (
    ("vsftpd",),
    ("proftpd-core", "proftpd-mod-crypto"),
    ("openssh-server", "openssh-sftp-server"),
    ("dropbear-bin", "libtomcrypt1", "libtommath1"),
)
_DONE = "unpacked-5"


@dataclass(frozen=True)
class Programs:
    """Where the unpacked servers lie. `environment` lets them find the libraries that came along."""

    root: Path

    @property
    def sshd(self) -> Path:
        return self.root / "usr/sbin/sshd"

    @property
    def sftp_server(self) -> Path:
        return self.root / "usr/lib/openssh/sftp-server"

    @property
    def dropbear(self) -> Path:
        return self.root / "usr/sbin/dropbear"

    @property
    def dropbear_key(self) -> Path:
        return self.root / "usr/bin/dropbearkey"

    @property
    def vsftpd(self) -> Path:
        return self.root / "usr/sbin/vsftpd"

    @property
    def proftpd(self) -> Path:
        return self.root / "usr/sbin/proftpd"

    @property
    def proftpd_modules(self) -> Path:
        return self.root / "usr/lib/proftpd"

    @property
    def environment(self) -> dict[str, str]:
        libraries = [str(one) for one in sorted(self.root.glob("*/lib/*-linux-gnu")) + sorted(self.root.glob("lib/*"))]
        return {**os.environ, "LD_LIBRARY_PATH": ":".join(libraries)}


def programs() -> Programs:
    """The unpacked servers; fetched where they are missing. Several test processes may ask at once."""
    _PLACE.mkdir(parents=True, exist_ok=True)
    with open(_PLACE / "lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (_PLACE / _DONE).exists():
            _fetch()
            (_PLACE / _DONE).touch()
    return Programs(_PLACE / "root")


def _fetch() -> None:
    archives = _PLACE / "archives"
    shutil.rmtree(_PLACE / "root", ignore_errors=True)
    (archives / "partial").mkdir(parents=True, exist_ok=True)
    if any(_download(archives, names) for names in _SETS):
        # The machine's lists of packages are old, or there are none yet.
        subprocess.run(as_root("apt-get", "update", "-qq"), check=True, capture_output=True)
        for names in _SETS:
            if failed := _download(archives, names):
                raise AssertionError(f"{' '.join(names)} could not be fetched: {failed}")
    for package in sorted(archives.glob("*.deb")):
        subprocess.run(["dpkg", "-x", package, _PLACE / "root"], check=True)
    found = Programs(_PLACE / "root")
    for program in (found.sshd, found.sftp_server, found.vsftpd, found.proftpd, found.dropbear):
        assert program.exists(), f"no package that was fetched brings {program.name}"


def _download(archives: Path, names: tuple[str, ...]) -> str:
    """Fetch packages with what they need and the machine lacks; return what went wrong, or nothing.

    `--reinstall` fetches those, too, that the machine happens to have: the tests then run the same on every machine.
    """
    command = ["apt-get", "install", "--yes", "--no-install-recommends", "--download-only", "--reinstall"]
    options = ["-o", f"Dir::Cache::archives={archives}", "-o", "APT::Sandbox::User=root"]
    done = subprocess.run(as_root(*command, *options, *names), capture_output=True, text=True, check=False)
    return "" if done.returncode == 0 else done.stderr.strip()[-300:]


def as_root(*command: str) -> list[str]:
    """The command as root: directly, or by sudo."""
    return list(command) if os.geteuid() == 0 else ["sudo", "-n", *command]
