"""One name on one side: what kind of thing it is and what is known about it."""

from __future__ import annotations

import stat
from dataclasses import dataclass
from enum import StrEnum

NS = 1_000_000_000


class Kind(StrEnum):
    """What a name stands for. `OTHER` is a device, socket or pipe: shown, never carried."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    OTHER = "other"


class SideName(StrEnum):
    """Either end of a pair."""

    HERE = "here"
    THERE = "there"

    @property
    def other(self) -> SideName:
        """The side across."""
        return SideName.THERE if self is SideName.HERE else SideName.HERE


@dataclass(frozen=True, slots=True)
class Stamp:
    """A modification time: nanoseconds since 1970 in UTC, and how coarse it is, in nanoseconds."""

    at_ns: int
    precision_ns: int = NS

    @property
    def at_s(self) -> float:
        """Seconds since 1970, with their fraction."""
        return self.at_ns / NS

    @classmethod
    def seconds(cls, at_s: int) -> Stamp:
        """A stamp of whole seconds, as SFTP version 3 has it."""
        return cls(at_s * NS, NS)


@dataclass(frozen=True, slots=True)
class Entry:
    """One name in a folder.

    `name` is the raw bytes of the last path part. `size` is in bytes (0 for folders). `stamp`, `permissions`, `owner` and
    `group` are None where the side did not say. `permissions` holds the twelve permission bits. `target` is what a link
    points to, as it is written in the link. `leads_to` is the kind a link ends at; None for a broken link. `owner_id` is the
    owner's number where the side gives one.
    """

    name: bytes
    kind: Kind
    size: int = 0
    stamp: Stamp | None = None
    permissions: int | None = None
    owner: str | None = None
    group: str | None = None
    target: bytes | None = None
    leads_to: Kind | None = None
    owner_id: int | None = None

    @property
    def owned_by(self) -> str | None:
        """What tells one owner from another: the number where the side gives it, as one look may show a name and the next
        one not."""
        return str(self.owner_id) if self.owner_id is not None else self.owner

    @property
    def is_folder(self) -> bool:
        """True for a folder itself; a link to one is none."""
        return self.kind is Kind.FOLDER

    @property
    def is_file(self) -> bool:
        """True for a plain file."""
        return self.kind is Kind.FILE

    @property
    def opens_as_folder(self) -> bool:
        """True for a folder, and for a link that leads to one."""
        return self.is_folder or (self.kind is Kind.LINK and self.leads_to is Kind.FOLDER)


def kind_of_mode(mode: int) -> Kind:
    """The kind that the file type bits of a POSIX mode name.

    >>> kind_of_mode(0o100644), kind_of_mode(0o040755), kind_of_mode(0o120777), kind_of_mode(0o010644)
    (<Kind.FILE: 'file'>, <Kind.FOLDER: 'folder'>, <Kind.LINK: 'link'>, <Kind.OTHER: 'other'>)
    """
    if stat.S_ISREG(mode):
        return Kind.FILE
    if stat.S_ISDIR(mode):
        return Kind.FOLDER
    return Kind.LINK if stat.S_ISLNK(mode) else Kind.OTHER
