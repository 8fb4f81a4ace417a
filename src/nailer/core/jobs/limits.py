"""Limits of speed: for each direction, for all sites together and for one, other ones at some hours of the day."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.numbers import amount_in
from nailer.errors import InvalidInput

# The site number that stands for all sites together.
ALL_SITES = 0

_MINUTES = 24 * 60
_LEAST_BYTES_PER_S = 1_000
_MOST_PER_S = 1e9  # of the largest unit
_RATE = re.compile(r"(?P<number>\d+(?:[.,]\d+)?)\s*(?P<unit>[kmg]?)(?:i?b)?(?:/s)?", re.I)
_UNITS = {"": 1, "k": 1_000, "m": 1_000_000, "g": 1_000_000_000}


@dataclass(frozen=True, slots=True)
class Limit:
    """Bytes a second up (to servers) and down (from them). None: no limit."""

    up: int | None = None
    down: int | None = None


@dataclass(frozen=True, slots=True)
class Hours:
    """A limit from one minute of the day up to another; it may run over midnight."""

    begins: int
    ends: int
    limit: Limit

    def covers(self, minute: int) -> bool:
        """
        >>> night = Hours(22 * 60, 6 * 60, Limit())
        >>> night.covers(23 * 60), night.covers(5 * 60), night.covers(12 * 60)
        (True, True, False)
        """
        if self.begins <= self.ends:
            return self.begins <= minute < self.ends
        return minute >= self.begins or minute < self.ends


@dataclass(frozen=True, slots=True)
class Limits:
    """The usual limit, and those of some hours: the first that covers a minute counts."""

    usual: Limit = Limit()
    hours: tuple[Hours, ...] = ()

    def at(self, minute: int) -> Limit:
        """The limit at a minute of the day, on the person's own clock."""
        return next((one.limit for one in self.hours if one.covers(minute)), self.usual)


def parse_rate(text: str) -> int | None:
    """Bytes a second from what a person typed; None for nothing, which is no limit. Raises InvalidInput.

    >>> parse_rate("4 MB/s"), parse_rate("250k"), parse_rate("1.5m"), parse_rate(" ")
    (4000000, 250000, 1500000, None)
    """
    if not text.strip() or text.strip().lower() in ("no limit", "none"):
        return None
    found = _RATE.fullmatch(text.strip())
    amount = amount_in(found["number"], most=_MOST_PER_S) if found else None
    if found is None or amount is None:
        raise InvalidInput(f"“{text[:40]}” is not a speed. Write it like 4 MB/s or 250 kB/s, or leave it empty.")
    rate = round(amount * _UNITS[found["unit"].lower()])
    if rate < _LEAST_BYTES_PER_S:
        raise InvalidInput("The limit must be at least 1 kB/s. To halt a job, pause it.")
    return rate


def parse_hours(text: str) -> tuple[Hours, ...]:
    """One line for each span: `08:00-18:00 up 500 kB/s down 2 MB/s`. Raises InvalidInput with the line.

    >>> parse_hours("22:00-06:00 up 4 MB/s")[0].limit
    Limit(up=4000000, down=None)
    """
    return tuple(_parse_line(line.strip()) for line in text.splitlines() if line.strip())


def hours_text(hours: Sequence[Hours]) -> str:
    """The lines that `parse_hours` reads.

    >>> hours_text(parse_hours("8:00-18:00 up 500k"))
    '08:00-18:00 up 500 kB/s'
    """
    return "\n".join(_line(one) for one in hours)


def _line(one: Hours) -> str:
    span = "-".join(f"{minute // 60:02}:{minute % 60:02}" for minute in (one.begins, one.ends))
    words = [f"{word} {rate_text(rate)}" for word, rate in (("up", one.limit.up), ("down", one.limit.down)) if rate]
    return " ".join([span, *words])


def rate_text(rate: int | None) -> str:
    """A limit as `parse_rate` reads it.

    >>> rate_text(4_000_000), rate_text(1_250), rate_text(None)
    ('4 MB/s', '1.25 kB/s', '')
    """
    if rate is None:
        return ""
    unit, factor = next(
        (unit, factor) for unit, factor in (("MB", 1_000_000), ("kB", 1_000), ("B", 1)) if rate >= factor
    )
    return f"{rate / factor:.3f}".rstrip("0").rstrip(".") + f" {unit}/s"


def _parse_line(line: str) -> Hours:
    wanted = re.fullmatch(r"(\d?\d):(\d\d)\s*-\s*(\d?\d):(\d\d)((?:\s+(?:up|down)\s+[\d.,]+\s*[a-z/]*)*)", line, re.I)
    if wanted is None:
        raise InvalidInput(f"“{line[:60]}” cannot be read. Write a line like 08:00-18:00 up 500 kB/s down 2 MB/s.")
    begins, ends = (int(wanted[at]) * 60 + int(wanted[at + 1]) for at in (1, 3))
    if begins > _MINUTES or ends > _MINUTES or begins == ends:
        raise InvalidInput(f"“{line[:60]}” is not a time span within a day, such as 08:00-18:00.")
    rates: dict[str, int | None] = {}
    for word, rate in re.findall(r"(up|down)\s+([\d.,]+\s*[a-z/]*)", wanted[5], re.I):
        rates[word.lower()] = parse_rate(rate)
    return Hours(begins % _MINUTES, ends, Limit(rates.get("up"), rates.get("down")))


def hours_json(hours: Sequence[Hours]) -> str:
    """Hours with their limits as text for the database."""
    return json.dumps([[one.begins, one.ends, one.limit.up, one.limit.down] for one in hours])


def hours_of_json(text: str) -> tuple[Hours, ...]:
    """Hours with their limits out of the database."""
    return tuple(Hours(begins, ends, Limit(up, down)) for begins, ends, up, down in json.loads(text or "[]"))
