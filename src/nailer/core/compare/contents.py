"""Two contents beside each other for a person: as lines where both are texts, else why not."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.core.compare.differences import Line, differences, only_line_ends
from nailer.core.files.text import text_of


@dataclass(frozen=True, slots=True)
class Compared:
    """What differs between two contents, line by line; `why_not` says why there is nothing to show."""

    lines: tuple[Line, ...]
    why_not: str = ""


def compared(old: bytes, new: bytes) -> Compared:
    """Two contents, as text where both are.

    >>> compared(b"a", b"a").why_not
    'The two are the same, byte for byte.'
    >>> compared(b"a\\r\\n", b"a\\n").why_not
    'They differ only in how their lines end.'
    """
    if old == new:
        return Compared((), "The two are the same, byte for byte.")
    if only_line_ends(old, new):
        return Compared((), "They differ only in how their lines end.")
    before, after = text_of(old), text_of(new)
    if before is None or after is None:
        return Compared((), "They differ, and at least one of them is not a text file.")
    lines = differences(before, after)
    if lines is None:
        return Compared((), "They have too many lines to be compared here.")
    return Compared(tuple(lines), "" if lines else "They differ only in invisible characters.")
