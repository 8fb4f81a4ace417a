"""What every scripted server has: the names of its faults, how often each strikes still, and what it was asked."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path


class Faulty:
    """A server below `root`. `faults` are names of its misbehaviours; each of those that strike does so `times`."""

    def __init__(self, root: Path, known: set[str], striking: set[str], faults: Iterable[str], times: int) -> None:
        self.root = root
        self.faults = set(faults)
        unknown = self.faults - known
        assert not unknown, unknown
        self._left = dict.fromkeys(self.faults & striking, times)
        self.log: list[str] = []
        self.port = 0

    def has(self, name: str) -> bool:
        return name in self.faults

    def strikes(self, name: str) -> bool:
        """Whether a fault strikes now; each time is counted."""
        if self._left.get(name, 0) <= 0:
            return False
        self._left[name] -= 1
        self.log.append(f"! {name}")
        return True
