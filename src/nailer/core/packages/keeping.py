"""Which copies of a folder stay: so many of the last days, weeks and months; and where a copy is put that leaves Nailer."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime

from nailer.core.files.sitepath import SitePath

_LONGEST = 60


@dataclass(frozen=True, slots=True)
class KeepingRule:
    """How many copies stay: the last of each of so many days, weeks and months in which one was taken."""

    daily: int = 7
    weekly: int = 4
    monthly: int = 12

    @property
    def text(self) -> str:
        """`7 daily, 4 weekly, 12 monthly`."""
        parts = [
            f"{count} {word}"
            for count, word in ((self.daily, "daily"), (self.weekly, "weekly"), (self.monthly, "monthly"))
            if count
        ]
        return ", ".join(parts) or "the last one"


def staying(copies: Sequence[datetime], rule: KeepingRule) -> set[datetime]:
    """Those of some copies that a rule keeps. The newest always stays, whatever the rule says.

    >>> days = [datetime(2026, 11, day) for day in (1, 2, 28, 29)]
    >>> sorted(one.day for one in staying(days, KeepingRule(2, 0, 0)))
    [28, 29]
    """
    if not copies:
        return set()
    newest_first = sorted(copies, reverse=True)
    kept = {newest_first[0]}
    kept |= _last_of(newest_first, rule.daily, lambda one: one.date())
    kept |= _last_of(newest_first, rule.weekly, lambda one: one.isocalendar()[:2])
    kept |= _last_of(newest_first, rule.monthly, lambda one: (one.year, one.month))
    return kept


def _last_of(newest_first: Iterable[datetime], count: int, span: Callable[[datetime], object]) -> set[datetime]:
    """The newest copy in each of the last so many spans that have one."""
    found: dict[object, datetime] = {}
    for one in newest_first:
        if span(one) not in found and len(found) == count:
            break
        found.setdefault(span(one), one)
    return set(found.values())


def copy_name(site: str, path: SitePath, version: str, day: date) -> str:
    """What a copy is called that leaves Nailer: the site, the folder, its version, the day.

    >>> copy_name("Skerry Ferries", SitePath((b"htdocs", b"skins", b"harbour")), "1.4.2", date(2026, 11, 29))
    'skerry-ferries_harbour_1.4.2_2026-11-29'
    """
    folder = path.name.decode("utf-8", "replace") if path.names else "account"
    parts = [_plain(site), _plain(folder), _plain(version), day.isoformat()]
    return "_".join(part for part in parts if part)


def _plain(text: str) -> str:
    return re.sub(r"[^a-z0-9.]+", "-", text.lower()).strip("-.")[:_LONGEST]


def published_by(place: SitePath, published: Collection[SitePath]) -> SitePath | None:
    """The folder that is published and that a place lies in; None where it lies in none."""
    return next((one for one in published if place.below(one) is not None), None)
