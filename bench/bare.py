"""The same work with nothing but the library: its own defaults, and its best settings. No safe write, no verifying."""

from __future__ import annotations

import contextlib
import ftplib
import os
import ssl
from collections.abc import AsyncIterator
from pathlib import Path

import asyncssh

from bench.servers import NEAR, Server

_BLOCK = 256 * 1024


@contextlib.asynccontextmanager
async def sftp(server: Server, address: str, *, best: bool = False) -> AsyncIterator[asyncssh.SFTPClient]:
    tuned = (
        {"window": 16 * 2**20, "max_pktsize": 262_000, "encryption_algs": ["aes128-gcm@openssh.com"]} if best else {}
    )
    async with (
        asyncssh.connect(
            address,
            server.port,
            username=server.user,
            password=server.password,
            client_keys=None,
            known_hosts=None,
            config=None,
            **tuned,
        ) as connection,
        connection.start_sftp_client() as client,
    ):
        yield client


async def sftp_big(server: Server, address: str, file: Path, *, up: bool, best: bool) -> None:
    """One file with the library's own transfer; `best`: its best settings, else its defaults."""
    requests = 64 if best else -1  # -1: the library's default
    async with sftp(server, address, best=best) as client:
        there = os.fsencode(server.root / "big.bin")
        if up:
            await client.put(os.fsencode(file), there, max_requests=requests)
        else:
            await client.get(there, os.fsencode(file), max_requests=requests)


async def sftp_small(server: Server, address: str, folder: Path, share: float) -> None:
    """Files one call after another, as a careful script would: a temporary name, permissions and time, a rename."""
    files = sorted(one for one in folder.rglob("*") if one.is_file())
    files = files[: max(1, round(len(files) * share))]
    async with sftp(server, address) as client:
        made = set()
        for file in files:
            parent = server.root / file.parent.relative_to(folder)
            if parent not in made:
                made.add(parent)
                await client.makedirs(os.fsencode(parent), exist_ok=True)
            there = os.fsencode(server.root / file.relative_to(folder))
            part = there + b".part"
            async with client.open(part, "wb") as out:
                await out.write(file.read_bytes())
            status = file.stat()
            await client.setstat(part, asyncssh.SFTPAttrs(permissions=0o644, atime=0, mtime=int(status.st_mtime)))
            await client.posix_rename(part, there)


async def sftp_tree(server: Server, address: str, folders: float) -> None:
    """Read folders one after another, as many as are asked for."""
    waiting, read = [os.fsencode(server.root)], 0
    async with sftp(server, address) as client:
        while waiting and read < folders:
            folder = waiting.pop()
            read += 1
            names = await client.readdir(folder)
            below = [name.filename for name in names if name.attrs.type == asyncssh.FILEXFER_TYPE_DIRECTORY]
            waiting += [folder + b"/" + os.fsencode(name) for name in below if name not in (b".", b"..")]


def ftp(server: Server, address: str, *, tls: bool) -> ftplib.FTP:
    if not tls:
        client = ftplib.FTP()
        client.connect(address, server.port)
        client.login(server.user, server.password)
        return client
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    context.options |= ssl.OP_IGNORE_UNEXPECTED_EOF
    secure = ftplib.FTP_TLS(context=context)
    secure.connect(address, server.port)
    secure.login(server.user, server.password)
    secure.prot_p()
    return secure


def ftp_small(server: Server, address: str, folder: Path, share: float, *, tls: bool) -> None:
    """One connection, one file after another, permissions and time set."""
    files = sorted(one for one in folder.rglob("*") if one.is_file())
    files = files[: max(1, round(len(files) * share))]
    client = ftp(server, address, tls=tls)
    made = set()
    for file in files:
        name = str(file.relative_to(folder))
        if file.parent not in made:
            made.add(file.parent)
            with contextlib.suppress(ftplib.error_perm):
                client.mkd(str(file.parent.relative_to(folder)))
        with file.open("rb") as data:
            client.storbinary(f"STOR {name}.part", data)
        client.voidcmd(f"SITE CHMOD 644 {name}.part")
        client.voidcmd(f"MFMT 20260101000000 {name}.part")
        client.rename(f"{name}.part", name)
    client.quit()


def ftp_big(server: Server, file: Path, *, up: bool, tls: bool) -> None:
    client = ftp(server, NEAR, tls=tls)
    if up:
        with file.open("rb") as data:
            client.storbinary("STOR big.bin", data, blocksize=_BLOCK)
    else:
        with file.open("wb") as out:
            client.retrbinary("RETR big.bin", out.write, blocksize=_BLOCK)
    client.quit()


def ftp_tree(server: Server, address: str, folders: float) -> None:
    client = ftp(server, address, tls=False)
    waiting, read = [""], 0
    while waiting and read < folders:
        folder = waiting.pop()
        read += 1
        for name, facts in client.mlsd(folder, ["type"]):
            if facts["type"] == "dir":
                waiting.append(f"{folder}/{name}")
    client.quit()
