"""Rows, entries and sites as tests want them: everything has a sensible value, tests name what matters to them."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.store.sites import Site

NOON_S = 1_790_000_000


def path(text: str) -> SitePath:
    return SitePath.parse(text.encode())


def a_file(name: str = "index.html", size: int = 100, at_s: float = NOON_S, **more: Any) -> Entry:
    return Entry(name.encode(), Kind.FILE, size, Stamp(int(at_s * NS), NS), **({"permissions": 0o644} | more))


def a_folder(name: str = "img") -> Entry:
    return Entry(name.encode(), Kind.FOLDER, permissions=0o755)


def a_link(name: str = "www", target: str = "htdocs") -> Entry:
    return Entry(name.encode(), Kind.LINK, target=target.encode())


def a_site(**values: Any) -> Site:
    usual: dict[str, Any] = {
        "id": 0,
        "name": "Moss Lane",
        "host": "ftp.mosslane.example",
        "port": 22,
        "user_name": "seedlib",
        "start_here": path("/studio/moss"),
        "start_there": path("/htdocs"),
    }
    return Site(**(usual | values))


def write(root: Path, name: str, content: bytes | str = b"content", at_s: float = NOON_S) -> Path:
    """A file below `root` with a time of its own."""
    file = root / name
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_bytes(content.encode() if isinstance(content, str) else content)
    os.utime(file, (at_s, at_s))
    return file


def tree(root: Path) -> dict[str, bytes]:
    """Every file below `root` by its name, hidden leftovers included."""
    return {str(one.relative_to(root)): one.read_bytes() for one in sorted(root.rglob("*")) if one.is_file()}
