"""How long carrying will take, before it starts: by what earlier jobs of the same site and direction took.

    time = files x (what one file costs: round trips, shared among channels) + bytes / rate

Both parts are fitted to the earlier jobs; a limit of speed that holds now bounds the rate.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

_LEAST_S = 0.05  # what took less says more of the clock than of the line


@dataclass(frozen=True, slots=True)
class Carried:
    """What an earlier job carried, and the seconds that took."""

    files: int
    size: int
    took_s: float


@dataclass(frozen=True, slots=True)
class Pace:
    """What a site was measured to take: seconds a file, and seconds a byte. `jobs` is how many jobs that comes from."""

    file_s: float
    byte_s: float
    jobs: int

    def seconds(self, files: int, size: int, limit: int | None = None) -> float:
        """How long so many files and bytes will take; `limit` is what may be carried, in bytes a second."""
        byte_s = max(self.byte_s, 1 / limit) if limit else self.byte_s
        return files * self.file_s + size * byte_s


def pace_of(done: Sequence[Carried]) -> Pace | None:
    """The pace that fits earlier jobs best, each weighed by its relative error; None where there is none to learn from.

    >>> pace = pace_of([Carried(100, 100_000, 2.0), Carried(1, 10_000_000, 5.0)])
    >>> round(pace.seconds(200, 10_000_000), 1)
    8.9
    """
    rows = [(one.files / one.took_s, one.size / one.took_s) for one in done if one.files and one.took_s >= _LEAST_S]
    if not rows:
        return None
    ff = sum(files * files for files, _ in rows)
    ss = sum(size * size for _, size in rows)
    fs = sum(files * size for files, size in rows)
    f, s = sum(files for files, _ in rows), sum(size for _, size in rows)
    whole = ff * ss - fs * fs
    if whole > 1e-9 * ff * ss:
        file_s, byte_s = (f * ss - s * fs) / whole, (s * ff - f * fs) / whole
        if file_s >= 0 and byte_s >= 0:
            return Pace(file_s, byte_s, len(rows))
    # One part alone explains them, or they are all alike: the part that fits better.
    by_file = Pace(f / ff, 0.0, len(rows))
    by_byte = Pace(0.0, s / ss, len(rows)) if ss else by_file
    return min((by_file, by_byte), key=lambda pace: _error(pace, rows))


def _error(pace: Pace, rows: Sequence[tuple[float, float]]) -> float:
    return math.fsum((files * pace.file_s + size * pace.byte_s - 1) ** 2 for files, size in rows)
