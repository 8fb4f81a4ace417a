"""Signing in to Nailer itself: Argon2 passwords, server-side sessions, and waits that grow with refusals."""

from __future__ import annotations

import asyncio
import hashlib
import re
import secrets
from datetime import timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from nailer.core.jobs.retry import next_delay
from nailer.core.words import span_text
from nailer.errors import InvalidInput, NotAllowed
from nailer.store.accounts import AccountStore, Session, WhenDone
from nailer.store.database import utc_now

_FREE_TRIES = 3
_LONGEST_WAIT_S = 300.0
_SHORTEST_PASSWORD = 10
_LONGEST_PASSWORD = 1000
_LONGEST_NAME = 80
_MAIL = re.compile(r"[^@\s<>,;\"\x00-\x1f]+@[^@\s<>,;\"\x00-\x1f]+")


class Accounts:
    """Names, passwords and sessions."""

    def __init__(self, store: AccountStore, *, session_hours: int, hasher: PasswordHasher | None = None) -> None:
        self._store = store
        self._session_hours = session_hours
        self._hasher = hasher or PasswordHasher()
        # Verified where the name is unknown, so that the time taken tells nobody which names exist.
        self._nobody = self._hasher.hash(secrets.token_hex(16))

    async def is_empty(self) -> bool:
        """True until the first account is made."""
        return await self._store.count() == 0

    async def make_first(self, name: str, password: str) -> None:
        """Make the first account. Raises InvalidInput, or Conflict where somebody was faster."""
        cleaned = _checked(name, password)
        await self._store.add_first(cleaned, await asyncio.to_thread(self._hasher.hash, password))

    async def make(self, name: str, password: str) -> int:
        """Make an account; return its number. Raises InvalidInput, or Conflict where the name is taken."""
        cleaned = _checked(name, password)
        return await self._store.add(cleaned, await asyncio.to_thread(self._hasher.hash, password))

    async def sign_in(self, name: str, password: str, *, address: str) -> str:
        """A new session's token. Raises NotAllowed: refused, or to be tried later."""
        name = name.strip()[:_LONGEST_NAME]
        watched = (f"name:{name.casefold()}", f"address:{address}")
        for who in watched:
            await self._check_wait(who)
        account = await self._store.by_name(name)
        stored = account.password_hash if account else self._nobody
        fits = await asyncio.to_thread(self._verify, stored, password[:_LONGEST_PASSWORD])
        if account is None or not fits:
            for who in watched:
                await self._store.count_refusal(who)
            raise NotAllowed("This name and password do not go together.")
        for who in watched:
            await self._store.forget_refusals(who)
        if self._hasher.check_needs_rehash(account.password_hash):
            await self._store.set_password(account.id, await asyncio.to_thread(self._hasher.hash, password))
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

    async def _check_wait(self, who: str) -> None:
        refused = await self._store.refusal(who)
        if refused is None:
            return
        failures, last_at = refused
        wait_s = next_delay(max(0, failures - _FREE_TRIES + 1), cap_s=_LONGEST_WAIT_S)
        left_s = (last_at + timedelta(seconds=wait_s) - utc_now()).total_seconds()
        if left_s > 0:
            raise NotAllowed(f"Too many sign-ins were refused. Wait {span_text(left_s)}, then try again.")

    def _verify(self, stored: str, password: str) -> bool:
        try:
            return self._hasher.verify(stored, password)
        except (VerificationError, InvalidHashError):
            return False

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
