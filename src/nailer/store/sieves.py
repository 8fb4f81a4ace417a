"""Sieves in their order."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from nailer.core.plans.sieve import CountedAs, RuleGroup, Sieve, house_sieves, rule_data, rule_of
from nailer.errors import NotFound
from nailer.store.database import Database, Row, Work, utc_now


@dataclass(frozen=True, slots=True)
class StoredSieve:
    """A sieve with how many pairs have picked it, and since when it is off; None: it is on."""

    sieve: Sieve
    pairs: int
    off_since: datetime | None


class SieveStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def all(self) -> list[StoredSieve]:
        """All sieves, in their order."""
        return [_stored(row) for row in await self._db.read(lambda work: work.rows("sieves.all"))]

    async def of_pair(self, pair_id: int) -> list[Sieve]:
        """What holds for a pair, in order; those that are off too."""
        rows = await self._db.read(lambda work: work.rows("sieves.of_pair", pair_id=pair_id))
        return [_stored(row).sieve for row in rows]

    async def everywhere(self) -> list[Sieve]:
        """What holds for every pair."""
        return [one.sieve for one in await self.all() if one.sieve.everywhere]

    async def get(self, sieve_id: int) -> StoredSieve:
        """Raises NotFound."""
        for one in await self.all():
            if one.sieve.id == sieve_id:
                return one
        raise NotFound("This sieve no longer exists.")

    async def add(self, sieve: Sieve) -> int:
        """Store a sieve; return its number."""
        return await self._db.write(lambda work: work.insert("sieves.add", **_row(sieve)))

    async def write(self, sieve: Sieve) -> None:
        """Store a sieve that was changed."""
        await self._db.write(lambda work: work.run("sieves.set", id=sieve.id, **_row(sieve)))

    async def switch(self, sieve_id: int, *, on: bool) -> None:
        """Switch a sieve on, or off with the moment."""
        off_since = None if on else utc_now()
        await self._db.write(lambda work: work.run("sieves.switch", id=sieve_id, off_since=off_since))

    async def order(self, sieve_ids: Sequence[int]) -> None:
        """Put sieves in this order; those that are not named keep their places behind."""

        def _change(work: Work) -> None:
            for position, sieve_id in enumerate(sieve_ids):
                work.run("sieves.place", id=sieve_id, position=position)

        await self._db.write(_change)

    async def remove(self, sieve_id: int) -> None:
        """Forget a sieve."""
        await self._db.write(lambda work: work.run("sieves.remove", id=sieve_id))

    async def begin_with_house(self) -> None:
        """A Nailer without any sieve and any pair begins with those that ship with it."""

        def _change(work: Work) -> None:
            if not work.rows("sieves.all") and not work.rows("pairs.all"):
                for sieve in house_sieves():
                    work.run("sieves.add", **_row(sieve))

        await self._db.write(_change)


def _row(sieve: Sieve) -> Row:
    return {
        "name": sieve.name[:120],
        "rule": json.dumps(rule_data(sieve.rule)),
        "always": json.dumps(sieve.always),
        "stays": sieve.stays,
        "unseen": sieve.unseen,
        "everywhere": sieve.everywhere,
    }


def _stored(row: Row) -> StoredSieve:
    rule = rule_of(json.loads(row["rule"]))
    sieve = Sieve(
        name=row["name"],
        rule=rule if isinstance(rule, RuleGroup) else RuleGroup(CountedAs.ANY, (rule,)),
        always=tuple(json.loads(row["always"])),
        stays=bool(row["stays"]),
        unseen=bool(row["unseen"]),
        everywhere=bool(row["everywhere"]),
        on=row["off_since"] is None,
        id=row["id"],
    )
    return StoredSieve(sieve, int(row["pairs"]), row["off_since"])
