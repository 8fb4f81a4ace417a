"""Accounts, sessions and refused sign-ins."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

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

    async def refusal(self, who: str) -> tuple[int, datetime] | None:
        """How often `who` was refused in a row, and when last."""
        row = await self._db.read(lambda work: work.one("accounts.refusal", who=who))
        return (row["failures"], row["last_at"]) if row else None

    async def count_refusal(self, who: str) -> None:
        """Count one more refused sign-in."""
        await self._db.write(lambda work: work.run("accounts.count_refusal", who=who, now=utc_now()))

    async def forget_refusals(self, who: str) -> None:
        """Begin to count anew, after a sign-in that fitted."""
        await self._db.write(lambda work: work.run("accounts.forget_refusals", who=who))
