"""What a folder holds, and whether that is known to be all of it.

A listing can be short without an error: servers stop at a limit, cannot open a folder and say so in the words of a good
reply, print rows that nobody can read, or leave names out that begin with a dot. Where a listing is not known to be whole,
a name that is missing from it is *not known*: never gone, never only on the other side.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.files.entry import Entry
from nailer.core.files.names import is_part_name


class Lack(StrEnum):
    """Why a listing may not hold everything."""

    CUT = "cut"
    UNREAD = "unread"
    DOUBTED = "doubted"
    UNPROVED = "unproved"
    DOTTED = "dotted"


@dataclass(frozen=True, slots=True)
class Incomplete:
    """Why a listing is not known to hold everything. `count` is how many rows could not be read (`UNREAD`), or after how
    many names the server stopped (`CUT`), where it is known. `words` are the server's own."""

    why: Lack
    words: str = ""
    count: int | None = None

    @property
    def sentence(self) -> str:
        """What a person should know of it.

        >>> Incomplete(Lack.CUT, "Output truncated to 10000 matches", 10000).sentence
        'The server stopped after 10,000 names: it said "Output truncated to 10000 matches".'
        """
        said = f': it said "{self.words}"' if self.words else ""
        match self.why:
            case Lack.CUT:
                after = f" after {self.count:,} names" if self.count is not None else " before the end"
                return f"The server stopped{after}{said}."
            case Lack.UNREAD:
                rows = "1 row" if self.count == 1 else f"{self.count or 'Some'} rows"
                shown = f", the first: {self.words}" if self.words else ""
                return f"Nailer cannot read {rows} of the server's list{shown}."
            case Lack.DOUBTED:
                return f"This list may be incomplete{said}."
            case Lack.UNPROVED:
                return f"The server returned an empty list, but Nailer cannot confirm that the folder is empty{said}."
            case Lack.DOTTED:
                return "This server does not list names that begin with a dot."

    def may_hide(self, name: bytes) -> bool:
        """True where a name that is missing from the listing may be in the folder all the same."""
        return self.why is not Lack.DOTTED or name.startswith(b".")


@dataclass(frozen=True, slots=True)
class Listing:
    """What was read of one folder. `parts` are Nailer's own temporary files in it, which are no files of the site.
    `lack` is None where the listing is known to be whole."""

    entries: list[Entry]
    lack: Incomplete | None = None
    parts: tuple[Entry, ...] = ()

    @property
    def is_whole(self) -> bool:
        """True where nothing speaks against the listing being all there is."""
        return self.lack is None

    def may_hide(self, name: bytes) -> bool:
        """True where a name that is not in the listing may be in the folder all the same."""
        return self.lack is not None and self.lack.may_hide(name)


def listing_of(entries: Iterable[Entry], lack: Incomplete | None = None) -> Listing:
    """What was read of a folder, with Nailer's own temporary files put aside."""
    files: list[Entry] = []
    parts: list[Entry] = []
    for one in entries:
        (parts if is_part_name(one.name) else files).append(one)
    return Listing(files, lack, tuple(parts))


# What servers say in a good reply when they did not list everything. Each has been met, or is a plain variant of one.
_CUT = re.compile(
    r"truncat|only (?:the )?first|limited to"
    r"|(?:limit|maximum)\b.{0,20}\b(?:reached|exceeded)|(?:reached|exceed\w*)\b.{0,20}\b(?:limit|maximum)"
    r"|too many (?:files|entries|names|matches)|incomplete|not complete|partial|not all"
    r"|more (?:files|entries|names) (?:not|exist)|stopped (?:after|at)|abort|interrupt|cut short"
)
_DOUBT = re.compile(
    r"\bfail|denied|\berrors?\b|unable|cannot|can't|could not|couldn't|not open|unreadable"
    r"|no permission|not permitted|timed? ?out"
)
_FINE = re.compile(r"\b(?:no|0|without(?: any)?) (?:errors?|failures?)\b")
_NOTHING = re.compile(r"\bno (?:files?|entries|matches)\b|\bempty\b|\bnothing\b")
_COUNTED = re.compile(r"\b(\d{1,9}) (?:matches|entries|files|names|items)\b")


def lack_in_words(words: str, rows: int) -> Incomplete | None:
    """What a server's good replies around a listing of `rows` rows say about its being whole; None for nothing.

    >>> lack_in_words("226 Output truncated to 10000 matches", 9998).why
    <Lack.CUT: 'cut'>
    >>> lack_in_words("226 Transfer done (but failed to open directory).", 0).why
    <Lack.DOUBTED: 'doubted'>
    >>> lack_in_words("226 Directory send OK.", 12) is None
    True
    """
    lower = _FINE.sub("", words.lower())
    said = _telling(words)
    counted = _COUNTED.search(lower)
    if _CUT.search(lower):
        return Incomplete(Lack.CUT, said, int(counted[1]) if counted else None)
    if _DOUBT.search(lower):
        return Incomplete(Lack.DOUBTED, said)
    if counted is not None and int(counted[1]) > rows:
        return Incomplete(Lack.CUT, said, rows)
    return None


def _telling(words: str) -> str:
    """The line of a server's words that matters, without its full stop: what it said while all was well is left out."""
    lines = [line.strip() for line in words.splitlines() if line.strip()]
    found = [line for line in lines if any(sign.search(line.lower()) for sign in (_CUT, _DOUBT, _COUNTED))]
    return (found or lines[-1:] or [""])[0][:300].rstrip(". ")


def says_nothing_there(words: str) -> bool:
    """True where a refusal to list only says that there is nothing to list.

    >>> says_nothing_there("450 No files found")
    True
    """
    return _NOTHING.search(words.lower()) is not None
