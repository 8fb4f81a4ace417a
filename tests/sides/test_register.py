"""A side is found by what registered for its protocol, and a protocol that nobody speaks is never dialled as another."""

from __future__ import annotations

import pytest

from nailer.core.connecting.protocol import Protocol
from nailer.errors import NotSupported
from nailer.sides import reach
from nailer.sides.register import reached_by


@pytest.mark.parametrize("protocol", Protocol)
def test_every_protocol_has_a_side_and_says_what_holds_of_it(protocol: Protocol) -> None:
    assert reach is not None
    connect = reached_by(protocol)
    assert connect.__module__.startswith("nailer.sides.")
    assert protocol.port == protocol.traits.port
    assert protocol.word


def test_a_protocol_without_a_side_is_refused() -> None:
    with pytest.raises(NotSupported, match="no side that speaks carrier-pigeon"):
        reached_by("carrier-pigeon")  # type: ignore[arg-type]
