"""Slowing down refused sign-ins, by the rules of `core/people/tries.py`."""

from __future__ import annotations

from datetime import timedelta

from nailer.core.people.tries import watched
from nailer.core.words import span_text
from nailer.errors import NotAllowed
from nailer.store.people.accounts import AccountStore

_FORGOTTEN_AFTER = timedelta(days=1)


class Throttle:
    """Counts each try before its password is looked at: many at once would all be checked otherwise."""

    def __init__(self, store: AccountStore) -> None:
        self._store = store

    async def count(self, name: str, address: str) -> None:
        """Count a try. Raises NotAllowed where it comes too early; it is not counted then."""
        left_s = await self._store.count_try(watched(name, address), _FORGOTTEN_AFTER)
        if left_s > 0:
            raise NotAllowed(f"Too many failed sign-ins. Try again in {span_text(left_s)}.")

    async def fitted(self, name: str, address: str) -> None:
        """The password fitted: the name begins anew from this network, and the try counts nowhere else."""
        here, *others = watched(name, address)
        await self._store.forget_tries([here], others)

    async def not_looked_at(self, name: str, address: str) -> None:
        """The password was not checked after all: the try counts nowhere."""
        await self._store.forget_tries([], watched(name, address))
