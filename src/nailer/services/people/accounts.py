"""Signing in to Nailer itself: Argon2 passwords, server-side sessions, and waits that grow with refusals."""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from datetime import timedelta
from importlib import resources

from nailer.acting import Acting
from nailer.core.people.passwords import HASH_BYTES, LONGEST, check_password
from nailer.core.people.preferences import Preferences
from nailer.core.people.rights import Person
from nailer.errors import Busy, Conflict, InvalidInput, NotAllowed, NotFound
from nailer.services.people.hashing import PasswordHashing
from nailer.services.people.streams import Listener, Streams
from nailer.services.people.throttle import Throttle
from nailer.store.database import utc_now
from nailer.store.people.accounts import Account, AccountStore, From, Session, SignedIn, WhenDone

_LONGEST_NAME = 80
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"  # none that is read for another
_MAIL = re.compile(r"[^@\s<>,;\"\x00-\x1f]+@[^@\s<>,;\"\x00-\x1f]+")


def _common_passwords() -> frozenset[bytes]:
    """Hashes of the passwords that are used most, as public lists of leaked ones have them."""
    raw = resources.files("nailer.services.people").joinpath("common-passwords.bin").read_bytes()
    return frozenset(raw[at : at + HASH_BYTES] for at in range(0, len(raw), HASH_BYTES))


_COMMON = _common_passwords()


@dataclass(frozen=True, slots=True)
class Stays:
    """The sessions and tokens, by number, that stay when a password is changed."""

    sessions: frozenset[int] = frozenset()
    tokens: frozenset[int] = frozenset()


class Accounts:
    """Names, passwords and sessions."""

    def __init__(
        self, store: AccountStore, hashing: PasswordHashing, streams: Streams, *, session_hours: int, idle_hours: int
    ) -> None:
        self._store = store
        self._hashing = hashing
        self._streams = streams
        self._session_hours = session_hours
        self._idle_hours = idle_hours
        self._throttle = Throttle(store)
        # Who starts Nailer reads it there: whoever else reaches the port first does not become its owner.
        self.first_word = "-".join(_word(4) for _ in range(3))

    def close(self) -> None:
        """End the threads that hash passwords."""
        self._hashing.close()

    async def is_empty(self) -> bool:
        """True until the first account is made."""
        return await self._store.count() == 0

    async def make_first(self, name: str, password: str, word: str) -> None:
        """Make the first account, which runs Nailer. Raises InvalidInput, or Conflict where somebody was faster."""
        if not await self.is_empty():
            raise Conflict(
                "The first account already exists. Sign in with it, or ask an administrator for an invitation."
            )
        given = word.strip().casefold().encode("utf-8", "replace")
        if not hmac.compare_digest(given, self.first_word.encode()):
            what = "The setup code is wrong. You find it in the terminal where Nailer was started."
            raise InvalidInput(what, fields={"word": what})
        await self._store.add_first(*await self.prepared(name, password))

    async def make(self, name: str, password: str, *, is_admin: bool = False) -> int:
        """Make an account; return its number. Raises InvalidInput, or Conflict where the name is taken."""
        cleaned, password_hash = await self.prepared(name, password)
        return await self._store.add(cleaned, password_hash, is_admin=is_admin)

    async def prepared(self, name: str, password: str) -> tuple[str, str]:
        """A name and the hash of a password, as an account is stored with. Raises InvalidInput, Busy."""
        cleaned = self._checked(name, password)
        return cleaned, await self._hashing.hash(password)

    async def all(self) -> list[Account]:
        """Everybody, by name."""
        return await self._store.all()

    async def get(self, account_id: int) -> Account:
        """A person. Raises NotFound."""
        return await self._store.get(account_id)

    async def by_name(self, name: str) -> Account | None:
        """The person of a name; None where there is none."""
        return await self._store.by_name(name.strip())

    async def sign_in(self, name: str, password: str, from_: From) -> str:
        """A new session's token. Raises NotAllowed: refused, or to be tried later; Busy where too many sign in at once."""
        # Half a character (RFC 3629, 3) can be in no stored name.
        name = name.strip()[:_LONGEST_NAME].encode("utf-8", "replace").decode()
        await self._throttle.count(name, from_.address)
        account = await self._store.by_name(name)
        stored = account.password_hash if account else self._hashing.nobodys
        try:
            fits = await self._hashing.fits(stored, password[:LONGEST])
        except Busy:
            await self._throttle.not_looked_at(name, from_.address)
            raise
        if account is None or not fits or account.is_off:
            raise NotAllowed("Wrong name or password.")
        await self._throttle.fitted(name, from_.address)
        if self._hashing.is_old(account.password_hash):
            await self._hash_anew(account.id, password)
        return await self._begin_session(account.id, from_)

    async def begin_session(self, account_id: int, from_: From) -> str:
        """A new session of somebody who has just proved who they are by other means; its token."""
        return await self._begin_session(account_id, from_)

    async def session(self, token: str) -> Session | None:
        """The session of a token; None where there is none, or it has ended."""
        return await self._store.session(_hash(token), self._idle_hours) if token else None

    def reader(self, session: Session, person: Callable[[int], Awaitable[Person]], address: str) -> Listener:
        """Who listens to events in a session."""

        async def _now() -> Acting | None:
            if not await self._store.session_lasts(session.account_id, session.id, self._idle_hours):
                return None
            try:
                return Acting(await person(session.account_id), address)
            except NotFound:
                return None

        return Listener(session.key, session.account_id, _now)

    async def sign_out(self, token: str) -> None:
        """End the session of a token."""
        await self._store.end_session(_hash(token))
        self._streams.end()

    async def sessions_of(self, account_id: int) -> list[SignedIn]:
        """Where a person is signed in, the session used last first."""
        return await self._store.sessions_of(account_id, self._idle_hours)

    async def end_one(self, account_id: int, session_id: int) -> None:
        """End one of a person's sessions."""
        await self._store.end_one(account_id, session_id)
        self._streams.end()

    async def end_others(self, account_id: int, kept: int = 0) -> None:
        """End every session of a person but the one that is kept; 0 for none."""
        await self._store.end_all(account_id, but=kept)
        self._streams.end()

    async def change_profile(self, account_id: int, name: str, mail: str) -> None:
        """Raises InvalidInput where name or address cannot be used, Conflict where the name is taken."""
        cleaned, address = _checked_name(name), mail.strip()
        if address and not _MAIL.fullmatch(address):
            what = "Type a full email address, such as maren@gorsegannet.example."
            raise InvalidInput(what, fields={"mail": what})
        await self._store.set_profile(account_id, cleaned, address)

    async def change_password(
        self, session: Session, old: str, new: str, from_: From, *, stays: Stays | None = None
    ) -> None:
        """Change one's own password; the person's other sessions and their tokens end, but for those that stay. Raises
        InvalidInput with the field, NotAllowed where too many tries were refused."""
        await self.check_password(session, old, from_)
        await self.set_password(session.account_id, new)
        stays = stays or Stays()
        await self._store.end_but(session.account_id, {session.id, *stays.sessions}, stays.tokens)
        self._streams.end()

    async def end_everything(self, account_id: int) -> None:
        """End every session and token of a person: their password was reset."""
        await self._store.end_but(account_id, (), ())
        self._streams.end()

    async def set_preferences(self, session: Session, preferences: Preferences) -> None:
        """How Nailer looks and works for the person of a session."""
        await self._store.set_preferences(session.account_id, preferences)

    async def check_password(self, session: Session, password: str, from_: From) -> None:
        """Raises InvalidInput where it is not the person's password of now, NotAllowed where too many tries were refused."""
        account = await self._store.get(session.account_id)
        await self._throttle.count(account.name, from_.address)
        if not await self._hashing.fits(account.password_hash, password[:LONGEST]):
            what = "This is not your current password."
            raise InvalidInput(what, fields={"old": what})
        await self._throttle.fitted(account.name, from_.address)

    async def set_password(self, account_id: int, password: str) -> None:
        """Give an account another password. Raises InvalidInput."""
        try:
            check_password(password, _COMMON)
        except InvalidInput as error:
            raise InvalidInput(error.what, fields={"password": error.what}) from error
        await self._store.set_password(account_id, await self._hashing.hash(password))

    async def set_standing(self, account_id: int, *, is_admin: bool, is_off: bool) -> None:
        """Let a person run Nailer or not, and sign in or not. Raises Conflict where nobody could run it any more."""
        await self._store.set_standing(account_id, is_admin=is_admin, is_off=is_off)
        self._streams.end()

    async def remove(self, account_id: int, heir_id: int) -> None:
        """Remove a person; their jobs and timers become another's. Raises InvalidInput, Conflict, NotFound."""
        if account_id == heir_id:
            raise InvalidInput("Choose who takes over this person's jobs and timers.")
        await self._store.get(heir_id)
        await self._store.remove(account_id, heir_id=heir_id)
        self._streams.end()

    async def when_done(self, account_id: int) -> WhenDone:
        """What a person wants to happen when all jobs have ended."""
        return await self._store.when_done(account_id)

    async def set_when_done(self, account_id: int, wishes: WhenDone) -> None:
        """Raises InvalidInput where a mail is wanted and its address is none."""
        if wishes.write and not _MAIL.fullmatch(wishes.mail):
            raise InvalidInput("Type the email address for notifications, such as maren@gorsegannet.example.")
        await self._store.set_when_done(account_id, wishes)

    async def _hash_anew(self, account_id: int, password: str) -> None:
        try:
            await self._store.set_password(account_id, await self._hashing.hash(password))
        except Busy:
            return  # the person is in all the same; the next sign-in does it

    async def _begin_session(self, account_id: int, from_: From) -> str:
        token = secrets.token_urlsafe(32)
        ends_at = utc_now() + timedelta(hours=self._session_hours)
        await self._store.add_session(_hash(token), account_id, secrets.token_urlsafe(32), ends_at, from_)
        return token

    def _checked(self, name: str, password: str) -> str:
        """The name as it is stored. Raises InvalidInput with every problem by its field."""
        problems: dict[str, str] = {}
        cleaned = name.strip()
        for field, check in (
            ("name", lambda: _checked_name(name)),
            ("password", lambda: check_password(password, _COMMON)),
        ):
            try:
                check()
            except InvalidInput as error:
                problems[field] = error.what
        if problems:
            raise InvalidInput(" ".join(problems.values()), fields=problems)
        return cleaned


def _hash(token: str) -> bytes:
    """Only the hash of a session's token is stored: a dump of the database lets nobody in."""
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).digest()


def _checked_name(name: str) -> str:
    cleaned = name.strip()
    if not 1 <= len(cleaned) <= _LONGEST_NAME or not cleaned.isprintable():
        what = f"A name must have 1 to {_LONGEST_NAME} characters."
        raise InvalidInput(what, fields={"name": what})
    return cleaned


def _word(length: int) -> str:
    return "".join(secrets.choice(_LETTERS) for _ in range(length))
