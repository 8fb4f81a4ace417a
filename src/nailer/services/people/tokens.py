"""Programs that act for a person: tokens that are shown once, and reach no further than the person does today."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Awaitable, Callable, Collection
from dataclasses import replace
from datetime import timedelta

from nailer.acting import Acting
from nailer.core.people.rights import Person, Right
from nailer.errors import Conflict, InvalidInput, NotFound, SignedOut
from nailer.services.people.log import Did, Log
from nailer.services.people.streams import Listener, Streams
from nailer.store.database import utc_now
from nailer.store.people.grants import GrantStore
from nailer.store.people.tokens import Token, TokenStore

_BEGINS = "nailer_"
_LONGEST_DAYS = 366
_KEPT = timedelta(hours=24)


class Tokens:
    """The tokens of everybody."""

    def __init__(self, store: TokenStore, grants: GrantStore, log: Log, streams: Streams) -> None:
        self._store = store
        self._grants = grants
        self._log = log
        self._streams = streams

    async def make(
        self, account_id: int, name: str, sites: Collection[int] | None, rights: Collection[Right], days: int
    ) -> str:
        """A new token; it is shown this once. `sites` None: all that the person has. Raises InvalidInput."""
        problems: dict[str, str] = {}
        if not name.strip() or len(name.strip()) > 80:
            problems["name"] = "Give the token a name, for example that of the program that uses it."
        if not rights:
            problems["rights"] = "Choose at least one permission."
        if not 1 <= days <= _LONGEST_DAYS:
            problems["days"] = f"A token can be valid for 1 to {_LONGEST_DAYS} days."
        if problems:
            raise InvalidInput(" ".join(problems.values()), fields=problems)
        token = _BEGINS + secrets.token_urlsafe(32)
        ends_at = utc_now() + timedelta(days=days)
        await self._store.add(account_id, name.strip(), _key(token), sites, rights, ends_at)
        await self._log.add(Did.ACCOUNT, f"made the token {name.strip()}")
        return token

    async def of_account(self, account_id: int) -> list[Token]:
        """A person's tokens."""
        return await self._store.of_account(account_id)

    async def revoke(self, account_id: int, token_id: int) -> None:
        """End a token now."""
        await self._store.revoke(account_id, token_id)
        self._streams.end()
        await self._log.add(Did.ACCOUNT, "revoked a token")

    async def acting(self, given: str, address: str) -> tuple[Token, Acting]:
        """The token that a program shows, and who acts by it. Raises SignedOut."""
        token = await self._store.by_key(_key(given)) if given.startswith(_BEGINS) else None
        if token is None:
            raise SignedOut("This token does not exist or has expired.")
        try:
            person = await self._grants.person(token.account_id)
        except NotFound as error:
            raise SignedOut("The account of this token has been deactivated.") from error
        return token, Acting(await self._narrowed(person, token), address, token.name)

    def reader(self, token: Token, address: str) -> Listener:
        """Who listens to events by a token."""

        async def _now() -> Acting | None:
            known = await self._store.of_account(token.account_id)
            same = next((one for one in known if one.id == token.id and one.ends_at > utc_now()), None)
            try:
                person = await self._grants.person(token.account_id)
            except NotFound:
                return None
            return Acting(await self._narrowed(person, same), address, token.name) if same is not None else None

        return Listener(f"token {token.id}".encode(), token.account_id, _now)

    async def once(
        self, token: Token, key: str, request: bytes, answer: Callable[[], Awaitable[tuple[int, str]]]
    ) -> tuple[int, str]:
        """Answer a request that changes something; under the same key it is done once, and answered alike for a day.

        Raises Conflict where it is being worked on, InvalidInput where the key was used for something else.
        """
        if not key:
            return await answer()
        hashed, request_hash = _key(key), hashlib.sha256(request).digest()
        known = await self._store.begin_answer(token.id, hashed, request_hash, _KEPT)
        if known is not None and known.request_hash != request_hash:
            raise InvalidInput("This idempotency key was used for another request.", fields={"Idempotency-Key": "used"})
        if known is not None and (known.status is None or known.body is None):
            raise Conflict("The same request is already being processed.")
        if known is not None and known.status is not None and known.body is not None:
            return known.status, known.body
        try:
            status, body = await answer()
        except BaseException:
            await self._store.drop_answer(token.id, hashed)
            raise
        await self._store.end_answer(token.id, hashed, status, body)
        return status, body

    async def _narrowed(self, person: Person, token: Token) -> Person:
        """The person as far as the token goes. Nobody runs Nailer by a token."""
        everything = await self._store.all_sites() if person.is_admin else person.grants
        grants = {
            site_id: replace(grant, rights=grant.rights & token.rights)
            for site_id, grant in everything.items()
            if token.sites is None or site_id in token.sites
        }
        return replace(person, is_admin=False, grants=grants)


def _key(token: str) -> bytes:
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).digest()
