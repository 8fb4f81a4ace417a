"""The door of the wing: who may sign in, what each may do, and what each has done."""

from __future__ import annotations

from dataclasses import dataclass

from argon2 import PasswordHasher

from nailer.services.people.accounts import Accounts
from nailer.services.people.gate import Gate
from nailer.services.people.hashing import PasswordHashing
from nailer.services.people.invitations import Invitations
from nailer.services.people.log import Log
from nailer.services.people.presence import Presence
from nailer.services.people.rights import Rights
from nailer.services.people.second import SecondProof
from nailer.services.people.streams import Streams
from nailer.services.people.throttle import Throttle
from nailer.services.people.tokens import Tokens
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Lasting:
    """How long things last: a session, one that nobody uses, and an entry of the log."""

    session_hours: int
    idle_hours: int
    log_days: int


@dataclass(frozen=True, slots=True)
class People:
    """Accounts and their sessions (`accounts`), open streams (`streams`), second proofs (`second`), programs (`tokens`), who
    is invited (`invitations`), who may do what (`rights`), who works where now (`presence`), who did what (`log`), and
    what asks once more who somebody is (`gate`)."""

    accounts: Accounts
    streams: Streams
    second: SecondProof
    tokens: Tokens
    invitations: Invitations
    rights: Rights
    presence: Presence
    log: Log
    gate: Gate

    @classmethod
    def build(cls, stores: Stores, lasting: Lasting, hasher: PasswordHasher | None) -> People:
        """`hasher` None: passwords are hashed with Argon2 as it is recommended (RFC 9106)."""
        streams = Streams()
        log = Log(stores.log, lasting.log_days)
        accounts = Accounts(
            stores.accounts,
            PasswordHashing(hasher),
            streams,
            session_hours=lasting.session_hours,
            idle_hours=lasting.idle_hours,
        )
        second = SecondProof(stores.proofs, Throttle(stores.accounts))
        return cls(
            accounts=accounts,
            streams=streams,
            second=second,
            tokens=Tokens(stores.tokens, stores.grants, log, streams),
            invitations=Invitations(stores.invitations, accounts, log),
            rights=Rights(stores.grants, stores.accounts, log, streams),
            presence=Presence(),
            log=log,
            gate=Gate(accounts, second),
        )
