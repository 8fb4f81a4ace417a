"""Owners of what runs: a machine, a process of it, and a word that no other process has."""

from __future__ import annotations

import os
import secrets
import socket
from pathlib import Path

LEASE_S = 20.0
RENEW_EVERY_S = 4.0
MARGIN_S = 2.0  # what was begun before a lease ends may take so long
LOOK_EVERY_S = 2.0


def new_owner() -> str:
    """A name for whoever runs in this process."""
    return f"{socket.gethostname()[:30]}:{os.getpid()}:{secrets.token_hex(4)}"


def has_died(owner: str) -> bool:
    """True where the process of an owner is known to have ended: one of this machine. Of other machines nothing is known:
    their leases run out."""
    host, _, rest = owner.partition(":")
    pid = rest.partition(":")[0]
    return host == socket.gethostname()[:30] and not Path(f"/proc/{pid}").exists()
