"""What declares a package: small detectors, each for one kind of file. A folder that holds one of them is a package."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from nailer.core.files.entry import Entry
from nailer.core.packages.versions import Version, version_of

HEAD_BYTES = 8192
_LARGEST_JSON = 512 * 1024
_HEADER = re.compile(r"^[ \t/*#@]*(?P<key>[A-Z][A-Za-z -]{0,30}):[ \t]*(?P<value>[^\r\n]{1,200})", re.M)
_PLAIN = (b"version", b"version.txt")


@dataclass(frozen=True, slots=True)
class Declared:
    """What a file says of the package it lies in: its name ('' for none), its version, and which file says so."""

    name: str
    version: Version
    by: str


def _of_json(data: bytes) -> Declared | None:
    try:
        said = json.loads(data[:_LARGEST_JSON])
    except (ValueError, RecursionError):
        return None
    if not isinstance(said, dict) or not isinstance(said.get("version"), str):
        return None
    name = said.get("name")
    # JSON can escape half a letter: nothing could store it.
    name = name[:120].encode("utf-8", "replace").decode("utf-8") if isinstance(name, str) else ""
    return Declared(name, version_of(said["version"].encode("utf-8", "replace").decode("utf-8")), "")


def _of_header(data: bytes) -> Declared | None:
    """The comment at the head of a main file: `Name: …` (alone, or after a word that says of what) and `Version: …`."""
    text = data[:HEAD_BYTES].decode("utf-8", "replace")
    said: dict[str, str] = {}
    for found in _HEADER.finditer(text):
        said.setdefault(found["key"].lower(), found["value"].strip().removesuffix("*/").strip())
    name = next((value for key, value in said.items() if key == "name" or key.endswith(" name")), "")
    if not name or "version" not in said:
        return None
    return Declared(name[:120], version_of(said["version"]), "")


def _of_plain(data: bytes) -> Declared | None:
    lines = data[:200].decode("utf-8", "replace").split()
    version = version_of(lines[0]) if lines else version_of("")
    return Declared("", version, "") if version.is_known and len(data) < 200 else None


_Reader = Callable[[bytes], Declared | None]
_BY_NAME: Mapping[bytes, _Reader] = {
    b"skin.json": _of_json,
    b"addon.json": _of_json,
    b"composer.json": _of_json,
    b"package.json": _of_json,
    **dict.fromkeys(_PLAIN, _of_plain),
}
_HEADED = (b".php", b".css")


def files_to_read(folder: bytes, entries: Sequence[Entry]) -> list[bytes]:
    """The files of a folder that may declare a package, the surest first: those with a name for it, then a main file that is
    called like the folder or `style.css`, then other programs of it (at most four)."""
    files = {one.name: one for one in entries if one.is_file and 0 < one.size <= _LARGEST_JSON}
    named = [name for name in files if name.lower() in _BY_NAME]
    order = list(_BY_NAME)
    named.sort(key=lambda name: order.index(name.lower()))
    mains = [folder + b".php", b"style.css", b"index.php"]
    headed = [name for name in mains if name in files]
    rest = sorted(name for name in files if name.lower().endswith(_HEADED[:1]) and name not in headed)
    return [*named, *headed, *rest[:4]]


def declared(name: bytes, data: bytes) -> Declared | None:
    """What a file declares; None where it declares no package.

    >>> declared(b"skin.json", b'{"name": "Harbour", "version": "1.4.2"}').version.numbers
    (1, 4, 2)
    >>> declared(b"tides.php", b"<?php\\n/*\\n * Add-on Name: Tides\\n * Version: 2.1\\n */").name
    'Tides'
    >>> declared(b"VERSION", b"3.0\\n").version.text, declared(b"skin.json", b"{}")
    ('3.0', None)
    """
    read = _BY_NAME.get(name.lower()) or (_of_header if name.lower().endswith(_HEADED) else None)
    found = read(data) if read is not None else None
    return Declared(found.name, found.version, name.decode("utf-8", "replace")) if found is not None else None


_KINDS = {"skin.json": "skin", "addon.json": "add-on", "composer.json": "library", "package.json": "script package"}


def kind_of(by: str) -> str:
    """What kind of package a file declares; '' where that is all it says.

    >>> kind_of("skin.json"), kind_of("tides.php"), kind_of("VERSION")
    ('skin', 'program', '')
    """
    lower = by.lower()
    return _KINDS.get(lower) or {"php": "program", "css": "style"}.get(lower.rpartition(".")[2], "")
