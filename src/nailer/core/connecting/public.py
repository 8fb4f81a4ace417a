"""Which addresses are everybody's: a check that fetches for a person must not become a way into the network it runs in."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address

Network = IPv4Network | IPv6Network

_NAT64 = IPv6Network("64:ff9b::/96")  # RFC 6052: an IPv4 address in its last 32 bits


def may_be_fetched(address: str, allowed: Sequence[Network] = ()) -> bool:
    """True for a public address, or one in a network that the settings allow. What is no address is not allowed.

    >>> may_be_fetched("93.184.216.34"), may_be_fetched("10.0.0.7"), may_be_fetched("::ffff:10.0.0.7")
    (True, False, False)
    """
    try:
        known = _behind(ip_address(address.partition("%")[0]))
    except ValueError:
        return False
    if any(known.version == one.version and known in one for one in allowed):
        return True
    return known.is_global and not known.is_multicast


def _behind(address: IPv4Address | IPv6Address) -> IPv4Address | IPv6Address:
    """The IPv4 address that an IPv6 one leads to, where it does (RFC 4291, 3056 and 6052)."""
    if isinstance(address, IPv4Address):
        return address
    if address in _NAT64:
        return IPv4Address(int(address) & 0xFFFF_FFFF)
    return address.ipv4_mapped or address.sixtofour or address
