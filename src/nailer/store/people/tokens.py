"""Tokens of programs, and what their requests with an idempotency key were answered."""

from __future__ import annotations

import json
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta

from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant, Right, rights_of
from nailer.store.database import Database, Row, Work, utc_now
from nailer.store.people.grants import whole_site

_SEEN_EVERY = timedelta(minutes=1)


@dataclass(frozen=True, slots=True)
class Token:
    """A program that acts for a person. `sites` None: all that the person has. Times are UTC."""

    id: int
    account_id: int
    name: str
    sites: frozenset[int] | None
    rights: frozenset[Right]
    created_at: datetime
    ends_at: datetime
    used_at: datetime | None


@dataclass(frozen=True, slots=True)
class Answered:
    """What a request was answered; `status` None: it is being worked on."""

    request_hash: bytes
    status: int | None
    body: str | None


class TokenStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(
        self,
        account_id: int,
        name: str,
        key: bytes,
        sites: Collection[int] | None,
        rights: Collection[Right],
        ends_at: datetime,
    ) -> int:
        """Store a token by the hash of what is shown; return its number."""
        values = {
            "account_id": account_id,
            "name": name,
            "token_hash": key,
            "sites": None if sites is None else json.dumps(sorted(sites)),
            "rights": ",".join(sorted(rights)),
            "now": utc_now(),
            "ends_at": ends_at,
        }
        return await self._db.write(lambda work: work.insert("tokens.add", **values))

    async def by_key(self, key: bytes) -> Token | None:
        """The token of a hash, used now; None where there is none, or it has ended."""
        now = utc_now()
        row = await self._db.read(lambda work: work.one("tokens.by_hash", token_hash=key, now=now))
        if row is None:
            return None
        if row["used_at"] is None or now - row["used_at"] > _SEEN_EVERY:
            await self._db.write(lambda work: work.run("tokens.used", id=row["id"], now=now))
        return _token(row)

    async def of_account(self, account_id: int) -> list[Token]:
        """A person's tokens, the newest first."""
        rows = await self._db.read(lambda work: work.rows("tokens.of_account", account_id=account_id))
        return [_token(row) for row in rows]

    async def revoke(self, account_id: int, token_id: int) -> None:
        """End one of a person's tokens."""
        await self._db.write(lambda work: work.run("tokens.revoke", account_id=account_id, id=token_id))

    async def all_sites(self) -> dict[int, Grant]:
        """Every site there is, whole: what who runs Nailer has."""
        rows = await self._db.read(lambda work: work.rows("tokens.all_sites"))
        return {row["id"]: whole_site(frozenset(Right), SitePath.parse(row["start_here"])) for row in rows}

    async def begin_answer(self, token_id: int, key: bytes, request_hash: bytes, kept: timedelta) -> Answered | None:
        """Begin to answer a request under its key; None where it is new, else what is known of it."""

        def _change(work: Work) -> Answered | None:
            now = utc_now()
            work.run("tokens.forget_answers", before=now - kept)
            values = {"token_id": token_id, "request_key": key}
            if work.run("tokens.begin_answer", **values, request_hash=request_hash, now=now):
                return None
            row = work.one("tokens.answered", **values)
            return Answered(**row) if row is not None else None

        return await self._db.write(_change)

    async def end_answer(self, token_id: int, key: bytes, status: int, body: str) -> None:
        """Remember what a request was answered."""
        values = {"token_id": token_id, "request_key": key, "status": status, "body": body}
        await self._db.write(lambda work: work.run("tokens.end_answer", **values))

    async def drop_answer(self, token_id: int, key: bytes) -> None:
        """A request was refused: the same key may be tried again."""
        await self._db.write(lambda work: work.run("tokens.drop_answer", token_id=token_id, request_key=key))


def _token(row: Row) -> Token:
    sites = None if row["sites"] is None else frozenset(json.loads(row["sites"]))
    return Token(**(row | {"sites": sites, "rights": rights_of(row["rights"].split(","))}))
