"""Which addresses are everybody's: a check that fetches for a person must not become a way into the network it runs in.

What is public is said by what it is, not by what it is not: global unicast (RFC 4291, 2.4, and its one allocated block),
less every range of IANA's two registries of special-purpose addresses (RFC 6890 and what came since). Ranges of those
registries that are reachable from everywhere, like anycast services, are left out as well: no site is there.
"""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address

Network = IPv4Network | IPv6Network

# IANA IPv4 Special-Purpose Address Registry, with multicast (RFC 5771) and what is reserved for later (RFC 1112, 4).
_SPECIAL_V4 = tuple(
    map(
        IPv4Network,
        (
            "0.0.0.0/8",  # this network, RFC 791
            "10.0.0.0/8",  # private, RFC 1918
            "100.64.0.0/10",  # shared behind a carrier's NAT, RFC 6598
            "127.0.0.0/8",  # loopback, RFC 1122
            "169.254.0.0/16",  # link-local, RFC 3927; services of clouds answer here
            "172.16.0.0/12",  # private, RFC 1918
            "192.0.0.0/24",  # protocol assignments, RFC 6890
            "192.0.2.0/24",  # documentation, RFC 5737
            "192.31.196.0/24",  # AS112, RFC 7535
            "192.52.193.0/24",  # AMT, RFC 7450
            "192.88.99.0/24",  # 6to4 relays, RFC 7526
            "192.168.0.0/16",  # private, RFC 1918
            "192.175.48.0/24",  # AS112, RFC 7534
            "198.18.0.0/15",  # benchmarks, RFC 2544
            "198.51.100.0/24",  # documentation, RFC 5737
            "203.0.113.0/24",  # documentation, RFC 5737
            "224.0.0.0/4",  # multicast
            "240.0.0.0/4",  # reserved, and the limited broadcast, RFC 8190
        ),
    )
)
_GLOBAL_V6 = IPv6Network("2000::/3")
# IANA IPv6 Special-Purpose Address Registry, as far as it is in 2000::/3: all else is not global unicast anyway.
_SPECIAL_V6 = tuple(
    map(
        IPv6Network,
        (
            "2001::/23",  # protocol assignments, RFC 2928: Teredo, benchmarks, ORCHID, AMT and others
            "2001:db8::/32",  # documentation, RFC 3849
            "2002::/16",  # 6to4, RFC 3056: leads to an IPv4 address
            "2620:4f:8000::/48",  # AS112, RFC 7534
            "3fff::/20",  # documentation, RFC 9637
        ),
    )
)
# Where an IPv6 address is another writing of an IPv4 one in its last 32 bits: mapped (RFC 4291, 2.5.5.2), NAT64 (RFC 6052).
_HOLDS_V4 = (IPv6Network("::ffff:0:0/96"), IPv6Network("64:ff9b::/96"))


def may_be_fetched(address: str, allowed: Sequence[Network] = ()) -> bool:
    """True for a public address, or one in a network that the settings allow. What is not an address is not allowed.

    >>> may_be_fetched("93.184.216.34"), may_be_fetched("10.0.0.7"), may_be_fetched("::ffff:10.0.0.7")
    (True, False, False)
    >>> may_be_fetched("::127.0.0.1"), may_be_fetched("2600:1406::1"), may_be_fetched("3fff::1")
    (False, True, False)
    """
    try:
        known = _unwrapped(ip_address(address.partition("%")[0]))
    except ValueError:
        return False
    if any(known.version == one.version and known in one for one in allowed):
        return True
    if isinstance(known, IPv4Address):
        return not any(known in one for one in _SPECIAL_V4)
    return known in _GLOBAL_V6 and not any(known in one for one in _SPECIAL_V6)


def _unwrapped(address: IPv4Address | IPv6Address) -> IPv4Address | IPv6Address:
    if isinstance(address, IPv6Address) and any(address in one for one in _HOLDS_V4):
        return IPv4Address(int(address) & 0xFFFF_FFFF)
    return address
