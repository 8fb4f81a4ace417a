"""Tries to sign in: under which names they are counted, how they fade, and how long one waits after refused ones.

A try is counted under three names: the person's from one network, the network, and the person's from anywhere. The first
is strict. The others are generous: an attacker must neither keep a person out who signs in from another network, nor slow
down a whole office for long.
"""

from __future__ import annotations

import hashlib
import ipaddress
from dataclasses import dataclass

from nailer.core.jobs.retry import next_delay

_FADES_S = 600.0  # after so long one refused try less counts


@dataclass(frozen=True, slots=True)
class Watched:
    """A name under which tries are counted, how many of them cost no wait, and the longest wait in seconds."""

    who: str
    free: int
    longest_s: float

    def left_s(self, refused: float, idle_s: float) -> float:
        """Seconds until the next try may come, `idle_s` after the last one; 0 where it may come now.

        >>> watched = Watched("network:192.0.2.7", 3, 300.0)
        >>> watched.left_s(2, 0), watched.left_s(3, 0), watched.left_s(5, 1.5), watched.left_s(5, 60)
        (0.0, 1.0, 2.5, 0.0)
        """
        beyond = round(refused) - self.free + 1  # three tries in a second have faded a little already
        return max(0.0, next_delay(beyond, cap_s=self.longest_s) - idle_s) if beyond > 0 else 0.0


def faded(refused: float, idle_s: float) -> float:
    """How many refused tries still count after `idle_s` seconds without any.

    >>> faded(5.0, 900.0), faded(1.0, 86_400.0)
    (3.5, 0.0)
    """
    return max(0.0, refused - max(0.0, idle_s) / _FADES_S)


def watched(name: str, address: str) -> tuple[Watched, Watched, Watched]:
    """Under what a try is counted: the name from this network first, the network, the name from anywhere."""
    folded = hashlib.sha256(name.casefold().encode("utf-8", "surrogatepass")).hexdigest()
    network = network_of(address)
    return (
        Watched(f"name-here:{folded}:{network}", 3, 300.0),
        Watched(f"network:{network}", 10, 30.0),
        Watched(f"name:{folded}", 100, 30.0),
    )


def network_of(address: str) -> str:
    """The network that one household or firm has: an IPv4 address, or the first 64 bits of an IPv6 one (RFC 6177).

    >>> network_of("2001:db8:1:2:3::4"), network_of("192.0.2.7"), network_of("::ffff:192.0.2.7"), network_of("testclient")
    ('2001:db8:1:2::', '192.0.2.7', '192.0.2.7', 'testclient')
    """
    try:
        known = ipaddress.ip_address(address)
    except ValueError:
        return address[:60]
    if isinstance(known, ipaddress.IPv4Address):
        return str(known)
    if known.ipv4_mapped is not None:
        return str(known.ipv4_mapped)
    return str(ipaddress.IPv6Address(int(known) >> 64 << 64))
