"""The log: the conversation with a server, bounded in memory, readable, and without secrets."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum

_MOST_LINES = 2000
_MOST_LETTERS = 400
MASK = "••••••"


class Way(StrEnum):
    """Which way a line went; NOTE is Nailer's own remark."""

    OUT = "out"
    IN = "in"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class SaidLine:
    """One line: when (seconds since 1970), on which of a site's connections, which way, and what."""

    number: int
    at_s: float
    line: int
    way: Way
    text: str


@dataclass(slots=True)
class ConnectionLog:
    """The last lines of a site's conversation. `secrets` are blotted out wherever they appear, also in an echo."""

    secrets: tuple[str, ...] = field(default=(), repr=False)
    _lines: deque[SaidLine] = field(default_factory=lambda: deque(maxlen=_MOST_LINES), repr=False)
    _count: int = 0

    def out(self, text: str | bytes, line: int = 0) -> None:
        """Note what was sent."""
        self._add(Way.OUT, text, line)

    def heard(self, text: str | bytes, line: int = 0) -> None:
        """Note what was heard."""
        self._add(Way.IN, text, line)

    def note(self, text: str, line: int = 0) -> None:
        """Note what Nailer has to say."""
        self._add(Way.NOTE, text, line)

    def hide(self, secrets: Iterable[str | None]) -> None:
        """Blot these out from now on."""
        fresh = [one for one in secrets if one]
        self.secrets = tuple(sorted({*self.secrets, *fresh}, key=len, reverse=True))

    @property
    def count(self) -> int:
        """The number of the last line."""
        return self._count

    def lines(self, *, after: int = 0, wanted: str = "") -> list[SaidLine]:
        """The lines after one's number, in order, that hold a text."""
        text = wanted.casefold()
        return [one for one in self._lines if one.number > after and text in one.text.casefold()]

    def _add(self, way: Way, text: str | bytes, line: int) -> None:
        if isinstance(text, bytes):
            text = text.decode("utf-8", "backslashreplace")
        for secret in self.secrets:
            text = text.replace(secret, MASK)
        shown = text[:_MOST_LETTERS]
        if not shown.isprintable():
            shown = "".join(one if one.isprintable() else f"\\x{ord(one):02x}" for one in shown)
        self._count += 1
        self._lines.append(SaidLine(self._count, time.time(), line, way, shown))
