"""Accounts, sessions and refused sign-ins."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import pymysql

from nailer.core.people.preferences import Preferences
from nailer.core.people.tries import Watched, faded
from nailer.errors import Conflict, NotFound
from nailer.store.database import Database, Row, Work, utc_now

_SEEN_EVERY = timedelta(minutes=1)
_TAKEN = 1062


@dataclass(frozen=True, slots=True)
class Account:
    """A person as Nailer knows them. `is_admin`: runs Nailer. `is_off`: may not sign in for now."""

    id: int
    name: str
    password_hash: str = field(repr=False)
    is_admin: bool
    is_off: bool
    mail: str
    created_at: datetime


_NEVER_IDLE_H = 100_000  # for whoever asks about its end alone


@dataclass(frozen=True, slots=True)
class Session:
    """Who a request speaks for, and the token its forms must carry. `key` is the hash of the session's own token. `half`:
    the password was right, and the second proof is still to come. `lacks_second`: one is required, and there is none yet."""

    id: int
    account_id: int
    name: str
    is_admin: bool
    half: bool
    lacks_second: bool
    csrf: str = field(repr=False)
    key: bytes = field(repr=False)
    preferences: Preferences = field(default_factory=Preferences)


@dataclass(frozen=True, slots=True)
class SignedIn:
    """One session as its owner sees it: since when, last seen when, with what device and from where."""

    id: int
    device: str
    address: str
    created_at: datetime
    seen_at: datetime | None


@dataclass(frozen=True, slots=True)
class WhenDone:
    """What a person wants when all jobs have ended: a mail to an address, the connections closed."""

    mail: str
    write: bool
    close: bool


@dataclass(frozen=True, slots=True)
class From:
    """Where a request came from: an address, and what the browser or program says it is."""

    address: str
    device: str = ""


class AccountStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def count(self) -> int:
        """How many accounts there are."""
        return int(await self._db.read(lambda work: work.value("accounts.count")))

    async def by_name(self, name: str) -> Account | None:
        """The account of a name; None where there is none."""
        row = await self._db.read(lambda work: work.one("accounts.by_name", name=name))
        return _account(row) if row else None

    async def get(self, account_id: int) -> Account:
        """An account. Raises NotFound."""
        row = await self._db.read(lambda work: work.one("accounts.by_id", id=account_id))
        if row is None:
            raise NotFound("This account no longer exists.")
        return _account(row)

    async def all(self) -> list[Account]:
        """Everybody, by name."""
        return [_account(row) for row in await self._db.read(lambda work: work.rows("accounts.all"))]

    async def add(self, name: str, password_hash: str, *, is_admin: bool = False) -> int:
        """Store an account; return its number. Raises Conflict where the name is taken."""
        return await self._db.write(lambda work: adding_account(work, name, password_hash, is_admin=is_admin))

    async def set_profile(self, account_id: int, name: str, mail: str) -> None:
        """Store a person's name and mail address. Raises Conflict where the name is taken."""
        values = {"id": account_id, "name": name, "mail": mail}
        await self._db.write(lambda work: _named(lambda: work.run("accounts.set_profile", **values)))

    async def set_standing(self, account_id: int, *, is_admin: bool, is_off: bool) -> None:
        """Let a person run Nailer or not, and sign in or not. Raises Conflict where nobody could run Nailer any more."""

        def _change(work: Work) -> None:
            _check_admin_left(work, account_id, stays=is_admin and not is_off)
            work.run("accounts.set_standing", id=account_id, is_admin=is_admin, is_off=is_off)
            if is_off:
                work.run("accounts.end_sessions", account_id=account_id, but=0)

        await self._db.write(_change)

    async def remove(self, account_id: int, *, heir_id: int) -> None:
        """Remove an account; its jobs and timers become another's. Raises Conflict where nobody could run Nailer any
        more."""

        def _change(work: Work) -> None:
            _check_admin_left(work, account_id, stays=False)
            work.run("accounts.hand_over_jobs", old=account_id, new=heir_id)
            work.run("accounts.hand_over_timers", old=account_id, new=heir_id)
            work.run("accounts.remove", id=account_id)

        await self._db.write(_change)

    async def add_first(self, name: str, password_hash: str) -> int:
        """The first account of all. Raises Conflict where there is one already."""

        def _change(work: Work) -> int:
            work.value("accounts.lock_for_first")
            try:
                if work.value("accounts.count"):
                    raise Conflict(
                        "The first account already exists. Sign in with it, or ask an administrator for an invitation."
                    )
                return adding_account(work, name, password_hash, is_admin=True)
            finally:
                work.value("accounts.unlock_for_first")

        return await self._db.write(_change)

    async def when_done(self, account_id: int) -> WhenDone:
        """What a person wants when all jobs have ended."""
        row = await self._db.read(lambda work: work.one("accounts.when_done", id=account_id)) or {}
        return WhenDone(row.get("mail", ""), bool(row.get("mail_when_done")), bool(row.get("close_when_done")))

    async def set_when_done(self, account_id: int, wishes: WhenDone) -> None:
        """Remember what a person wants when all jobs have ended."""
        values = {"mail": wishes.mail, "write": wishes.write, "close": wishes.close}
        await self._db.write(lambda work: work.run("accounts.set_when_done", id=account_id, **values))

    async def set_password(self, account_id: int, password_hash: str) -> None:
        """Store another hash of an account's password."""
        await self._db.write(lambda work: work.run("accounts.set_password", id=account_id, password_hash=password_hash))

    async def add_session(self, key: bytes, account_id: int, csrf: str, ends_at: datetime, from_: From) -> None:
        """Store a session under the hash of its token, a half one where the account has a second proof; those that have
        ended go."""

        def _change(work: Work) -> None:
            now = utc_now()
            half = bool(work.value("accounts.asks_second", id=account_id))
            work.run("accounts.end_old_sessions", now=now)
            work.run(
                "accounts.add_session",
                token_hash=key,
                account_id=account_id,
                csrf=csrf,
                half=half,
                device=from_.device[:200],
                address=from_.address[:60],
                now=now,
                ends_at=ends_at,
            )

        await self._db.write(_change)

    async def session(self, key: bytes, idle_hours: int) -> Session | None:
        """The session of a token's hash; None where there is none, it has ended, or nobody used it for so long."""
        now = utc_now()
        values = {"token_hash": key, "now": now, "seen_after": now - timedelta(hours=idle_hours)}
        row = await self._db.read(lambda work: work.one("accounts.session", **values))
        if row is None:
            return None
        seen_at = row.pop("seen_at")
        if seen_at is None or now - seen_at > _SEEN_EVERY:
            await self._db.write(lambda work: work.run("accounts.see_session", token_hash=key, now=now))
        flags = {name: bool(row[name]) for name in ("is_admin", "half", "lacks_second")}
        return Session(**(row | flags | {"preferences": Preferences.of_text(row["preferences"])}))

    async def set_preferences(self, account_id: int, preferences: Preferences) -> None:
        """How Nailer looks and works for a person from now on."""
        await self._db.write(
            lambda work: work.run("accounts.set_preferences", id=account_id, preferences=preferences.as_text)
        )

    async def sessions_of(self, account_id: int, idle_hours: int) -> list[SignedIn]:
        """The sessions of a person that have not ended, the one used last first."""
        now = utc_now()
        values = {"account_id": account_id, "now": now, "seen_after": now - timedelta(hours=idle_hours)}
        return [
            SignedIn(**row) for row in await self._db.read(lambda work: work.rows("accounts.sessions_of", **values))
        ]

    async def session_lasts(self, account_id: int, session_id: int, idle_hours: int = _NEVER_IDLE_H) -> bool:
        """True while a session has not ended, nor been unused for `idle_hours`; asking does not count as use."""
        now = utc_now()
        values = {
            "id": session_id,
            "account_id": account_id,
            "now": now,
            "seen_after": now - timedelta(hours=idle_hours),
        }
        return bool(await self._db.read(lambda work: work.value("accounts.session_lasts", **values)))

    async def end_session(self, key: bytes) -> None:
        """Forget the session of a token's hash."""
        await self._db.write(lambda work: work.run("accounts.end_session", token_hash=key))

    async def end_one(self, account_id: int, session_id: int) -> None:
        """Forget one of a person's sessions."""
        await self._db.write(lambda work: work.run("accounts.end_one_session", account_id=account_id, id=session_id))

    async def end_all(self, account_id: int, *, but: int = 0) -> None:
        """Forget every session of a person but one; 0 for none."""
        await self._db.write(lambda work: work.run("accounts.end_sessions", account_id=account_id, but=but))

    async def end_but(self, account_id: int, sessions: Collection[int], tokens: Collection[int]) -> None:
        """Forget every session and token of a person but these."""

        def _change(work: Work) -> None:
            for row in work.rows("accounts.session_ids", account_id=account_id):
                if row["id"] not in sessions:
                    work.run("accounts.end_one_session", account_id=account_id, id=row["id"])
            for row in work.rows("tokens.of_account", account_id=account_id):
                if row["id"] not in tokens:
                    work.run("tokens.revoke", account_id=account_id, id=row["id"])

        await self._db.write(_change)

    async def count_try(self, tries: Sequence[Watched], forgotten_after: timedelta) -> float:
        """Count a try of each, all or none, and return 0; or the seconds that are left where one comes too early.

        Tries that are at work count like refused ones until `forget_tries`.
        """

        def _change(work: Work) -> float:
            work.run("accounts.forget_old_tries", before=utc_now() - forgotten_after)
            rows = [(one, _locked(work, one)) for one in sorted(tries, key=lambda one: one.who)]
            now = utc_now()  # once the rows are ours: another try may have been counted while we waited for them
            idle_s = [(now - row["last_at"]).total_seconds() for _, row in rows]
            counts = [faded(row["failures"], idle) for (_, row), idle in zip(rows, idle_s, strict=True)]
            left_s = max(one.left_s(count, idle) for (one, _), count, idle in zip(rows, counts, idle_s, strict=True))
            if left_s == 0:
                for (one, _), count in zip(rows, counts, strict=True):
                    work.run("accounts.count_try", who=one.who, failures=count + 1, now=now)
            return left_s

        return await self._db.write(_change)

    async def forget_tries(self, all_of: Sequence[Watched], one_of: Sequence[Watched]) -> None:
        """Forget every try of some, and one try of each of the others."""

        def _change(work: Work) -> None:
            for one in sorted(all_of, key=lambda one: one.who):
                work.run("accounts.forget_tries", who=one.who)
            for one in sorted(one_of, key=lambda one: one.who):
                work.run("accounts.forget_try", who=one.who)

        await self._db.write(_change)


def _account(row: Row) -> Account:
    return Account(**(row | {"is_admin": bool(row["is_admin"]), "is_off": bool(row["is_off"])}))


def adding_account(work: Work, name: str, password_hash: str, *, is_admin: bool) -> int:
    """Make an account within a transaction. Raises Conflict where the name is taken."""
    values = {"name": name, "password_hash": password_hash, "is_admin": is_admin, "now": utc_now()}
    return _named(lambda: work.insert("accounts.add", **values))


def _named(change: Callable[[], int]) -> int:
    """A change that takes a name. Raises Conflict where somebody has it."""
    try:
        return change()
    except pymysql.err.IntegrityError as error:
        if error.args[0] == _TAKEN:
            raise Conflict("This name is already taken. Choose another one.") from error
        raise


def _check_admin_left(work: Work, account_id: int, *, stays: bool) -> None:
    if not stays and not work.value("accounts.admins_left", without=account_id):
        raise Conflict("Nailer needs at least one administrator. Make someone else an administrator first.")


def _locked(work: Work, one: Watched) -> dict[str, Any]:
    """The count of a name and its last try. The row is made and locked: of two at once the second one waits."""
    work.run("accounts.watch", who=one.who, now=utc_now())
    row = work.one("accounts.tries", who=one.who)
    assert row is not None, "it was made a moment ago, and is ours"
    return row
