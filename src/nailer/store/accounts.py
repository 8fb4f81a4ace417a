"""Accounts, sessions and refused sign-ins."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from nailer.core.people.tries import Watched, faded
from nailer.errors import Conflict
from nailer.store.database import Database, Work, utc_now


@dataclass(frozen=True, slots=True)
class Account:
    id: int
    name: str
    password_hash: str = field(repr=False)


@dataclass(frozen=True, slots=True)
class Session:
    """Who a request speaks for, and the token its forms must carry."""

    account_id: int
    name: str
    csrf: str = field(repr=False)


@dataclass(frozen=True, slots=True)
class WhenDone:
    """What a person wants when all jobs have ended: a mail to an address, the connections closed."""

    mail: str
    write: bool
    close: bool


class AccountStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def count(self) -> int:
        """How many accounts there are."""
        return int(await self._db.read(lambda work: work.value("accounts.count")))

    async def by_name(self, name: str) -> Account | None:
        """The account of a name; None where there is none."""
        row = await self._db.read(lambda work: work.one("accounts.by_name", name=name))
        return Account(**row) if row else None

    async def add(self, name: str, password_hash: str) -> int:
        """Store an account; return its number. Raises Conflict where the name is taken."""
        return await self._db.write(
            lambda work: work.insert("accounts.add", name=name, password_hash=password_hash, now=utc_now())
        )

    async def add_first(self, name: str, password_hash: str) -> int:
        """The first account of all. Raises Conflict where there is one already."""

        def _change(work: Work) -> int:
            work.value("accounts.lock_for_first")
            try:
                if work.value("accounts.count"):
                    raise Conflict("The first account was made already. Sign in.")
                return work.insert("accounts.add", name=name, password_hash=password_hash, now=utc_now())
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

    async def add_session(self, token_hash: bytes, account_id: int, csrf: str, ends_at: datetime) -> None:
        """Store a session under the hash of its token; those that have ended go."""

        def _change(work: Work) -> None:
            now = utc_now()
            work.run("accounts.end_old_sessions", now=now)
            work.run(
                "accounts.add_session",
                token_hash=token_hash,
                account_id=account_id,
                csrf=csrf,
                now=now,
                ends_at=ends_at,
            )

        await self._db.write(_change)

    async def session(self, token_hash: bytes) -> Session | None:
        """The session of a token's hash; None where there is none, or it has ended."""
        row = await self._db.read(lambda work: work.one("accounts.session", token_hash=token_hash, now=utc_now()))
        return Session(**row) if row else None

    async def end_session(self, token_hash: bytes) -> None:
        """Forget a session."""
        await self._db.write(lambda work: work.run("accounts.end_session", token_hash=token_hash))

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


def _locked(work: Work, one: Watched) -> dict[str, Any]:
    """The count of a name and its last try. The row is made and locked: of two at once the second one waits."""
    work.run("accounts.watch", who=one.who, now=utc_now())
    row = work.one("accounts.tries", who=one.who)
    assert row is not None, "it was made a moment ago, and is ours"
    return row
