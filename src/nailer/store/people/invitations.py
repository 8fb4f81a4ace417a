"""Invitations: each makes one account, once, until it ends."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant, rights_of
from nailer.errors import NotFound
from nailer.store.database import Database, Row, Work, utc_now
from nailer.store.people.accounts import adding_account
from nailer.store.people.grants import row_of


@dataclass(frozen=True, slots=True)
class Invitation:
    """Who is invited, to what, by whom, and until when (UTC). `grants` by the number of a site."""

    id: int
    name: str
    is_admin: bool
    grants: Mapping[int, Grant]
    made_by: str
    ends_at: datetime


class InvitationStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(
        self,
        key: bytes,
        name: str,
        grants: Mapping[int, Grant],
        ends_at: datetime,
        *,
        is_admin: bool,
        made_by: int | None,
    ) -> int:
        """Store an invitation under the hash of its token; those that have ended go."""
        values = {
            "token_hash": key,
            "name": name,
            "is_admin": is_admin,
            "grants": json.dumps([_sent(site_id, grant) for site_id, grant in grants.items()]),
            "made_by": made_by,
            "made_at": utc_now(),
            "ends_at": ends_at,
        }

        def _change(work: Work) -> int:
            work.run("invitations.forget_ended", now=utc_now())
            return work.insert("invitations.add", **values)

        return await self._db.write(_change)

    async def all(self) -> list[Invitation]:
        """Invitations that nobody has used yet and that have not ended."""
        rows = await self._db.read(lambda work: work.rows("invitations.all", now=utc_now()))
        return [_invitation(row) for row in rows]

    async def by_key(self, key: bytes) -> Invitation:
        """The invitation of a token's hash. Raises NotFound where it was used, has ended, or never was."""
        row = await self._db.read(lambda work: work.one("invitations.by_token", token_hash=key, now=utc_now()))
        if row is None:
            raise NotFound(_GONE)
        return _invitation(row)

    async def remove(self, invitation_id: int) -> None:
        """Withdraw an invitation."""
        await self._db.write(lambda work: work.run("invitations.remove", id=invitation_id))

    async def accept(self, key: bytes, name: str, password_hash: str) -> int:
        """Make the account of an invitation, which ends with that; return its number. Raises NotFound, or Conflict where
        the name is taken; then the invitation stays."""

        def _change(work: Work) -> int:
            row = work.one("invitations.take", token_hash=key, now=utc_now())
            if row is None:
                raise NotFound(_GONE)
            account_id = adding_account(work, name, password_hash, is_admin=bool(row["is_admin"]))
            for site_id, grant in _grants(row["grants"]).items():
                if work.value("invitations.site_is_there", site_id=site_id):
                    work.run("grants.give", account_id=account_id, **row_of(site_id, grant))
            work.run("invitations.remove", id=row["id"])
            return account_id

        return await self._db.write(_change)


_GONE = "This invitation has been used or has expired. Ask for a new one."


def _sent(site_id: int, grant: Grant) -> dict[str, Any]:
    return {
        "site": site_id,
        "rights": sorted(grant.rights),
        "there": grant.folder_there.token if grant.folder_there is not None else None,
        "here": grant.folder_here.token if grant.folder_here is not None else None,
    }


def _grants(text: str) -> dict[int, Grant]:
    return {
        one["site"]: Grant(
            rights_of(one["rights"]),
            SitePath.of_token(one["there"]) if one["there"] is not None else None,
            SitePath.of_token(one["here"]) if one["here"] is not None else None,
        )
        for one in json.loads(text)
    }


def _invitation(row: Row) -> Invitation:
    grants = _grants(row["grants"])
    return Invitation(row["id"], row["name"], bool(row["is_admin"]), grants, row["made_by"] or "", row["ends_at"])
