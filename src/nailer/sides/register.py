"""Which sides there are: each registers how it is reached, and nothing else needs to know of it.

What a side can do is said by its connection (`Abilities`); what holds of a protocol before anybody is connected, by its
`Traits`. A protocol that no side has registered for is refused, and never taken for another one.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from nailer.core.connecting.protocol import Protocol
from nailer.errors import NotSupported
from nailer.sides.connection import Connection, Wanted

Connect = Callable[[Wanted], Awaitable[Connection]]
_reached_by: dict[str, Connect] = {}


def register(protocol: Protocol, connect: Connect) -> None:
    """Say how a protocol is reached."""
    _reached_by[protocol] = connect


def reached_by(protocol: Protocol) -> Connect:
    """How a protocol is reached. Raises NotSupported where no side is registered for it."""
    connect = _reached_by.get(protocol)
    if connect is None:
        raise NotSupported(f"This Nailer has no side that speaks {protocol}.")
    return connect
