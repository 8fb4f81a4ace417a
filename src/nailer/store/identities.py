"""Identities of servers: what is trusted, and the story of how that came to be."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from nailer.errors import NotFound
from nailer.sides.identities.identity import Identity
from nailer.store.database import Database, Row, Work, utc_now


class IdentityStore:
    """What is trusted of which server."""

    def __init__(self, database: Database) -> None:
        self._db = database

    async def pinned(self, host: str, port: int) -> list[Pinned]:
        """What is trusted of a server."""
        rows = await self._db.read(lambda work: work.rows("sites.pinned", host=host, port=port))
        return [_pinned({**row, "host": host, "port": port}) for row in rows]

    async def all_pinned(self) -> list[Pinned]:
        """What is trusted of all servers."""
        return [_pinned(row) for row in await self._db.read(lambda work: work.rows("sites.all_pinned"))]

    async def known_servers(self) -> dict[tuple[str, int], list[str]]:
        """The fingerprints that are trusted, by server name and port."""
        known: dict[tuple[str, int], list[str]] = {}
        for one in await self.all_pinned():
            known.setdefault((one.host, one.port), []).append(one.key.fingerprint)
        return known

    async def pin(
        self, host: str, port: int, key: Identity, *, trusted_by: int | None, how: str, beside: bool = False
    ) -> None:
        """Trust this identity for a server from now on, in place of any other; `beside` others where it is so said."""

        def _change(work: Work) -> None:
            before = work.rows("sites.pinned", host=host, port=port)
            if any(row["public_key"] == key.public_key for row in before):
                return
            if not beside:
                work.run("sites.unpin", host=host, port=port)
                for row in before:
                    old = Identity(row["algorithm"], row["fingerprint"], row["public_key"])
                    _add_event(work, host, port, "replaced", old, how, trusted_by)
            work.run(
                "sites.pin",
                host=host,
                port=port,
                algorithm=key.algorithm,
                fingerprint=key.fingerprint,
                public_key=key.public_key,
                now=utc_now(),
                trusted_by=trusted_by,
                how=how[:40],
            )
            _add_event(work, host, port, "trusted", key, how, trusted_by)

        await self._db.write(_change)

    async def unpin(self, pinned_id: int, account_id: int | None) -> Pinned:
        """Trust an identity no longer; the next connection is a first meeting again. Raises NotFound."""

        def _change(work: Work) -> Pinned:
            row = work.one("sites.pinned_by_id", id=pinned_id)
            if row is None:
                raise NotFound("This identity is no longer trusted.")
            pinned = _pinned(row)
            work.run("sites.unpin_one", id=pinned_id)
            _add_event(work, pinned.host, pinned.port, "removed", pinned.key, "removed by hand", account_id)
            return pinned

        return await self._db.write(_change)

    async def note_identity(
        self, host: str, port: int, what: str, key: Identity, how: str, account_id: int | None
    ) -> None:
        """Add to the story of a server's identity what is not stored otherwise, e.g. that it was trusted once."""
        await self._db.write(lambda work: _add_event(work, host, port, what, key, how, account_id))

    async def story(self, host: str, port: int) -> list[IdentityEvent]:
        """What happened with a server's identity, the latest first."""
        rows = await self._db.read(lambda work: work.rows("sites.identity_events", host=host, port=port))
        return [IdentityEvent(**row, host=host, port=port) for row in rows]

    async def stories(self) -> list[IdentityEvent]:
        """What happened with all servers' identities, the latest first."""
        return [
            IdentityEvent(**row) for row in await self._db.read(lambda work: work.rows("sites.all_identity_events"))
        ]


@dataclass(frozen=True, slots=True)
class Pinned:
    """A trusted identity and how it came to be trusted."""

    key: Identity
    trusted_at: datetime
    how: str
    host: str = ""
    port: int = 0
    id: int = 0


@dataclass(frozen=True, slots=True)
class IdentityEvent:
    """One step in the story of a server's identity. `what` is trusted, trusted-once, replaced, removed or refused."""

    what: str
    algorithm: str
    fingerprint: str
    how: str
    happened_at: datetime
    account_name: str | None
    host: str = ""
    port: int = 0


def _pinned(row: Row) -> Pinned:
    key = Identity(row["algorithm"], row["fingerprint"], row["public_key"])
    return Pinned(key, row["trusted_at"], row["how"], row["host"], row["port"], row["id"])


def _add_event(work: Work, host: str, port: int, what: str, key: Identity, how: str, account_id: int | None) -> None:
    work.run(
        "sites.add_identity_event",
        host=host,
        port=port,
        what=what,
        algorithm=key.algorithm,
        fingerprint=key.fingerprint,
        how=how[:120],
        account_id=account_id,
        now=utc_now(),
    )
