"""What every signed-in connection offers, whatever its protocol, and what it takes to make one."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Protocol as Interface

from nailer.core.connecting.abilities import Abilities
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.charset import UTF8
from nailer.core.files.sitepath import SitePath
from nailer.sides.connection_log import ConnectionLog
from nailer.sides.dial import Endpoint
from nailer.sides.identities.identity import Identity
from nailer.sides.side import Side


class Lane(StrEnum):
    """What a side is for: browsing never waits behind carrying."""

    BROWSE = "browse"
    TRANSFER = "transfer"


class Stage(StrEnum):
    """How far a connection has come. In this order, whatever the protocol."""

    NAME = "name"
    PORT = "port"
    ENCRYPTION = "encryption"
    IDENTITY = "identity"
    SIGN_IN = "sign-in"


# Asked with a server's questions, each with whether the typed answer may be seen; returns the answers in order.
Ask = Callable[[str, tuple[tuple[str, bool], ...]], Awaitable[list[str]]]


@dataclass(frozen=True, slots=True)
class SignIn:
    """How to sign in. Secrets stay out of any printed form of this. `one_time_secret` is the seed of a time-based
    one-time code (RFC 6238), in base 32; `agent` offers the keys of this machine's SSH agent."""

    user: str
    password: str | None = field(default=None, repr=False)
    private_key: str | None = field(default=None, repr=False)
    passphrase: str | None = field(default=None, repr=False)
    one_time_secret: str | None = field(default=None, repr=False)
    key_file: str = ""
    agent: bool = False

    @property
    def secrets(self) -> tuple[str | None, ...]:
        """What must not be seen on the wire or in a log."""
        return (self.password, self.passphrase, self.one_time_secret)


@dataclass(frozen=True, slots=True)
class ConnectionOptions:
    """How to speak with one site's server. `most` are the connections at most; `offset_s` is what the clock of its
    listings is ahead of UTC, None where it is not known."""

    passive: bool = True
    old_allowed: bool = False
    charset: str = UTF8
    most: int = 4
    offset_s: int | None = None


async def nobody_answers(instructions: str, prompts: tuple[tuple[str, bool], ...]) -> list[str]:
    """Answers for a sign-in where no person can be asked: there are none."""
    return []


def _deaf(stage: Stage, finding: str) -> None:
    """Hears the steps of a connection where no page shows them, and does nothing."""


@dataclass(frozen=True, slots=True)
class Wanted:
    """Everything it takes to connect. `heard` is told each stage that was passed, with what was found."""

    protocol: Protocol
    where: Endpoint
    sign_in: SignIn
    pinned: tuple[Identity, ...] = ()
    manner: ConnectionOptions = ConnectionOptions()
    log: ConnectionLog = field(default_factory=ConnectionLog)
    ask: Ask = nobody_answers
    heard: Callable[[Stage, str], None] = _deaf


@dataclass(frozen=True, slots=True)
class CommandResult:
    """What a command on the server came to: its exit status (POSIX: 0 is good) and the bytes it wrote."""

    status: int
    out: bytes
    err: bytes

    @property
    def words(self) -> str:
        """What it said of its failure, or else said, shortened."""
        return (self.err or self.out).decode("utf-8", "replace").strip()[-400:]


class Connection(Interface):
    """A signed-in connection to a server. `channel()` opens sides over it; `close()` ends them all."""

    one_line: bool  # a cut line is the end of the whole connection

    @property
    def is_open(self) -> bool:
        """True while the connection can be used."""

    @property
    def lines(self) -> int:
        """How many connections to the server are open."""

    @property
    def abilities(self) -> Abilities:
        """What the server can do, as far as it was said or tried."""

    async def channel(self, lane: Lane) -> Side:
        """A side over this connection for browsing or for carrying. Raises TooManyConnections, NotSupported."""

    async def run(self, script: bytes, *, within_s: float) -> CommandResult:
        """Run a POSIX shell script on the server, in the account's own folder. Raises NotSupported where the account has
        no shell, ConnectionDropped where it does not end in time."""

    async def measure_offset(self, folder: SitePath) -> int | None:
        """By how many seconds the clock of listings is ahead of UTC, as far as a folder tells without writing; None where it
        does not, or where listings need no clock."""

    async def close(self) -> None:
        """Say goodbye to the server and close. A server that does not answer delays nobody."""
