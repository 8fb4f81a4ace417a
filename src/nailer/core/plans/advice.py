"""Advice before files go up: names that will hurt on the web, and files that nobody should publish. Nothing is barred."""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.files.sitepath import shown_name
from nailer.core.files.tree import RelativePath

_PRIVATE: tuple[tuple[re.Pattern[bytes], str], ...] = tuple(
    (re.compile(pattern, re.I), why)
    for pattern, why in (
        (rb"\.(git|svn|hg|bzr)", "version-control data: anyone could read the whole history"),
        (rb"\.env(\..+)?|wp-config\.php\..+|config\.php\.(bak|old|save)", "settings with passwords in them"),
        (rb"(id_(rsa|dsa|ecdsa|ed25519)|.+\.(pem|key|ppk|p12|pfx)|\.htpasswd)", "a key or a list of passwords"),
        (rb".+\.(sql|sql\.gz|sqlite3?|db|dump|mdb)", "a copy of a database"),
        (rb".+(~|\.(bak|old|orig|save|swp|tmp))", "old copy: the server shows its source code"),
        (
            rb".+\.(zip|tar|tgz|tar\.(gz|xz|zst|bz2)|7z|rar)",
            "archive: anyone who finds it can download everything in it",
        ),
        (
            rb"(thumbs\.db|\.ds_store|desktop\.ini|__macosx|\.idea|\.vscode|node_modules)",
            "leftover file of an editor or operating system",
        ),
        (
            rb".+\.(psd|ai|indd|xcf|sketch|afdesign|blend|raw|cr2|nef|tiff?)",
            "working file: large and not meant for visitors",
        ),
    )
)


class Hurt(StrEnum):
    """How a name will hurt."""

    CAPITALS = "capital letters: most servers treat A and a as different, most visitors do not"
    BLANKS = "spaces become %20 in addresses"
    ENCODED = "special characters that look different in addresses"
    EDGES = "a space or dot at the end, which some systems remove"
    COMPOSED = "unusually encoded letters: the same name may be stored twice"
    CASE = "two names that differ only in capital letters: on many systems one hides the other"


@dataclass(frozen=True, slots=True)
class Doubt:
    """One name to think about, by its place below the folder that is sent, and why."""

    below: RelativePath
    why: str


def hurting_names(names: Iterable[RelativePath]) -> list[Doubt]:
    """Names that will hurt on the web, each with its worst reason.

    >>> [doubt.why[:9] for doubt in hurting_names([(b"Bild 1.jpg",), (b"a.html",), (b"A.html",)])]
    ['spaces be', 'two names', 'two names']
    """
    names = list(names)
    alike: dict[tuple[RelativePath, bytes], set[bytes]] = defaultdict(set)
    for below in names:
        alike[below[:-1], below[-1].lower()].add(below[-1])
    found = []
    for below in names:
        hurt = Hurt.CASE if len(alike[below[:-1], below[-1].lower()]) > 1 else _hurt(below[-1])
        if hurt is not None:
            found.append(Doubt(below, hurt.value))
    return found


def _hurt(name: bytes) -> Hurt | None:
    text = name.decode("utf-8", "surrogateescape")
    if text != text.strip(" .") and not text.startswith("."):
        return Hurt.EDGES
    if unicodedata.normalize("NFC", text) != text:
        return Hurt.COMPOSED
    if " " in text:
        return Hurt.BLANKS
    if not re.fullmatch(r"[A-Za-z0-9._~!$&'()*+,;=@-]+", text):
        return Hurt.ENCODED
    return Hurt.CAPITALS if text != text.lower() else None


def not_for_public(names: Iterable[RelativePath]) -> list[Doubt]:
    """Files and folders that nobody should publish; of a folder only itself is named.

    >>> names = [(b".git",), (b".git", b"HEAD"), (b"dump.sql",), (b"a.css",)]
    >>> [shown_name(doubt.below[-1]) for doubt in not_for_public(names)]
    ['.git', 'dump.sql']
    """
    found: dict[RelativePath, Doubt] = {}
    for below in sorted(names, key=len):
        if any(below[:depth] in found for depth in range(1, len(below))):
            continue
        # A browser's drop names files only: a folder on the way may be what should stay.
        for depth in range(1, len(below) + 1):
            why = next((why for pattern, why in _PRIVATE if pattern.fullmatch(below[depth - 1])), None)
            if why is not None:
                found.setdefault(below[:depth], Doubt(below[:depth], why))
                break
    return list(found.values())


def doubts_text(doubts: Iterable[Doubt], most: int = 3) -> str:
    """A few doubts as one line: `.env (settings with passwords in them), dump.sql (a copy of a database) and 2 more`."""
    doubts = list(doubts)
    shown = [f"{'/'.join(shown_name(name) for name in one.below)} ({one.why})" for one in doubts[:most]]
    return ", ".join(shown) + (f" and {len(doubts) - most} more" if len(doubts) > most else "")
