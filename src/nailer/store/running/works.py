"""Long work that is under way, each piece with who does it and until when that holds."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum
from typing import TypeVar

from nailer.core.work.kinds import WorkKind
from nailer.core.work.states import check
from nailer.errors import LeaseLost, NotFound, UnderWay
from nailer.store.database import Database, Row, Work, utc_now

Change = Callable[[Work], None]
_S = TypeVar("_S", bound=StrEnum)


@dataclass(frozen=True, slots=True)
class StoredWork:
    """A piece of work. `subject_id` is the row that it is about; `claims` grows with each process that takes it up."""

    id: int
    kind: WorkKind
    site_id: int
    subject_id: int
    account_id: int | None
    claims: int
    owner: str | None
    stop_wanted: bool


class WorkStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(
        self,
        kind: WorkKind,
        site_id: int,
        account_id: int | None,
        adding: Callable[[Work], int],
        *,
        owner: str,
        lease_s: float,
        alone: bool,
        busy: str,
    ) -> StoredWork:
        """Begin work and store what it is about (`adding` returns its number) in one transaction. Raises UnderWay, with
        nothing stored, where the same work is under way."""

        def _change(work: Work) -> StoredWork:
            subject_id, now = adding(work), utc_now()
            added = work.run(
                "works.add",
                kind=kind.value,
                site_id=site_id,
                subject_id=subject_id,
                account_id=account_id,
                alone=f"{kind}:{site_id}" if alone else None,
                owner=owner,
                until=now + timedelta(seconds=lease_s),
                now=now,
            )
            row = work.one("works.get", kind=kind.value, subject_id=subject_id) if added else None
            if row is None:
                raise UnderWay(busy)
            return _stored(row)

        return await self._db.write(_change)

    async def all_on(self, kind: WorkKind, site_id: int) -> list[StoredWork]:
        """Work of a kind that is under way on a site, in whichever process."""
        rows = await self._db.read(lambda work: work.rows("works.of_site", kind=kind.value, site_id=site_id))
        return [_stored(row) for row in rows]

    async def get(self, kind: WorkKind, subject_id: int) -> StoredWork | None:
        """The work about something; None where none is under way."""
        row = await self._db.read(lambda work: work.one("works.get", kind=kind.value, subject_id=subject_id))
        return _stored(row) if row is not None else None

    async def renew(self, owner: str, *, lease_s: float) -> list[StoredWork]:
        """Hold on to everything of an owner; return what that is."""
        until = utc_now() + timedelta(seconds=lease_s)

        def _change(work: Work) -> list[StoredWork]:
            work.run("works.renew", owner=owner, until=until)
            return [_stored(row) for row in work.rows("works.owned", owner=owner)]

        return await self._db.write(_change)

    async def claim(self, owner: str, kinds: Collection[WorkKind], *, lease_s: float) -> list[StoredWork]:
        """Take up what nobody holds any more; return it."""
        if not kinds:
            return []

        def _change(work: Work) -> list[StoredWork]:
            now = utc_now()
            rows = work.rows("works.free", kinds=[kind.value for kind in kinds], now=now)
            for row in rows:
                work.run("works.claim", id=row["id"], owner=owner, until=now + timedelta(seconds=lease_s))
            return [_stored(row | {"claims": row["claims"] + 1, "owner": owner}) for row in rows]

        return await self._db.write(_change)

    async def leases(self) -> list[tuple[int, str]]:
        """What is held, with its owners."""
        rows = await self._db.read(lambda work: work.rows("works.leases"))
        return [(row["id"], row["owner"]) for row in rows]

    async def release(self, work_id: int, owner: str) -> None:
        """Let another process take work up at once."""
        await self._db.write(lambda work: work.run("works.release", id=work_id, owner=owner))

    async def want_stop(self, work_id: int) -> None:
        """Say to whoever does it that a person wants work to stop."""
        await self._db.write(lambda work: work.run("works.want_stop", id=work_id))

    async def end(self, one: StoredWork, owner: str, end: Change) -> None:
        """Write down how work ended. Raises LeaseLost, with nothing written, where another process has it."""

        def _change(work: Work) -> None:
            if not work.run("works.end", id=one.id, owner=owner):
                raise LeaseLost("Another process has taken this work over.")
            end(work)

        await self._db.write(_change)


def begin_for_anyone(work: Work, kind: WorkKind, site_id: int, subject_id: int) -> None:
    """Begin work in a transaction that writes more, for whichever process looks for work first; nothing where the same is
    under way already."""
    work.run(
        "works.add",
        kind=kind.value,
        site_id=site_id,
        subject_id=subject_id,
        account_id=None,
        alone=f"{kind}:{site_id}",
        owner=None,
        until=None,
        now=utc_now(),
    )


def check_step(work: Work, lock: str, number: int, table: Mapping[_S, frozenset[_S]], state: _S, gone: str) -> None:
    """Look, in the transaction that writes it, whether a state may follow on the stored one; `lock` is the query that tells
    and locks that. Raises NotFound with the sentence `gone` where there is no row, Conflict where it may not."""
    was = work.value(lock, id=number)
    if was is None:
        raise NotFound(gone)
    check(table, type(state)(was), state)


def _stored(row: Row) -> StoredWork:
    return StoredWork(**(row | {"kind": WorkKind(row["kind"]), "stop_wanted": bool(row["stop_wanted"])}))
