"""Real hosting servers as private processes on loopback: OpenSSH, dropbear, vsftpd and ProFTPD (FTP and SFTP), in whatever
configuration a test asks.

Each runs in a mount namespace of its own, with its own users, passwords and PAM rules laid over the machine's: the
machine's files are not changed, and nothing is left of it once the process has ended.
"""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import asyncssh

from nailer.core.connecting.protocol import Protocol
from nailer.sides.identities.certificate import identity_of_pem
from nailer.sides.identities.identity import Identity, host_key
from nailer.standins.certificates import make_certificate
from tests.real.packages import Programs, as_root, programs

HOST = "ftp.mosslane.example"
USER, PASSWORD = "seedlib", "sow-and-reap"
UID = 4711
_DROPBEARS_SFTP = b"/usr/lib/sftp-server"
# `sow-and-reap` by SHA-512 crypt, so that the tests need no program that computes it.
_HASH = "$6$mosslane$7bu/BbK.EvTENLk2LOHgw.fDLQQQiQsEoe7ZzhK4nhAaXPuB87HaCsLTRRcaIfLeRgG2SFY6.YuOFXPCbxR.L0"
_MOUNTS = """
set -e
for name in passwd shadow group pam.d; do mount --bind "$0/etc/$name" "/etc/$name"; done
mount -t tmpfs -o mode=755 tmpfs /run
mkdir -m 755 /run/sshd /run/empty /run/jail
[ ! -f "$0/sftp-server" ] || cp "$0/sftp-server" /run/sftp-server
[ ! -d "$0/jail/home/second-disk" ] || mount -t tmpfs -o uid=4711,gid=4711,mode=755 tmpfs "$0/jail/home/second-disk"
mount --rbind "$0/jail" /run/jail
exec "$@"
"""


@dataclass
class RealHost:
    """A running server. `root` is what a person who signs in sees as `/`; `home` is the account's own folder in it."""

    name: str
    protocol: Protocol
    port: int
    root: Path
    place: Path
    identity: Identity
    home: Path
    address: str = "127.0.0.1"
    process: subprocess.Popen[bytes] | None = field(default=None, repr=False)

    @property
    def log(self) -> str:
        return (self.place / "log").read_text(errors="replace")


@contextlib.contextmanager
def openssh(place: Path, *lines: str, chroot: bool = False, second_disk: bool = False) -> Iterator[RealHost]:
    """OpenSSH's server. `lines` go before the usual configuration: in it the first word on a matter counts. With
    `second_disk` the home holds a folder of that name on a file system of its own."""
    found = programs()
    home = _prepare(place)
    if second_disk:
        (home / "second-disk").mkdir()
    key = asyncssh.generate_private_key("ssh-ed25519")
    _secret(place / "host_key", key.export_private_key("openssh"))
    port = _free_port()
    usual = [
        f"Port {port}",
        "ListenAddress 127.0.0.1",
        f"HostKey {place}/host_key",
        f"AuthorizedKeysFile {place}/authorized_keys",
        "StrictModes no",
        "UsePAM yes",
        "KbdInteractiveAuthentication no",
        "PasswordAuthentication yes",
        f"PidFile {place}/pid",
        "MaxStartups 100:30:200",
        "LogLevel VERBOSE",
    ]
    own = f"Subsystem sftp {found.sftp_server}" if not chroot else "Subsystem sftp internal-sftp"
    jail = ["ChrootDirectory /run/jail", "ForceCommand internal-sftp"] if chroot else []
    written = [*lines, *usual, *([] if any(one.startswith("Subsystem") for one in lines) else [own]), *jail]
    (place / "config").write_text("\n".join(written) + "\n")
    top = place / "jail" if chroot else Path("/")
    host = RealHost("openssh", Protocol.SFTP, port, top, place, host_key(key.convert_to_public()), home=home)
    with _running(host, found, str(found.sshd), "-D", "-e", "-f", str(place / "config")):
        yield host


@contextlib.contextmanager
def dropbear(place: Path, *options: str, sftp: bool = True) -> Iterator[RealHost]:
    """Another SSH server, with OpenSSH's SFTP program behind it, or with none."""
    found = programs()
    home = _prepare(place)
    # The program has one place for the SFTP program compiled in, where this machine need not have one.
    own = found.dropbear.read_bytes()
    assert own.count(_DROPBEARS_SFTP) == 1
    (place / "dropbear").write_bytes(
        own.replace(_DROPBEARS_SFTP, b"/run/sftp-server".ljust(len(_DROPBEARS_SFTP), b"\0"))
    )
    (place / "dropbear").chmod(0o755)
    if sftp:
        shutil.copy(found.sftp_server, place / "sftp-server")
    made = subprocess.run(
        [found.dropbear_key, "-t", "ed25519", "-f", place / "host_key"],
        env=found.environment,
        capture_output=True,
        check=True,
        text=True,
    )
    public = next(line for line in made.stdout.splitlines() if line.startswith("ssh-ed25519 "))
    port = _free_port()
    key = asyncssh.import_public_key(public)
    host = RealHost("dropbear", Protocol.SFTP, port, Path("/"), place, host_key(key), home=home)
    command = (str(place / "dropbear"), "-F", "-E", "-m", "-p", f"127.0.0.1:{port}", "-r", str(place / "host_key"))
    with _running(host, found, *command, *options):
        yield host


@contextlib.contextmanager
def vsftpd(place: Path, *lines: str, tls: str = "") -> Iterator[RealHost]:
    """vsftpd, `tls` being '', 'explicit' or 'implicit'. Later lines count."""
    found = programs()
    home = _prepare(place)
    (place / "empty").mkdir()
    port = _free_port()
    usual = [
        "listen=YES",
        "listen_address=127.0.0.1",
        f"listen_port={port}",
        "background=NO",
        "anonymous_enable=NO",
        "local_enable=YES",
        "write_enable=YES",
        "check_shell=NO",
        "pam_service_name=hosting",
        "chroot_local_user=YES",
        "allow_writeable_chroot=YES",
        f"secure_chroot_dir={place}/empty",
        "seccomp_sandbox=NO",
        "local_umask=022",
        "chmod_enable=YES",
        "mdtm_write=YES",
        "use_localtime=NO",
        "xferlog_enable=NO",
        "pasv_address=127.0.0.1",
    ]
    if tls:
        usual += [
            "ssl_enable=YES",
            f"rsa_cert_file={place}/certificate.pem",
            "force_local_data_ssl=YES",
            "force_local_logins_ssl=YES",
            "ssl_ciphers=HIGH",
            f"implicit_ssl={'YES' if tls == 'implicit' else 'NO'}",
        ]
    # It takes no blanks at all, and refuses a line it does not know.
    (place / "config").write_text("\n".join([*usual, *lines]) + "\n")
    os.chown(place / "config", 0, 0)
    host = RealHost("vsftpd", _protocol(tls), port, home, place, _certificate(place, tls), home)
    with _running(host, found, str(found.vsftpd), str(place / "config")):
        yield host


@contextlib.contextmanager
def proftpd(
    place: Path, *lines: str, tls: str = "", modules: tuple[str, ...] = (), sftp: bool = False
) -> Iterator[RealHost]:
    """ProFTPD, `tls` being '', 'explicit' or 'implicit'; with `sftp` its own SFTP server instead of FTP."""
    found = programs()
    home = _prepare(place)
    port = _free_port()
    users = place / "users"
    _secret(users, f"{USER}:{_HASH}:{UID}:{UID}::{home}:/bin/sh\n".encode())
    _secret(place / "groups", f"{USER}:x:{UID}:\n".encode())
    of_its_own = [*(["mod_tls"] if tls else []), *(["mod_sftp"] if sftp else [])]
    loads = [f"LoadModule {name}.c" for name in (*of_its_own, *modules)]
    key = asyncssh.generate_private_key("ssh-rsa") if sftp else None
    if key is not None:
        _secret(place / "host_key", key.export_private_key("pkcs1-pem"))
    usual = [
        f"ModulePath {found.proftpd_modules}",
        *loads,
        'ServerName "Moss Lane"',
        "ServerType standalone",
        f"Port {port}",
        "DefaultAddress 127.0.0.1",
        "SocketBindTight on",
        "UseIPv6 off",
        "UseReverseDNS off",
        f"PidFile {place}/pid",
        f"ScoreboardFile {place}/scoreboard",
        f"DelayTable {place}/delay",
        f"SystemLog {place}/system-log",
        "TransferLog none",
        "WtmpLog off",
        f"User {USER}",
        f"Group {USER}",
        "AuthOrder mod_auth_file.c",
        f"AuthUserFile {users}",
        f"AuthGroupFile {place}/groups",
        "RequireValidShell off",
        "AuthPAM off",
        f"DefaultRoot {home}",
        "AllowOverwrite on",
        "AllowStoreRestart on",
        "AllowRetrieveRestart on",
        "Umask 022",
        "MaxInstances 60",
        "DefaultServer on",
    ]
    if tls:
        options = ["TLSOptions UseImplicitSSL"] if tls == "implicit" else []
        usual += [
            "<IfModule mod_tls.c>",
            "TLSEngine on",
            "TLSRequired on",
            f"TLSRSACertificateFile {place}/certificate.pem",
            f"TLSRSACertificateKeyFile {place}/certificate.pem",
            *options,
            "</IfModule>",
        ]
    if key is not None:
        usual += [
            "SFTPEngine on",
            f"SFTPHostKey {place}/host_key",
            "SFTPAuthMethods password",
            f"SFTPLog {place}/sftp-log",
        ]
    (place / "config").write_text("\n".join([*usual, *lines]) + "\n")
    identity = _certificate(place, tls) if key is None else host_key(key.convert_to_public())
    host = RealHost("proftpd", Protocol.SFTP if sftp else _protocol(tls), port, home, place, identity, home)
    with _running(host, found, str(found.proftpd), "-n", "-c", str(place / "config")):
        yield host


def authorized(host: RealHost, key: asyncssh.SSHKey) -> None:
    """Let a private key in."""
    (host.place / "authorized_keys").write_bytes(key.export_public_key())


def give(*paths: Path) -> None:
    """Make files that a test put there the account's own, as they would be on a host."""
    for top in paths:
        for one in (top, *top.rglob("*")) if top.is_dir() and not top.is_symlink() else (top,):
            os.chown(one, UID, UID, follow_symlinks=False)


def _prepare(place: Path) -> Path:
    """The account's folder, and the files that are laid over the machine's."""
    place.mkdir(parents=True, exist_ok=True)
    for one in (place, *place.parents):
        if one != Path("/") and one.stat().st_uid == os.geteuid() and not one.stat().st_mode & 0o001:
            one.chmod(one.stat().st_mode | 0o011)  # the account must get through to its folder
    home = place / "jail" / "home"
    home.mkdir(parents=True)
    give(home)
    own = place / "etc"
    own.mkdir()
    users = {"root": 0, "nobody": 65534, "sshd": 4710, "ftp": 4709, USER: UID}
    (own / "passwd").write_text(
        "".join(f"{name}:x:{uid}:{uid}::{home if uid == UID else '/'}:/bin/sh\n" for name, uid in users.items())
    )
    (own / "group").write_text("".join(f"{name}:x:{uid}:\n" for name, uid in {**users, "nogroup": 65534}.items()))
    _secret(own / "shadow", f"root:*:19000::::::\n{USER}:{_HASH}:19000:0:99999:7:::\n".encode())
    rules = own / "pam.d"
    rules.mkdir()
    for name in ("sshd", "hosting", "other"):
        kinds = ("auth", "account", "password", "session")
        (rules / name).write_text(
            "".join(f"{kind} required {'pam_permit.so' if kind == 'session' else 'pam_unix.so'}\n" for kind in kinds)
        )
    return home


def _secret(file: Path, content: bytes) -> None:
    file.touch(mode=0o600)
    file.write_bytes(content)


def _protocol(tls: str) -> Protocol:
    return {"explicit": Protocol.FTP_TLS, "implicit": Protocol.FTP_IMPLICIT}.get(tls, Protocol.FTP)


def _certificate(place: Path, tls: str) -> Identity:
    if not tls:
        return Identity("none", "", "")
    file = place / "certificate.pem"
    make_certificate(file, HOST)
    return identity_of_pem(file.read_text().partition("-----END PRIVATE KEY-----\n")[2])


def _free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        port: int = one.getsockname()[1]
        return port


@contextlib.contextmanager
def _running(host: RealHost, found: Programs, *command: str) -> Iterator[None]:
    """The server, from when its port answers until it is ended with everything it started."""
    private = as_root("unshare", "--mount", "--propagation", "private", "sh", "-c", _MOUNTS, str(host.place), *command)
    with open(host.place / "log", "wb") as log:
        host.process = subprocess.Popen(
            private, env=found.environment, stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True
        )
    try:
        _wait_for(host, shlex.join(command))
        yield
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(host.process.pid, signal.SIGTERM)
        _end(host.process)


def _wait_for(host: RealHost, command: str) -> None:
    assert host.process is not None
    deadline = time.monotonic() + 30
    while time.monotonic() < deadline:
        if host.process.poll() is not None:
            raise AssertionError(f"{command} ended: {host.log[-600:]}")
        with contextlib.suppress(OSError), socket.create_connection((host.address, host.port), 1):
            return
        time.sleep(0.02)
    raise AssertionError(f"{command} does not answer: {host.log[-600:]}")


def _end(process: subprocess.Popen[bytes]) -> None:
    try:
        process.wait(3)
    except subprocess.TimeoutExpired:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait(5)
