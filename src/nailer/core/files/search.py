"""What is looked for in a tree: by name, size, age, kind and permissions. Text inside is asked for here and read
elsewhere."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum
from fnmatch import translate

from nailer.core.files.entry import NS, Entry, Kind
from nailer.core.files.sitepath import shown_name
from nailer.core.numbers import amount_in
from nailer.errors import InvalidInput

_DAY_NS = 24 * 3600 * NS
_SIZE = re.compile(r"(?P<number>\d+(?:[.,]\d+)?)\s*(?P<unit>[kmg]?)b?", re.I)
_MOST_BYTES = 1e9  # of the largest unit: an exabyte
_UNITS = {"": 1, "k": 1_000, "m": 1_000_000, "g": 1_000_000_000}
_NOT_TEXT = re.compile(
    rb"\.(jpe?g|png|gif|webp|avif|ico|tiff?|psd|pdf|zip|gz|xz|zst|bz2|7z|rar|mp[34]|m4a|mov|webm|ogg|wav|woff2?|ttf|otf|eot|exe|so|sqlite)$",
    re.I,
)


class PermissionsSought(StrEnum):
    """Permissions that are looked for."""

    ANY = ""
    ALL_WRITE = "all-write"
    ALL_CANNOT_READ = "all-cannot-read"
    RUNS = "runs"


@dataclass(frozen=True, slots=True)
class SearchWanted:
    """What is looked for; what is empty or None does not matter. Sizes in bytes, ages in days, `now_ns` is UTC.

    `name` is a part of a name, or a pattern where it has `*`, `?` or `[`. `inside` is text a file holds.
    """

    name: str = ""
    kind: Kind | None = None
    least_bytes: int | None = None
    most_bytes: int | None = None
    newer_days: float | None = None
    older_days: float | None = None
    permissions: PermissionsSought = PermissionsSought.ANY
    inside: str = ""
    now_ns: int = 0

    def fits(self, entry: Entry) -> bool:
        """True where everything fits that an entry tells by itself; `inside` is not looked at.

        >>> SearchWanted(name="*.php", least_bytes=10).fits(Entry(b"index.PHP", Kind.FILE, 12))
        True
        """
        return (
            (self.kind is None or entry.kind is self.kind)
            and self._fits_name(entry)
            and self._fits_size(entry)
            and self._fits_age(entry)
            and self._fits_permissions(entry)
        )

    def may_hold_text(self, entry: Entry) -> bool:
        """True for a file that is worth reading for the text inside."""
        return entry.is_file and entry.size > 0 and not _NOT_TEXT.search(entry.name)

    def _fits_name(self, entry: Entry) -> bool:
        if not self.name:
            return True
        name = shown_name(entry.name).casefold()
        if any(one in self.name for one in "*?["):
            return re.fullmatch(translate(self.name.casefold()), name) is not None
        return self.name.casefold() in name

    def _fits_size(self, entry: Entry) -> bool:
        if self.least_bytes is None and self.most_bytes is None:
            return True
        if not entry.is_file:
            return False
        return (self.least_bytes or 0) <= entry.size and (self.most_bytes is None or entry.size <= self.most_bytes)

    def _fits_age(self, entry: Entry) -> bool:
        if self.newer_days is None and self.older_days is None:
            return True
        if entry.stamp is None:
            return False
        days = (self.now_ns - entry.stamp.at_ns) / _DAY_NS
        return (self.newer_days is None or days <= self.newer_days) and (
            self.older_days is None or days >= self.older_days
        )

    def _fits_permissions(self, entry: Entry) -> bool:
        if self.permissions is PermissionsSought.ANY:
            return True
        if entry.permissions is None or entry.kind is Kind.LINK:
            return False
        if self.permissions is PermissionsSought.ALL_WRITE:
            return bool(entry.permissions & 0o002)
        if self.permissions is PermissionsSought.ALL_CANNOT_READ:
            return not entry.permissions & 0o004
        return entry.is_file and bool(entry.permissions & 0o111)


def parse_size(text: str) -> int | None:
    """Bytes from what a person typed; None for nothing. Raises InvalidInput.

    >>> parse_size("1.5 MB"), parse_size("300k"), parse_size("")
    (1500000, 300000, None)
    """
    if not text.strip():
        return None
    found = _SIZE.fullmatch(text.strip())
    amount = amount_in(found["number"], most=_MOST_BYTES) if found else None
    if found is None or amount is None:
        raise InvalidInput(f"“{text[:40]}” is not a size. Write it like 300 kB or 1.5 MB.")
    return round(amount * _UNITS[found["unit"].lower()])


def parse_days(text: str) -> float | None:
    """Days from what a person typed; None for nothing. Raises InvalidInput."""
    if not text.strip():
        return None
    days = amount_in(text.strip(), most=100_000)
    if days is None:
        raise InvalidInput(f"“{text[:40]}” is not a number of days.")
    return days
