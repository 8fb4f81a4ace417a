"""Hashing passwords with Argon2 (RFC 9106) in threads of its own, so that nothing else waits for it."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from threading import BoundedSemaphore
from typing import TypeVar

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from nailer.errors import Busy

T = TypeVar("T")

_AT_ONCE = 2  # each takes 64 MiB and a core
_WAITING = 6


class PasswordHashing:
    """Hashes and checks passwords, two at once. A few more may wait; whoever comes then is told so at once."""

    def __init__(self, hasher: PasswordHasher | None = None) -> None:
        self._hasher = hasher or PasswordHasher()
        self._threads = ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="passwords")
        self._places = BoundedSemaphore(_AT_ONCE + _WAITING)
        # Checked where the name is unknown, so that the time taken tells nobody which names exist.
        self.nobodys = self._hasher.hash(secrets.token_hex(16))

    async def hash(self, password: str) -> str:
        """The hash to store. Raises Busy."""
        return await self._apart(self._hasher.hash, password)

    async def fits(self, stored: str, password: str) -> bool:
        """True where a password is the one of a stored hash. Raises Busy."""
        return await self._apart(self._fits, stored, password)

    def is_old(self, stored: str) -> bool:
        """True for a hash with other costs than those of today."""
        return self._hasher.check_needs_rehash(stored)

    def close(self) -> None:
        """End the threads."""
        self._threads.shutdown(wait=False, cancel_futures=True)

    def _fits(self, stored: str, password: str) -> bool:
        try:
            return self._hasher.verify(stored, password)
        except (VerificationError, InvalidHashError):
            return False

    async def _apart(self, work: Callable[..., T], *given: str) -> T:
        if not self._places.acquire(blocking=False):
            raise Busy("Too many people are signing in right now.")
        future: Future[T] = self._threads.submit(work, *given)
        # A thread goes on where its caller is cancelled: the place is free only once the work has ended.
        future.add_done_callback(lambda _: self._places.release())
        return await asyncio.wrap_future(future)
