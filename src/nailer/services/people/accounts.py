"""Signing in to Nailer itself: Argon2 passwords, server-side sessions, and waits that grow with refusals."""

from __future__ import annotations

import hashlib
import re
import secrets
from datetime import timedelta

from argon2 import PasswordHasher

from nailer.errors import Busy, InvalidInput, NotAllowed
from nailer.services.people.hashing import PasswordHashing
from nailer.services.people.throttle import Throttle
from nailer.store.accounts import AccountStore, Session, WhenDone
from nailer.store.database import utc_now

_SHORTEST_PASSWORD = 10
_LONGEST_PASSWORD = 1000
_LONGEST_NAME = 80
_MAIL = re.compile(r"[^@\s<>,;\"\x00-\x1f]+@[^@\s<>,;\"\x00-\x1f]+")


class Accounts:
    """Names, passwords and sessions."""

    def __init__(self, store: AccountStore, *, session_hours: int, hasher: PasswordHasher | None = None) -> None:
        self._store = store
        self._session_hours = session_hours
        self._hashing = PasswordHashing(hasher)
        self._throttle = Throttle(store)

    def close(self) -> None:
        """End the threads that hash passwords."""
        self._hashing.close()

    async def is_empty(self) -> bool:
        """True until the first account is made."""
        return await self._store.count() == 0

    async def make_first(self, name: str, password: str) -> None:
        """Make the first account. Raises InvalidInput, or Conflict where somebody was faster."""
        cleaned = _checked(name, password)
        await self._store.add_first(cleaned, await self._hashing.hash(password))

    async def make(self, name: str, password: str) -> int:
        """Make an account; return its number. Raises InvalidInput, or Conflict where the name is taken."""
        cleaned = _checked(name, password)
        return await self._store.add(cleaned, await self._hashing.hash(password))

    async def sign_in(self, name: str, password: str, *, address: str) -> str:
        """A new session's token. Raises NotAllowed: refused, or to be tried later; Busy where too many sign in at once."""
        # Half a character (RFC 3629, 3) can be in no stored name.
        name = name.strip()[:_LONGEST_NAME].encode("utf-8", "replace").decode()
        await self._throttle.count(name, address)
        account = await self._store.by_name(name)
        stored = account.password_hash if account else self._hashing.nobodys
        try:
            fits = await self._hashing.fits(stored, password[:_LONGEST_PASSWORD])
        except Busy:
            await self._throttle.not_looked_at(name, address)
            raise
        if account is None or not fits:
            raise NotAllowed("This name and password do not go together.")
        await self._throttle.fitted(name, address)
        if self._hashing.is_old(account.password_hash):
            await self._hash_anew(account.id, password)
        return await self._begin_session(account.id)

    async def session(self, token: str) -> Session | None:
        """The session of a token; None where there is none, or it has ended."""
        return await self._store.session(_hash(token)) if token else None

    async def sign_out(self, token: str) -> None:
        """End the session of a token."""
        await self._store.end_session(_hash(token))

    async def when_done(self, account_id: int) -> WhenDone:
        """What a person wants to happen when all jobs have ended."""
        return await self._store.when_done(account_id)

    async def set_when_done(self, account_id: int, wishes: WhenDone) -> None:
        """Raises InvalidInput where a mail is wanted and its address is none."""
        if wishes.write and not _MAIL.fullmatch(wishes.mail):
            raise InvalidInput("Write the address that the mail is to go to, like maren@gorsegannet.example.")
        await self._store.set_when_done(account_id, wishes)

    async def _hash_anew(self, account_id: int, password: str) -> None:
        try:
            await self._store.set_password(account_id, await self._hashing.hash(password))
        except Busy:
            return  # the person is in all the same; the next sign-in does it

    async def _begin_session(self, account_id: int) -> str:
        token = secrets.token_urlsafe(32)
        ends_at = utc_now() + timedelta(hours=self._session_hours)
        await self._store.add_session(_hash(token), account_id, secrets.token_urlsafe(32), ends_at)
        return token


def _hash(token: str) -> bytes:
    """Only the hash of a session's token is stored: a dump of the database lets nobody in."""
    return hashlib.sha256(token.encode()).digest()


def _checked(name: str, password: str) -> str:
    cleaned = name.strip()
    problems = {}
    if not 1 <= len(cleaned) <= _LONGEST_NAME:
        problems["name"] = f"A name has 1 to {_LONGEST_NAME} characters."
    if not _SHORTEST_PASSWORD <= len(password) <= _LONGEST_PASSWORD:
        problems["password"] = f"A password has at least {_SHORTEST_PASSWORD} characters."
    if problems:
        raise InvalidInput(" ".join(problems.values()), fields=problems)
    return cleaned
