"""Versions as packages declare them, compared by their numbers: 1.10 comes after 1.9."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum
from itertools import zip_longest

from nailer.core.numbers import number_in

_SHAPE = re.compile(r"\s*v?(?P<numbers>\d{1,9}(?:\.\d{1,9}){0,7})(?P<rest>(?!\d|\.\d)[-+.\s]?[0-9A-Za-z.+-]{0,40})\s*$")
_BEFORE = re.compile(r"[-.\s]?(?:dev|alpha|a|beta|b|rc|pre|preview)(?=[.\d-]|$)", re.I)
_ORDER = ("dev", "alpha", "a", "beta", "b", "pre", "preview", "rc")


class Order(StrEnum):
    """How one version stands to another."""

    NEWER = "newer"
    SAME = "the same"
    OLDER = "older"
    UNKNOWN = "not comparable"


@dataclass(frozen=True, slots=True)
class Version:
    """A version as it is written, with its numbers. `before`: what comes before the release of these numbers (beta 2)."""

    text: str
    numbers: tuple[int, ...] = ()
    before: tuple[int, ...] | None = None

    @property
    def is_known(self) -> bool:
        """True where it has numbers to compare."""
        return bool(self.numbers)


def version_of(text: str) -> Version:
    """A version out of its text; without numbers where it has none.

    >>> version_of(" v1.10.0 ").numbers, version_of("2.0-beta2").before, version_of("latest").numbers
    ((1, 10, 0), (3, 2), ())
    """
    said = text.strip()[:60]
    found = _SHAPE.match(said)
    if found is None:
        return Version(said)
    numbers = tuple(int(one) for one in found["numbers"].split("."))
    rest = found["rest"].partition("+")[0]
    early = _BEFORE.match(rest)
    if early is None:
        return Version(said, numbers)
    word = early[0].strip("-. \t").lower()
    count = number_in(re.sub(r"\D", "", rest[early.end() :])[:9] or "0") or 0
    return Version(said, numbers, (_ORDER.index(word), count))


def order(new: Version, old: Version) -> Order:
    """How `new` stands to `old`.

    >>> order(version_of("1.10"), version_of("1.9")), order(version_of("1.0"), version_of("1")).value
    (<Order.NEWER: 'newer'>, 'the same')
    >>> order(version_of("2.0-rc1"), version_of("2.0")).value, order(version_of("x"), version_of("2")).value
    ('older', 'not comparable')
    """
    if not new.is_known or not old.is_known:
        return Order.SAME if new.text == old.text else Order.UNKNOWN
    for one, other in zip_longest(new.numbers, old.numbers, fillvalue=0):
        if one != other:
            return Order.NEWER if one > other else Order.OLDER
    ours, theirs = _rank(new), _rank(old)
    if ours == theirs:
        return Order.SAME
    return Order.NEWER if ours > theirs else Order.OLDER


def _rank(one: Version) -> tuple[int, tuple[int, ...]]:
    return (1, ()) if one.before is None else (0, one.before)
