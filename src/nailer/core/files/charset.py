"""Character sets of file names: how names read under each candidate, and which one is likely.

Inside Nailer a name is bytes of UTF-8 where it can be read, and its own bytes where it cannot. A site whose server
keeps names in another set is translated at the edge; what a set cannot read passes through as the byte it is.
"""

from __future__ import annotations

import codecs
import re
import unicodedata
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

UTF8 = "utf-8"

# The sets met on hosting servers, by the words of the trade.
CHARSETS = {
    "utf-8": "UTF-8",
    "iso-8859-1": "Latin-1, western Europe (ISO 8859-1)",
    "cp1252": "Windows, western Europe (1252)",
    "iso-8859-15": "Latin-9, western Europe (ISO 8859-15)",
    "cp850": "DOS, western Europe (850)",
    "iso-8859-2": "Latin-2, central Europe (ISO 8859-2)",
    "cp1250": "Windows, central Europe (1250)",
    "cp1251": "Windows, Cyrillic (1251)",
    "koi8-r": "KOI8-R, Cyrillic",
    "iso-8859-7": "Greek (ISO 8859-7)",
    "cp1254": "Windows, Turkish (1254)",
    "shift_jis": "Shift JIS, Japanese",
    "euc-jp": "EUC, Japanese",
    "euc-kr": "EUC, Korean",
    "gb18030": "GB 18030, Chinese",
    "big5": "Big5, Chinese",
}


@dataclass(frozen=True, slots=True)
class Candidate:
    """A set, how the names read in it (None: it cannot hold them), and how odd they look; 0 is not odd at all."""

    charset: str
    title: str
    samples: tuple[str, ...] | None
    oddity: float


def known(charset: str) -> bool:
    """True for a set that can be chosen."""
    return charset in CHARSETS


def to_wire(name: bytes, charset: str) -> bytes:
    """A name as the server keeps it. Raises UnicodeEncodeError where the set has no such letter.

    >>> to_wire("menü.html".encode(), "iso-8859-1")
    b'men\\xfc.html'
    """
    if charset == UTF8:
        return name
    return name.decode(UTF8, "surrogateescape").encode(charset, "surrogateescape")


def from_wire(name: bytes, charset: str) -> bytes:
    """A server's name as Nailer keeps it: UTF-8, and the bytes themselves where the set has no such letter.

    >>> from_wire(b"men\\xfc.html", "iso-8859-1").decode()
    'menü.html'
    """
    if charset == UTF8 or name.isascii():
        return name
    return name.decode(charset, "surrogateescape").encode(UTF8, "surrogateescape")


def candidates(names: Iterable[bytes], most_samples: int = 4) -> list[Candidate]:
    """Every set with how the names read in it, the likeliest first. Only names beyond ASCII say anything.

    >>> candidates([b"men\\xfc.html"])[0].charset in ("iso-8859-1", "iso-8859-15", "cp1252")
    True
    >>> candidates(["menü.html".encode()])[0].charset
    'utf-8'
    """
    telling = [name for name in names if not name.isascii()]
    found = [_candidate(charset, title, telling, most_samples) for charset, title in CHARSETS.items()]
    return sorted(found, key=lambda one: (one.samples is None, one.oddity))


def _candidate(charset: str, title: str, names: Sequence[bytes], most: int) -> Candidate:
    try:
        read = [codecs.decode(name, charset, "strict") for name in names]
    except UnicodeDecodeError:
        return Candidate(charset, title, None, 1.0)
    # Text that is no UTF-8 hardly ever passes as UTF-8 by chance: where it reads, it is that.
    odd = 0.0 if charset == UTF8 else 0.05 + _oddity("".join(read))
    return Candidate(charset, title, tuple(read[:most]), odd)


def _oddity(text: str) -> float:
    """How unlike a file's name a text looks: symbols and controls, words of two scripts, capitals amid a word, and
    accented letters in a row, which no western language writes."""
    beyond = [one for one in text if ord(one) > 127]
    if not beyond:
        return 0.0
    odd = sum(_is_odd(one) for one in beyond) / len(beyond)
    words = re.findall(r"[^\W\d_]+", text)
    mixed = 0.3 * any(len({_script(one) for one in word}) > 1 for word in words)
    shouting = sum(one.isupper() for one in beyond) / len(beyond) / 4
    latin = [word for word in words if _script(word[-1]) == "LATIN"]
    in_a_row = sum(ord(one) > 127 and ord(two) > 127 for word in latin for one, two in pairwise(word))
    return odd + mixed + shouting + in_a_row / len(beyond) / 2


def _script(letter: str) -> str:
    return unicodedata.name(letter, "?").split()[0]


def _is_odd(one: str) -> bool:
    return unicodedata.category(one)[0] in "CSMPZN"
