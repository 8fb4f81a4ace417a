"""Time zones by their names. Reading one opens a file, so it is read once and then remembered."""

from __future__ import annotations

from functools import lru_cache
from zoneinfo import ZoneInfo

from nailer.errors import InvalidInput


@lru_cache(maxsize=1024)  # more than there are; what is not found is not remembered
def zone_named(name: str) -> ZoneInfo:
    """The zone of a name of the time zone database. Raises InvalidInput where there is none.

    The first call for a name in a process reads a file of some kilobytes, as an import does; no later one does.

    >>> zone_named("Europe/Lisbon").key
    'Europe/Lisbon'
    """
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError) as error:
        raise InvalidInput(f"There is no time zone “{name[:60]}”.") from error
