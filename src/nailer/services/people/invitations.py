"""Inviting people: a link that makes one account, once, until it ends."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping
from datetime import timedelta

from nailer.acting import person
from nailer.core.people.rights import Grant
from nailer.errors import InvalidInput
from nailer.services.people.accounts import Accounts
from nailer.services.people.log import Did, Log
from nailer.store.database import utc_now
from nailer.store.people.invitations import Invitation, InvitationStore

_LAST_DAYS = 7


class Invitations:
    """Invitations that are open. Only the hash of a link's token is stored: it is shown once."""

    def __init__(self, store: InvitationStore, accounts: Accounts, log: Log) -> None:
        self._store = store
        self._accounts = accounts
        self._log = log

    async def all(self) -> list[Invitation]:
        """Those that nobody has used yet."""
        return await self._store.all()

    async def make(self, name: str, grants: Mapping[int, Grant], *, is_admin: bool) -> str:
        """Invite somebody; return the token of the link. Raises InvalidInput where there is nothing to invite to."""
        if not is_admin and not grants:
            what = "Choose at least one site for this person."
            raise InvalidInput(what, fields={"site": what})
        token = secrets.token_urlsafe(24)
        who = person()
        await self._store.add(
            _key(token),
            name.strip()[:80],
            grants,
            utc_now() + timedelta(days=_LAST_DAYS),
            is_admin=is_admin,
            made_by=who.account_id if who is not None else None,
        )
        await self._log.add(Did.INVITED, name.strip()[:80] or "somebody")
        return token

    async def look(self, token: str) -> Invitation:
        """The invitation of a link. Raises NotFound."""
        return await self._store.by_key(_key(token))

    async def withdraw(self, invitation_id: int) -> None:
        """Let an invitation end now."""
        await self._store.remove(invitation_id)
        await self._log.add(Did.INVITED, "withdrew an invitation")

    async def accept(self, token: str, name: str, password: str) -> int:
        """Make the account of a link; return its number. Raises NotFound, InvalidInput, or Conflict where the name is
        taken."""
        await self._store.by_key(_key(token))
        cleaned, password_hash = await self._accounts.prepared(name, password)
        return await self._store.accept(_key(token), cleaned, password_hash)


def _key(token: str) -> bytes:
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).digest()
