"""Reading OpenSSH's client configuration (ssh_config(5)): the hosts it names, with server, port, user and key file."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from nailer.core.numbers import number_in
from nailer.core.patterns import linear


@dataclass(frozen=True, slots=True)
class ConfiguredHost:
    """One host by the name it is called. Empty strings and None: the configuration does not say. `unread` are options
    that matter for reaching it and that Nailer does not take over."""

    alias: str
    host: str
    user: str = ""
    port: int | None = None
    key_file: str = ""
    unread: tuple[str, ...] = ()


@dataclass(slots=True)
class _Block:
    patterns: list[str]
    options: dict[str, str] = field(default_factory=dict)


_MATTERING = ("proxyjump", "proxycommand", "localforward", "certificatefile")


def read_config(text: str) -> list[ConfiguredHost]:
    """The hosts of a configuration that are named without wildcards; for each option the first value that matches
    counts, as ssh itself reads it. `Match` blocks are left aside.

    >>> hosts = read_config("Host sea\\n HostName ftp.a.example\\nHost *\\n User maren")
    >>> [(one.alias, one.host, one.user, one.port) for one in hosts]
    [('sea', 'ftp.a.example', 'maren', None)]
    """
    blocks = _blocks(text)
    names = [name for block in blocks for name in block.patterns if not re.search(r"[*?!]", name)]
    return [_host(name, blocks) for name in dict.fromkeys(names)]


def _blocks(text: str) -> list[_Block]:
    blocks = [_Block(["*"])]
    for line in text.splitlines():
        found = re.match(r"\s*([A-Za-z]+)(?:\s*=\s*|\s+)(.*?)\s*$", line)
        if found is None or line.lstrip().startswith("#"):
            continue
        key, value = found[1].lower(), found[2].strip('"')
        if key == "host":
            blocks.append(_Block(value.split()))
        elif key == "match":
            blocks.append(_Block([]))
        else:
            blocks[-1].options.setdefault(key, value)
    return blocks


def _host(name: str, blocks: list[_Block]) -> ConfiguredHost:
    options: dict[str, str] = {}
    for block in blocks:
        if _matches(name, block.patterns):
            options = {**block.options, **options}
    port = options.get("port", "")
    return ConfiguredHost(
        alias=name,
        host=options.get("hostname", name).replace("%h", name),
        user=options.get("user", ""),
        port=number_in(port, least=1, most=65535),
        key_file=options.get("identityfile", ""),
        unread=tuple(one for one in _MATTERING if one in options),
    )


def _matches(name: str, patterns: list[str]) -> bool:
    """ssh_config(5), PATTERNS: a negated match rules the block out."""
    found = False
    for pattern in patterns:
        bare = pattern.removeprefix("!")
        shape = "".join({"*": ".*", "?": "."}.get(one, re.escape(one)) for one in bare)
        if linear(shape.encode()).fullmatch(name.encode()):
            if pattern.startswith("!"):
                return False
            found = True
    return found
