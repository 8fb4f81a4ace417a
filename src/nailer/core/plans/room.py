"""What servers say about the space of an account, in the forms met in practice."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

_UNITS = {"b": 1, "kb": 1024, "mb": 1024**2, "gb": 1024**3, "tb": 1024**4, "bytes": 1, "": 1}
_QUOTA = re.compile(
    r"(?P<head>.*?)(?P<used>[\d.,]+)\s*(?P<unit1>[kmgt]?b|bytes)?\s*(?:/|of)\s*(?P<all>[\d.,]+)\s*(?P<unit2>[kmgt]?b|bytes)?",
    re.I,
)


@dataclass(frozen=True, slots=True)
class Room:
    """Space on the file system of a folder, or in the quota of an account, in bytes. `total_bytes` 0: not said."""

    total_bytes: int
    free_bytes: int


def room_of_quota(lines: Iterable[str]) -> Room | None:
    """The room in an answer to `SITE QUOTA`: the line that counts bytes, as used/allowed; None where there is none.

    >>> room_of_quota(["Files: 12/1000", "Uploaded Mb: 38.50/40.00"])
    Room(total_bytes=41943040, free_bytes=1572864)
    """
    for line in lines:
        found = _QUOTA.search(line)
        if found is None or re.search(r"\bfiles?\b", found["head"], re.I):
            continue
        named = re.search(r"\b([kmgt]b|bytes)\b", found["head"], re.I)
        unit = found["unit2"] or found["unit1"] or (named[1] if named else "")
        if not unit:
            continue
        factor = _UNITS[unit.lower()]
        used, allowed = _number(found["used"]) * factor, _number(found["all"]) * factor
        return Room(round(allowed), max(0, round(allowed - used)))
    return None


def _number(text: str) -> float:
    return float(text.replace(",", "")) if re.fullmatch(r"[\d,]+(\.\d+)?", text) else 0.0


class Fit(StrEnum):
    """Whether what is carried has room."""

    UNKNOWN = "unknown"
    FITS = "fits"
    IN_ORDER = "in-order"
    SHORT = "short"


@dataclass(frozen=True, slots=True)
class Need:
    """What carrying needs in bytes: how much more there is at the end (`growth`, below zero where it shrinks), the most
    at any moment where all files are under way together (`at_once`), and where they go one after another (`in_order`).
    A file that replaces another lies beside it under a temporary name until it is whole."""

    growth: int
    at_once: int
    in_order: int

    def fit(self, room: int | None) -> Fit:
        """
        >>> need = need_of([(100, 80), (50, 0)])
        >>> [need.fit(room) for room in (None, 200, 120, 60)]
        [<Fit.UNKNOWN: 'unknown'>, <Fit.FITS: 'fits'>, <Fit.IN_ORDER: 'in-order'>, <Fit.SHORT: 'short'>]
        """
        if room is None:
            return Fit.UNKNOWN
        if room >= self.at_once:
            return Fit.FITS
        return Fit.IN_ORDER if room >= self.in_order else Fit.SHORT

    def short_by(self, room: int) -> int:
        """Bytes that are missing, with files carried one after another."""
        return max(0, self.in_order - room)

    def then(self, size: int, replaced: int) -> Need:
        """The need with one file more, which lands after the others in place of `replaced` bytes."""
        return Need(self.growth + size - replaced, self.at_once + size, max(self.in_order, self.growth + size))


def need_of(files: Iterable[tuple[int, int]]) -> Need:
    """The need of files in the order they land: each its size and the size of what it replaces (0: nothing).

    >>> need_of([(100, 80), (50, 0)])
    Need(growth=70, at_once=150, in_order=100)
    """
    level = most = total = 0
    for size, replaced in files:
        total += size
        most = max(most, level + size)
        level += size - replaced
    return Need(level, total, most)
