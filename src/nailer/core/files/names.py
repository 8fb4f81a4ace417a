"""Choosing names: a free name beside a taken one, and the temporary name a file lands under first."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Container

from nailer.core.files.sitepath import shown_name

_LETTERS = str.maketrans(
    {"ä": "ae", "ö": "oe", "ü": "ue", "Ä": "ae", "Ö": "oe", "Ü": "ue", "ß": "ss", "æ": "ae", "ø": "o"}
)
_PART = re.compile(rb"\.?nailer-(\d+-\d+(-old)?|(un)?pack-[0-9a-f]{8}|try-[0-9a-f]{8}b?)\.part")
MAX_NAME_BYTES = 255


def free_name(name: bytes, taken: Container[bytes]) -> bytes:
    """The first of `index-2.html`, `index-3.html`, ... that is not taken: no blanks or brackets, it may go on the web.

    >>> free_name(b"index.html", {b"index.html", b"index-2.html"})
    b'index-3.html'
    >>> free_name(b".env", {b".env"})
    b'.env-2'
    """
    stem, dot, ending = name.rpartition(b".")
    if not stem:
        stem, dot, ending = name, b"", b""
    number = 2
    while True:
        tail = f"-{number}".encode() + dot + ending
        candidate = stem[: max(1, MAX_NAME_BYTES - len(tail))] + tail
        if candidate not in taken:
            return candidate
        number += 1


def part_name(job_id: int, item_id: int, *, hidden: bool = True) -> bytes:
    """The name beside the target that an item's bytes are written under, told apart by job and item. Not hidden where a
    host refuses names that begin with a dot."""
    return (b"." if hidden else b"") + f"nailer-{job_id}-{item_id}.part".encode()


def aside_name(job_id: int, item_id: int, *, hidden: bool = True) -> bytes:
    """What the old file is called for the moment in which the new one takes its name, where no one step does it."""
    return aside_of(part_name(job_id, item_id, hidden=hidden))


def aside_of(part: bytes) -> bytes:
    """The name for the old file that goes with an item's temporary name.

    >>> aside_of(b".nailer-3-17.part")
    b'.nailer-3-17-old.part'
    """
    return part.removesuffix(b".part") + b"-old.part"


def trying_names(token: str) -> tuple[bytes, bytes]:
    """Two names for trying whether a server renames; `token` is eight hex digits."""
    return f".nailer-try-{token}.part".encode(), f".nailer-try-{token}b.part".encode()


def staging_name(token: str) -> bytes:
    """The folder beside a target in which an archive is unpacked on the server first; `token` is eight hex digits."""
    return f".nailer-unpack-{token}.part".encode()


def packing_name(token: str) -> bytes:
    """What an archive is called while it is being packed; `token` is eight hex digits."""
    return f".nailer-pack-{token}.part".encode()


def is_staging_name(name: bytes) -> bool:
    """True for a folder in which a server unpacks an archive for Nailer."""
    return name.startswith(b".nailer-unpack-") and is_part_name(name)


def is_part_name(name: bytes) -> bool:
    """True for a leftover of a carry that was cut: out of sight in listings, removed when its job goes on.

    >>> is_part_name(b".nailer-3-17.part"), is_part_name(b"nailer-3-17.part"), is_part_name(b"nailer.part")
    (True, True, False)
    """
    return name.endswith(b".part") and _PART.fullmatch(name) is not None


_BESIDE = re.compile(rb"(\..+\.aside|\.?.+\.(new|old)-[0-9a-f]{16})")


def package_aside(name: bytes) -> bytes:
    """The name that a package has while it is set aside: hidden, so that what reads a whole folder passes it by.

    >>> package_aside(b"harbour")
    b'.harbour.aside'
    """
    return b"." + name + b".aside"


def package_beside(name: bytes, token: str, *, hidden: bool = True) -> tuple[bytes, bytes]:
    """The names beside a package of a version that is built, and of one that is kept; `token` is sixteen hex digits. Not
    hidden where a host refuses names that begin with a dot."""
    base = b"." * hidden + name
    return b"%b.new-%b" % (base, token.encode()), b"%b.old-%b" % (base, token.encode())


def is_beside_package(name: bytes) -> bool:
    """True for the hidden names that packages have beside their own.

    >>> is_beside_package(b".harbour.aside"), is_beside_package(b".harbour.old"), is_beside_package(b"harbour")
    (True, False, False)
    """
    return _BESIDE.fullmatch(name) is not None


def is_package_built(name: bytes) -> bool:
    """True for the hidden folder in which a version of a package is built."""
    return b".new-" in name and is_beside_package(name)


_INDEX_STEMS = (b"index", b"default", b"home")
_PAGE_ENDINGS = (b".html", b".htm", b".php", b".xhtml", b".shtml")


def landing_rank(name: bytes) -> int:
    """Where a file stands in the order of landing: what pages refer to (0), pages (1), the index last (2).

    A visitor who comes in the middle of an upload then never sees a page whose style or picture is not there yet.
    """
    lower = name.lower()
    if not lower.endswith(_PAGE_ENDINGS):
        return 0
    return 2 if lower.rpartition(b".")[0] in _INDEX_STEMS else 1


def good_name(name: bytes) -> bytes:
    """A name that hurts nowhere on the web: small letters, digits, dots, hyphens.

    >>> good_name("Fähren & Preise (neu).HTML".encode())
    b'faehren-preise-neu.html'
    >>> good_name(b"???")
    b'name'
    """
    text = name.decode("utf-8", "replace").translate(_LETTERS)
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode().lower()
    stem, dot, ending = re.sub(r"[^a-z0-9._]+", "-", plain).rpartition(".")
    stem = stem.strip("-. ") if dot else ""
    if not dot:
        return ending.strip("-. ").encode() or b"name"
    lead = "." if name.startswith(b".") else ""
    return f"{lead}{stem or ('' if lead else 'name')}.{ending.strip('-')}".rstrip(".").replace("..", ".").encode()


def names_text(names: list[bytes], most: int = 3) -> str:
    """A few names as one line: `index.html, winter-sailings.html and 4 more`."""
    shown = [shown_name(name) for name in names[:most]]
    rest = len(names) - len(shown)
    return ", ".join(shown) + (f" and {rest} more" if rest else "")
