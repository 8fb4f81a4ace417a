"""What differs between two texts, line by line, with a little of what surrounds it.

Lines are matched by patience (package `patiencediff`): by those that stand once on either side, and between them again. It
costs little more than reading the texts, also where every line is the same.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from patiencediff import PatienceSequenceMatcher

_MOST_LINES = 20_000
_AROUND = 3


class LineChange(StrEnum):
    SAME = "same"
    GONE = "gone"
    NEW = "new"
    SKIPPED = "skipped"


@dataclass(frozen=True, slots=True)
class Line:
    """One line of a comparison. Numbers are from 1, None where the line is not on that side. Of lines that are left out
    because nothing near them differs, `text` says how many they are."""

    change: LineChange
    old: int | None
    new: int | None
    text: str


def differences(old: str, new: str, *, around: int = _AROUND) -> list[Line] | None:
    """Lines that are gone and new, among those around them. None: too many lines to compare; empty: nothing differs.

    >>> [(one.change.value, one.text) for one in differences("a\\nb\\n", "a\\nc\\n")]
    [('same', 'a'), ('gone', 'b'), ('new', 'c')]
    """
    before, after = old.splitlines(), new.splitlines()
    if len(before) + len(after) > _MOST_LINES:
        return None
    lines: list[Line] = []
    done = 0
    for group in PatienceSequenceMatcher(None, before, after).get_grouped_opcodes(around):
        if skipped := group[0][1] - done:
            lines.append(Line(LineChange.SKIPPED, None, None, str(skipped)))
        for word, old_from, old_to, new_from, new_to in group:
            if word == "equal":
                pairs = zip(range(old_from, old_to), range(new_from, new_to), strict=True)
                lines += [Line(LineChange.SAME, one + 1, other + 1, before[one]) for one, other in pairs]
                continue
            lines += [Line(LineChange.GONE, at + 1, None, before[at]) for at in range(old_from, old_to)]
            lines += [Line(LineChange.NEW, None, at + 1, after[at]) for at in range(new_from, new_to)]
        done = group[-1][2]
    if lines and (skipped := len(before) - done):
        lines.append(Line(LineChange.SKIPPED, None, None, str(skipped)))
    return lines


def sizes_by_line_ends(content: bytes) -> set[int]:
    """The sizes that a content has with its lines ended the other ways: all by LF, or all by CRLF.

    >>> sorted(sizes_by_line_ends(b"one\\ntwo\\n"))
    [10]
    """
    short, lines = len(content) - content.count(b"\r\n"), content.count(b"\n")
    return {short, short + lines} - {len(content)}


def only_line_ends(old: bytes, new: bytes) -> bool:
    """True where two contents differ in nothing but how their lines end.

    >>> only_line_ends(b"a\\r\\nb", b"a\\nb"), only_line_ends(b"a", b"a")
    (True, False)
    """
    return old != new and _unix(old) == _unix(new)


def _unix(data: bytes) -> bytes:
    return data.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
