"""Versions that take the place of others, packages that come or go: each with how far it is."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from nailer.core.check.live import Fetched
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import Below
from nailer.core.packages.replacing import Take
from nailer.core.words import aware
from nailer.store.checks.watches import answer_of, answer_row
from nailer.store.database import Database, Row, utc_now


class ReplacementKind(StrEnum):
    """What happens to a package: another version takes its place, it comes, or it goes."""

    REPLACE = "replace"
    INSTALL = "install"
    REMOVE = "remove"


class ReplacementState(StrEnum):
    """How far it is: both versions are read; a person reads the plan; the new version is built beside the old one; names are
    exchanged; pages are looked at. It ends in place, put back, failed (with nothing changed, unless its words say so), or
    dropped before anything was done."""

    READING = "reading"
    PLANNED = "planned"
    BUILDING = "building"
    SWAPPING = "swapping"
    LOOKING = "looking"
    BACKING = "backing"
    IN_PLACE = "in-place"
    BACK = "back"
    FAILED = "failed"
    DROPPED = "dropped"


UNDER_WAY = (
    ReplacementState.BUILDING,
    ReplacementState.SWAPPING,
    ReplacementState.LOOKING,
    ReplacementState.BACKING,
)


@dataclass(frozen=True, slots=True)
class Replacement:
    """One package and what takes its place. The copies are numbers of what is kept: of the old as it is there, of the new
    and of the old as they were delivered. `fresh` and `kept` are hidden names beside it; one that is replaced name by
    name has the job `removal_id` for what goes. `pages` are what the watched pages answered before."""

    id: int
    site_id: int
    account_id: int | None
    account_name: str | None
    path: SitePath
    kind: ReplacementKind
    state: ReplacementState
    source: str
    title: str
    old_version: str
    new_version: str
    old_copy_id: int | None
    new_copy_id: int | None
    base_copy_id: int | None
    choices: Mapping[Below, Take]
    joined: Mapping[Below, tuple[bytes, int]]
    notes: tuple[str, ...]
    in_place: bool
    fresh: SitePath | None
    kept: SitePath | None
    job_id: int | None
    removal_id: int | None
    pages: tuple[Fetched, ...]
    words: str
    begun_at: datetime
    ended_at: datetime | None
    let_go_at: datetime | None

    @property
    def can_go_back(self) -> bool:
        """True where the old one is kept still, so that one step brings it back."""
        return self.state is ReplacementState.IN_PLACE and self.let_go_at is None


class ReplacementStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def begin(self, site_id: int, account_id: int, path: SitePath, kind: ReplacementKind, source: str) -> int:
        """Write down that both versions are being read; return the number of the row."""
        values = {
            "site_id": site_id,
            "account_id": account_id,
            "path": path.raw,
            "kind": kind.value,
            "source": source[:300],
            "now": utc_now(),
        }
        return await self._db.write(lambda work: work.insert("replacements.begin", **values))

    async def get(self, site_id: int, replacement_id: int) -> Replacement | None:
        """One of a site; None where there is none."""
        row = await self._db.read(lambda work: work.one("replacements.get", site_id=site_id, id=replacement_id))
        return _replacement(row) if row is not None else None

    async def of(self, site_id: int) -> list[Replacement]:
        """Those of a site that somebody went on with, newest first."""
        return [
            _replacement(row) for row in await self._db.read(lambda work: work.rows("replacements.of", site_id=site_id))
        ]

    async def under_way(self) -> list[Replacement]:
        """Those that were cut between their first and their last step, of all sites."""
        return [_replacement(row) for row in await self._db.read(lambda work: work.rows("replacements.under_way"))]

    async def planned(self, one: Replacement) -> None:
        """Write down what was read: the copies, versions, names, notes."""
        values = {
            "id": one.id,
            "title": one.title[:200],
            "old_version": one.old_version[:60],
            "new_version": one.new_version[:60],
            "old_copy_id": one.old_copy_id,
            "new_copy_id": one.new_copy_id,
            "base_copy_id": one.base_copy_id,
            "notes": json.dumps(list(one.notes)),
            "in_place": one.in_place,
        }
        await self._db.write(lambda work: work.run("replacements.planned", **values))

    async def choose(
        self, replacement_id: int, choices: Mapping[Below, Take], joined: Mapping[Below, tuple[bytes, int]]
    ) -> None:
        """Write down what a person decided, and the texts that were joined."""
        values = {
            "id": replacement_id,
            "choices": json.dumps([[_text(below), take.value] for below, take in choices.items()]),
            "joined": json.dumps([[_text(below), digest.hex(), size] for below, (digest, size) in joined.items()]),
        }
        await self._db.write(lambda work: work.run("replacements.choose", **values))

    async def in_place(self, replacement_id: int, wanted: bool) -> None:
        """Write down whether files are replaced one by one."""
        await self._db.write(lambda work: work.run("replacements.set_in_place", id=replacement_id, in_place=wanted))

    async def build(
        self,
        replacement_id: int,
        fresh: SitePath | None,
        kept: SitePath | None,
        job_id: int | None,
        pages: Sequence[Fetched],
    ) -> None:
        """Write down the hidden names before they are used, the job that builds, and what the pages answered before."""
        values = {
            "id": replacement_id,
            "fresh": fresh.raw if fresh is not None else None,
            "kept": kept.raw if kept is not None else None,
            "job_id": job_id,
            "pages": json.dumps([answer_row(one) for one in pages]),
        }
        await self._db.write(lambda work: work.run("replacements.build", **values))

    async def set_state(self, replacement_id: int, state: ReplacementState, words: str = "") -> None:
        """Write down how far it is, or how it ended."""
        ended = utc_now() if state not in (*UNDER_WAY, ReplacementState.READING, ReplacementState.PLANNED) else None
        values = {"id": replacement_id, "state": state.value, "words": words[:1000], "ended_at": ended}
        await self._db.write(lambda work: work.run("replacements.set_state", **values))

    async def removes(self, replacement_id: int, removal_id: int) -> None:
        """Write down the job that removes what the new version does not have."""
        values = {"id": replacement_id, "removal_id": removal_id}
        await self._db.write(lambda work: work.run("replacements.removes", **values))

    async def claim(self, replacement_id: int, was: ReplacementState, state: ReplacementState) -> bool:
        """Bring it from one state into another; False where somebody else did so first."""
        values = {"id": replacement_id, "was": was.value, "state": state.value}
        return bool(await self._db.write(lambda work: work.run("replacements.claim", **values)))

    async def let_go(self, replacement_id: int) -> None:
        """Write down that the old one is not kept beside it any more."""
        await self._db.write(lambda work: work.run("replacements.let_go", id=replacement_id, now=utc_now()))

    async def cut(self) -> None:
        """Those that were being read when Nailer ended are not read any further."""
        await self._db.write(lambda work: work.run("replacements.cut", now=utc_now()))


def _text(below: Below) -> list[str]:
    return [name.decode("latin-1") for name in below]


def _below(text: Sequence[str]) -> Below:
    return tuple(name.encode("latin-1") for name in text)


def _replacement(row: Row) -> Replacement:
    more = {
        "path": SitePath.parse(row["path"]),
        "kind": ReplacementKind(row["kind"]),
        "state": ReplacementState(row["state"]),
        "choices": {_below(below): Take(take) for below, take in json.loads(row["choices"])},
        "joined": {_below(below): (bytes.fromhex(hash_), size) for below, hash_, size in json.loads(row["joined"])},
        "notes": tuple(json.loads(row["notes"])),
        "in_place": bool(row["in_place"]),
        "fresh": SitePath.parse(row["fresh"]) if row["fresh"] is not None else None,
        "kept": SitePath.parse(row["kept"]) if row["kept"] is not None else None,
        "pages": tuple(answer_of(one) for one in json.loads(row["pages"])),
        "begun_at": aware(row["begun_at"]),
        "ended_at": aware(row["ended_at"]) if row["ended_at"] else None,
        "let_go_at": aware(row["let_go_at"]) if row["let_go_at"] else None,
    }
    return Replacement(**(row | more))
