"""Time zones by their names."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import pytest

from nailer.core.zones import zone_named
from nailer.errors import InvalidInput


def test_a_zone_is_read_once_in_a_process() -> None:
    first = zone_named("Atlantic/Faroe")
    ZoneInfo.clear_cache()

    assert zone_named("Atlantic/Faroe") is first, "a second reading would open the file again, on the event loop"


@pytest.mark.parametrize("name", ["Mars/Olympus", "../../etc/passwd", "/etc/passwd", "a\0b", "", "é" * 5000])
def test_what_is_no_zone_is_said(name: str) -> None:
    with pytest.raises(InvalidInput, match="There is no time zone"):
        zone_named(name)
