"""Named misbehaviours of a hosting server: one small class each. A healthy server has `Healthy`."""

from __future__ import annotations

import asyncio
import errno
import os
from dataclasses import dataclass, field


class Healthy:
    """Does what is asked. The others change one of these answers. `delay_s` passes before each request is answered."""

    delay_s: float = 0.0
    refuses: frozenset[str] = frozenset()  # commands of FTP that are answered 550
    most_names: int | None = None  # a listing by FTP ends after so many, and says so

    async def before_request(self) -> None:
        """Called before every request of the file protocol."""
        if self.delay_s:
            await asyncio.sleep(self.delay_s)

    def on_bytes(self, count: int) -> bool:
        """Called with the bytes of every read and write. False: the line is cut now."""
        return True

    def opens(self) -> bool:
        """Called with every session of the file protocol that begins. False: the line is cut instead."""
        return True

    def check_room(self, count: int) -> None:
        """Called before bytes are written. Raises OSError where there is no room."""

    def lets_in(self, user: str) -> bool:
        """Called with every sign-in that is otherwise right."""
        return True

    def line_lost(self) -> None:
        """Called when a line has ended."""

    def check_listing(self, path: bytes) -> None:
        """Called before a folder is listed, with its path on the server. Raises OSError where nobody may."""


@dataclass
class Slow(Healthy):
    """Answers every request late, like a server far away and busy."""

    delay_s: float = 0.05


@dataclass
class CutAfter(Healthy):
    """Cuts the line once so many bytes have passed; afterwards behaves, unless `again`."""

    after_bytes: int
    again: bool = False
    passed: int = 0
    done: bool = False

    def on_bytes(self, count: int) -> bool:
        if self.done:
            return True
        self.passed += count
        if self.passed < self.after_bytes:
            return True
        self.passed, self.done = 0, not self.again
        return False


@dataclass
class CutWhileOpening(Healthy):
    """Cuts so many lines at the moment when the file protocol begins on them."""

    left: int

    def opens(self) -> bool:
        self.left -= 1
        return self.left < 0


@dataclass
class Stuck(Healthy):
    """Goes silent in the middle of a line once so many bytes have passed; the line stays open. A fresh line is healthy."""

    after_bytes: int
    passed: int = 0
    silent: bool = False
    told: bool = False
    ended: asyncio.Event = field(default_factory=asyncio.Event)

    async def before_request(self) -> None:
        if self.silent and not self.told:
            self.told = True
            await self.ended.wait()

    def line_lost(self) -> None:
        self.ended.set()

    def on_bytes(self, count: int) -> bool:
        self.passed += count
        self.silent = self.passed >= self.after_bytes
        return True


@dataclass
class Full(Healthy):
    """Has room for so many bytes more, then says what servers say: a plain failure with the system's words."""

    room_bytes: int

    def check_room(self, count: int) -> None:
        if count > self.room_bytes:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        self.room_bytes -= count


@dataclass
class RenamesNothing(Healthy):
    """Lets nothing be renamed, as some hosts set their servers up."""

    refuses: frozenset[str] = frozenset({"RNFR", "RNTO"})


@dataclass
class CutsListings(Healthy):
    """Lists so many names of a folder and no more, and says in its good reply that it stopped."""

    most_names: int | None = 3


@dataclass
class RefusesEverybody(Healthy):
    """Refuses every sign-in, as a host does that has locked an account; counts how often it was tried."""

    tries: int = 0

    def lets_in(self, user: str) -> bool:
        self.tries += 1
        return False


@dataclass
class ShutFolder(Healthy):
    """Lets nobody list one folder: it belongs to somebody else."""

    folder: bytes

    def check_listing(self, path: bytes) -> None:
        if path.rstrip(b"/").endswith(self.folder):
            raise PermissionError(errno.EACCES, os.strerror(errno.EACCES))


@dataclass
class CutListing(Healthy):
    """Leaves the last names of one folder out of its listing, and says that all is well."""

    folder: bytes
    most: int
