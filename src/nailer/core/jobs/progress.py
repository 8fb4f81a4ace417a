"""How far a job is: counts that always add up, a smoothed rate, and a time left that is silent until it means something.

planned = done + failed + left out + waiting        in files and in bytes
"""

from __future__ import annotations

import math
from dataclasses import dataclass

_SMOOTHING_S = 3.0
_QUIET_S = 1.5


@dataclass(frozen=True, slots=True)
class Count:
    """Files and their bytes."""

    files: int = 0
    size: int = 0

    def __add__(self, other: Count) -> Count:
        return Count(self.files + other.files, self.size + other.size)

    def __sub__(self, other: Count) -> Count:
        return Count(self.files - other.files, self.size - other.size)


@dataclass(frozen=True, slots=True)
class Tally:
    """Where a job's items are. `under_way_bytes` is what has been sent of items that have not landed yet."""

    planned: Count
    done: Count = Count()
    failed: Count = Count()
    left: Count = Count()
    under_way_bytes: int = 0

    @property
    def waiting(self) -> Count:
        """What is neither done nor failed nor left out; includes what is being sent."""
        return self.planned - self.done - self.failed - self.left

    @property
    def share(self) -> float:
        """0 to 1, by bytes where there are any, by files otherwise."""
        if self.planned.size:
            past = self.done.size + self.failed.size + self.left.size + self.under_way_bytes
            return min(1.0, past / self.planned.size)
        past = self.done.files + self.failed.files + self.left.files
        return past / self.planned.files if self.planned.files else 1.0

    @property
    def remaining_bytes(self) -> int:
        """Bytes that still have to go; what a file under way has sent is counted off."""
        return max(0, self.waiting.size - self.under_way_bytes)


@dataclass(frozen=True, slots=True)
class Rate:
    """Bytes a second, smoothed exponentially over some three seconds of samples."""

    bytes_per_s: float = 0.0
    since_s: float | None = None
    last_s: float | None = None

    def after(self, sent_bytes: int, now_s: float) -> Rate:
        """The rate once `sent_bytes` more have passed at `now_s` on a monotonic clock.

        >>> rate = Rate()
        >>> for second in range(30):
        ...     rate = rate.after(1000, float(second))
        >>> round(rate.bytes_per_s)
        1000
        """
        if self.last_s is None or self.since_s is None:
            return Rate(0.0, now_s, now_s)
        passed = now_s - self.last_s
        if passed <= 0:
            return Rate(self.bytes_per_s, self.since_s, self.last_s)
        weight = 1.0 if self.bytes_per_s == 0 else 1 - math.exp(-passed / _SMOOTHING_S)
        smoothed = self.bytes_per_s + weight * (sent_bytes / passed - self.bytes_per_s)
        return Rate(smoothed, self.since_s, now_s)

    def time_left_s(self, remaining_bytes: int) -> float | None:
        """Seconds until `remaining_bytes` have passed; None while the rate is too young or nothing moves."""
        if self.since_s is None or self.last_s is None or self.last_s - self.since_s < _QUIET_S:
            return None
        if self.bytes_per_s < 1:
            return None
        return remaining_bytes / self.bytes_per_s
