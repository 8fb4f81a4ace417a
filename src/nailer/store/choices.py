"""Choices on a pair's plan that is not carried out yet: they outlast a reading, a page and a restart."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.files.tree import RelativePath
from nailer.core.pairs.wishes import Direction, Doing
from nailer.store.database import Database, Work

_ROWS_AT_ONCE = 5_000


@dataclass(frozen=True, slots=True)
class StoredChoice:
    """What is to be done with one name while its ends are as `ends` says (16 bytes). `merged` is a text for both ends."""

    below: RelativePath
    ends: bytes
    doing: Doing
    merged: bytes | None = None


class ChoiceStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def of(self, account_id: int, pair_id: int, direction: Direction) -> list[StoredChoice]:
        """A person's choices on a pair for one direction."""
        key = {"account_id": account_id, "pair_id": pair_id, "direction": direction}
        rows = await self._db.read(lambda work: work.rows("choices.of", **key))
        return [
            StoredChoice(tuple(row["below"].split(b"/")), row["ends"], Doing(row["doing"]), row["merged"])
            for row in rows
        ]

    async def write(self, account_id: int, pair_id: int, direction: Direction, choices: Sequence[StoredChoice]) -> None:
        """Remember choices; those of the same names are replaced."""
        key = {"account_id": account_id, "pair_id": pair_id, "direction": direction}
        rows = [
            key
            | {"place": _place(one.below), "below": b"/".join(one.below)}
            | {"ends": one.ends, "doing": one.doing, "merged": one.merged}
            for one in choices
        ]

        def _write(work: Work) -> None:
            for start in range(0, len(rows), _ROWS_AT_ONCE):
                work.many("choices.write", rows[start : start + _ROWS_AT_ONCE])

        await self._db.write(_write)

    async def forget(self, account_id: int, pair_id: int, direction: Direction, names: Sequence[RelativePath]) -> None:
        key = {"account_id": account_id, "pair_id": pair_id, "direction": direction}
        places = [_place(below) for below in names]

        def _forget(work: Work) -> None:
            for start in range(0, len(places), _ROWS_AT_ONCE):
                work.run("choices.forget", **key, places=places[start : start + _ROWS_AT_ONCE])

        await self._db.write(_forget)

    async def forget_all(self, account_id: int, pair_id: int) -> None:
        await self._db.write(lambda work: work.run("choices.forget_all", account_id=account_id, pair_id=pair_id))


def _place(below: RelativePath) -> bytes:
    return hashlib.sha256(b"/".join(below)).digest()[:16]
