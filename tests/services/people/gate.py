"""A hasher of passwords that waits until it is told to go on."""

from __future__ import annotations

import threading

from argon2 import PasswordHasher


class Gate(PasswordHasher):
    """Checks passwords once it is opened, and notes how many it had in hand at a time."""

    def __init__(self) -> None:
        super().__init__(time_cost=1, memory_cost=8, parallelism=1)
        self.opened = threading.Event()
        self.lock = threading.Lock()
        self.in_hand = self.most = 0

    def verify(self, hash: str | bytes, password: str | bytes) -> bool:
        with self.lock:
            self.in_hand += 1
            self.most = max(self.most, self.in_hand)
        self.opened.wait(30)
        with self.lock:
            self.in_hand -= 1
        return super().verify(hash, password)
