"""What is printed: sentences for people, JSON for programs, and a bar that is quiet in a log."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable
from typing import Any
from urllib.parse import unquote_to_bytes

_WIDTH = 30
_LOG_STEP = 0.25


def shown(token: str) -> str:
    """A path of the API for reading; what cannot be shown is marked."""
    text = unquote_to_bytes(token).decode("utf-8", "backslashreplace")
    return "".join(one if one.isprintable() else f"\\x{ord(one):02x}" for one in text)


def size(count: int) -> str:
    """Bytes as people read them.

    >>> size(87), size(48_300_000)
    ('87 B', '48.3 MB')
    """
    value = float(count)
    for unit in ("B", "kB", "MB", "GB", "TB"):
        if value < 999.95 or unit == "TB":
            return f"{count} B" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1000
    raise AssertionError("the last unit always returns")


def table(rows: Iterable[tuple[str, ...]]) -> None:
    """Rows with their columns in line."""
    listed = list(rows)
    widths = [max(len(row[at]) for row in listed) for at in range(len(listed[0]))] if listed else []
    for row in listed:
        say("  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip())


def as_json(value: Any) -> None:
    """A value for a program, on one line."""
    say(json.dumps(value, ensure_ascii=False))


def say(text: str) -> None:
    """A line on standard output."""
    sys.stdout.write(text + "\n")
    sys.stdout.flush()


def tell(text: str) -> None:
    """A line for the person alone, on standard error."""
    sys.stderr.write(text + "\n")
    sys.stderr.flush()


class Bar:
    """A job's progress on standard error: one line that is drawn anew on a terminal, a line each quarter in a log."""

    def __init__(self) -> None:
        self._drawn = sys.stderr.isatty()
        self._told = -1.0

    def at(self, job: dict[str, Any]) -> None:
        """Show how far a job is."""
        share = float(job["share"])
        text = f"{job['files_done']} of {job['files']} files, {size(job['bytes_done'])} of {size(job['bytes'])}"
        if self._drawn:
            full = round(share * _WIDTH)
            sys.stderr.write(f"\r\x1b[K[{'=' * full}{' ' * (_WIDTH - full)}] {share:4.0%} {text}")
            sys.stderr.flush()
        elif share - self._told >= _LOG_STEP or job["state"] not in ("waiting", "running"):
            self._told = share
            tell(f"{share:4.0%} {text}")

    def end(self) -> None:
        """Leave the line."""
        if self._drawn:
            sys.stderr.write("\n")
