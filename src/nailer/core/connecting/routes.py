"""Where a server is reached in this installation: by its own name and port, or by others that the settings name."""

from __future__ import annotations

from collections.abc import Callable

from nailer.core.numbers import number_in

Route = Callable[[str, int], tuple[str, int]]
"""From a server's name and port to the name and port that are dialled for it."""


def routed_address(address: str, route: Route) -> str:
    """A web address as this machine reaches it.

    >>> routed_address("https://skerry.example/a?b", lambda host, port: ("127.0.0.1", 8080))
    'http://127.0.0.1:8080/a?b'
    >>> routed_address("https://skerry.example/a", lambda host, port: (host, port))
    'https://skerry.example/a'
    """
    scheme, _, rest = address.partition("://")
    netloc, slash, path = rest.partition("/")
    host, _, port = netloc.partition(":")
    number = number_in(port, most=65535) or (443 if scheme == "https" else 80)
    dial_host, dial_port = route(host, number)
    if (dial_host, dial_port) == (host, number):
        return address
    return f"http://{dial_host}:{dial_port}{slash}{path}"
