"""When to try again: growing waits for what can heal."""

from __future__ import annotations


def next_delay(failures: int, *, base_s: float = 1.0, cap_s: float = 60.0) -> float:
    """Seconds to wait before the next try, after `failures` failed ones in a row.

    Doubles from `base_s` and stops growing at `cap_s`; 0 failures means no wait.
    The caller adds jitter, so that this stays exact.

    Raises ValueError if `failures` is negative.

    >>> [next_delay(n) for n in (0, 1, 2, 7)]
    [0.0, 1.0, 2.0, 60.0]
    """
    if failures < 0:
        raise ValueError("failures cannot be negative")
    if failures == 0:
        return 0.0
    return min(cap_s, base_s * 2.0 ** min(failures - 1, 60))
