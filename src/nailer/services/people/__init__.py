"""Who may sign in: accounts and sessions."""

from __future__ import annotations

from nailer.services.people.door import People
from nailer.store.accounts import Session, WhenDone

__all__ = [
    "People",
    "Session",
    "WhenDone",
]
