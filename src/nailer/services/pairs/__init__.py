"""Pairs of folders: readings, choices, runs, timers, and what is not sent yet."""

from __future__ import annotations

from nailer.services.pairs.door import Pairs
from nailer.services.pairs.plan import SyncPlan
from nailer.store.pairs import Pair
from nailer.store.timers import NewTimer, Timer

__all__ = [
    "NewTimer",
    "Pair",
    "Pairs",
    "SyncPlan",
    "Timer",
]
