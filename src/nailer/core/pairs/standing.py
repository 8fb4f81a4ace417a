"""What stood below each folder when a pair was read last."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

from nailer.core.compare.joint import Joint, Standing
from nailer.core.files.tree import RelativePath
from nailer.core.pairs.rows import SyncRow


@dataclass(frozen=True, slots=True)
class Rolled:
    """What stands below one folder: how many names go each way, clash, or are not known."""

    ups: int = 0
    downs: int = 0
    clashes: int = 0
    unread: int = 0


def rolled(rows: Iterable[SyncRow]) -> dict[RelativePath, Rolled]:
    """The joints below each folder that holds a difference, the top `()` among them; what a sieve holds back is left out."""
    counts: dict[RelativePath, list[int]] = defaultdict(lambda: [0, 0, 0, 0])
    place = {
        Joint.NEWER_HERE: 0,
        Joint.ONLY_HERE: 0,
        Joint.NEWER_THERE: 1,
        Joint.ONLY_THERE: 1,
        Joint.BOTH_CHANGED: 2,
        Joint.NOT_READ: 3,
    }
    for row in rows:
        if row.held or row.standing.joint not in place:
            continue
        for depth in range(len(row.below) or 1):
            counts[row.below[:depth]][place[row.standing.joint]] += 1
    return {below: Rolled(*numbers) for below, numbers in counts.items()}


def last_standing(found: Rolled | None, when: str) -> Standing:
    """A folder's joint from what stood below it at the last reading, and how old that is; None: nothing differed.

    >>> last_standing(Rolled(ups=2), "today 10:42").reason
    'inside: 2 newer or only here, as it was read today 10:42'
    """
    if found is None:
        return Standing(Joint.SAME, f"everything inside was the same when it was read {when}")
    parts = [
        f"{number} {words}"
        for number, words in (
            (found.ups, "newer or only here"),
            (found.downs, "newer or only there"),
            (found.clashes, "both changed"),
            (found.unread, "not read"),
        )
        if number
    ]
    reason = f"inside: {', '.join(parts)}, as it was read {when}"
    if found.clashes or (found.ups and found.downs):
        return Standing(Joint.BOTH_CHANGED, reason)
    if found.ups or found.downs:
        return Standing(Joint.NEWER_HERE if found.ups else Joint.NEWER_THERE, reason)
    return Standing(Joint.NOT_READ, reason)
