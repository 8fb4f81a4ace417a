"""OpenSSH's known_hosts in and out (sshd(8), SSH_KNOWN_HOSTS FILE FORMAT)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import asyncssh

from nailer.core.numbers import number_in
from nailer.errors import InvalidInput
from nailer.sides.identities.identity import Identity, key_of_line

Server = tuple[str, int]


@dataclass(frozen=True, slots=True)
class KnownHosts:
    """What a file held: trusted keys by server, and the lines that could not be taken, each with its reason."""

    keys: tuple[tuple[str, int, Identity], ...]
    left: tuple[tuple[str, str], ...]


def write_known_hosts(keys: Iterable[tuple[str, int, Identity]]) -> str:
    """The text of the file. It has no form for certificates of FTP servers, so they are left out."""
    lines = [f"{_shown(host, port)} {key.public_key}" for host, port, key in keys if not key.is_certificate]
    return "".join(f"{line}\n" for line in lines)


def read_known_hosts(text: str, servers: Iterable[Server] = ()) -> KnownHosts:
    """The keys of a file. Hashed names are opened by trying `servers`, those that Nailer knows."""
    keys: list[tuple[str, int, Identity]] = []
    left: list[tuple[str, str]] = []
    known = list(servers)
    for line in text.splitlines():
        bare = line.strip()
        if not bare or bare.startswith("#"):
            continue
        if bare.startswith("@"):
            left.append((bare[:80], "revoked keys and authorities are not imported"))
            continue
        names, _, rest = bare.partition(" ")
        try:
            key = key_of_line(" ".join(rest.split()[:2]))
        except InvalidInput:
            left.append((bare[:80], "this is not a readable key"))
            continue
        found = _servers_of(names, rest, known)
        if not found:
            left.append((bare[:80], "its name is hashed, and none of your sites has it"))
        keys += [(host, port, key) for host, port in found]
    return KnownHosts(tuple(keys), tuple(left))


def _servers_of(names: str, key: str, known: list[Server]) -> list[Server]:
    found = []
    for name in names.split(","):
        if name.startswith("|1|"):
            found += [one for one in known if _is_hash_of(name, key, one)]
        elif name and name[0] not in "!" and "*" not in name and "?" not in name:
            found.append(_server(name))
    return found


def _is_hash_of(hashed: str, key: str, server: Server) -> bool:
    """Whether a hashed name is this server's; the library knows how OpenSSH hashes."""
    try:
        known = asyncssh.import_known_hosts(f"{hashed} {key}")
    except ValueError:
        return False
    return bool(known.match(server[0], "", None if server[1] == 22 else server[1])[0])


def _server(name: str) -> Server:
    if name.startswith("[") and "]:" in name:
        host, _, port = name[1:].rpartition("]:")
        number = number_in(port, least=1, most=65535)
        if number is not None:
            return host.lower(), number
    return name.strip("[]").lower(), 22


def _shown(host: str, port: int) -> str:
    return host if port == 22 else f"[{host}]:{port}"
