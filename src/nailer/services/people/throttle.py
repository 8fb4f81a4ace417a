"""Waits that grow with refused sign-ins: for a name from one network, for a network, and for a name from anywhere."""

from __future__ import annotations

import hashlib
import ipaddress
from datetime import timedelta

from nailer.core.jobs.retry import next_delay
from nailer.core.words import span_text
from nailer.errors import NotAllowed
from nailer.store.accounts import AccountStore, Try

# Tries that cost no wait. An attacker on one network must not keep a person out who signs in from another.
_FREE_OF_NAME_HERE = 3
_FREE_OF_NETWORK = 10
_FREE_OF_NAME = 100
_LONGEST_WAIT_S = 300.0
_FORGOTTEN_AFTER = timedelta(days=1)


class Throttle:
    """Counts each try before its password is looked at: many at once would all be checked otherwise."""

    def __init__(self, store: AccountStore) -> None:
        self._store = store

    async def count(self, name: str, address: str) -> None:
        """Count a try. Raises NotAllowed where it comes too early; it is not counted then."""
        left_s = await self._store.count_try(_watched(name, address), _wait_s, _FORGOTTEN_AFTER)
        if left_s > 0:
            raise NotAllowed(f"Too many sign-ins were refused. Wait {span_text(left_s)}, then try again.")

    async def fitted(self, name: str, address: str) -> None:
        """The password fitted: the name begins anew from this network, and the try counts nowhere else."""
        here, *others = _watched(name, address)
        await self._store.forget_tries([here.who], [one.who for one in others])

    async def not_looked_at(self, name: str, address: str) -> None:
        """The password was not checked after all: the try counts nowhere."""
        await self._store.forget_tries([], [one.who for one in _watched(name, address)])


def _wait_s(failures: int, free: int) -> float:
    """Seconds from one try to the next, after so many refused ones."""
    return next_delay(max(0, failures - free + 1), cap_s=_LONGEST_WAIT_S)


def _watched(name: str, address: str) -> tuple[Try, Try, Try]:
    folded = hashlib.sha256(name.casefold().encode("utf-8", "surrogatepass")).hexdigest()
    network = network_of(address)
    return (
        Try(f"name-here:{folded}:{network}", _FREE_OF_NAME_HERE),
        Try(f"network:{network}", _FREE_OF_NETWORK),
        Try(f"name:{folded}", _FREE_OF_NAME),
    )


def network_of(address: str) -> str:
    """The network that one household or firm has: an IPv4 address, or the first 64 bits of an IPv6 one (RFC 6177).

    >>> network_of("2001:db8:1:2:3::4"), network_of("192.0.2.7"), network_of("testclient")
    ('2001:db8:1:2::', '192.0.2.7', 'testclient')
    """
    try:
        known = ipaddress.ip_address(address)
    except ValueError:
        return address[:60]
    if known.version == 4:
        return str(known)
    if known.ipv4_mapped is not None:
        return str(known.ipv4_mapped)
    return str(ipaddress.ip_network((int(known) >> 64 << 64, 64)).network_address)
