"""Replies of FTP servers (RFC 959, 4.2)."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Reply:
    """A whole reply: its code and all its lines, the code taken off the first and the last."""

    code: int
    lines: tuple[bytes, ...]

    @property
    def text(self) -> str:
        """The reply's lines as one."""
        return b" ".join(line.strip() for line in self.lines).decode("utf-8", "replace").strip()

    @property
    def is_good(self) -> bool:
        """True for 2xx and 3xx."""
        return 200 <= self.code < 400


def has_line_break(command: bytes) -> bool:
    """True where a command cannot be sent as one line."""
    return b"\n" in command or b"\r" in command or b"\0" in command
