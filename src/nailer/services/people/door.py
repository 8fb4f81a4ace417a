"""The door of the wing: who may sign in."""

from __future__ import annotations

from dataclasses import dataclass

from argon2 import PasswordHasher

from nailer.services.people.accounts import Accounts
from nailer.store.accounts import AccountStore


@dataclass(frozen=True, slots=True)
class People:
    """Accounts and their sessions (`accounts`)."""

    accounts: Accounts

    @classmethod
    def build(cls, store: AccountStore, session_hours: int, hasher: PasswordHasher | None) -> People:
        """`hasher` None: passwords are hashed with Argon2 as it is recommended (RFC 9106)."""
        return cls(Accounts(store, session_hours=session_hours, hasher=hasher))
