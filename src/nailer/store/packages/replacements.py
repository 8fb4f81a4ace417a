"""Versions that take the place of others, packages that come or go: each with how far it is."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from nailer.core.check.live import Fetched
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.core.packages.replacing import Take
from nailer.core.words import aware
from nailer.core.work.states import REPLACEMENTS, UNDER_WAY, ReplacementState
from nailer.errors import Conflict, NotFound, UnderWay
from nailer.store.checks.watches import answer_of, answer_row
from nailer.store.database import Database, Row, Work, utc_now
from nailer.store.running.works import Change, check_step


class ReplacementKind(StrEnum):
    """What happens to a package: another version takes its place, it comes, or it goes."""

    REPLACE = "replace"
    INSTALL = "install"
    REMOVE = "remove"


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
    choices: Mapping[RelativePath, Take]
    joined: Mapping[RelativePath, tuple[bytes, int]]
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


@dataclass(frozen=True, slots=True)
class DecidedVersion:
    """What was decided of a plan: choices, texts that were joined, and whether files are replaced one by one."""

    choices: Mapping[RelativePath, Take]
    joined: Mapping[RelativePath, tuple[bytes, int]]
    in_place: bool


class ReplacementStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    @staticmethod
    def beginning(
        site_id: int, account_id: int, path: SitePath, kind: ReplacementKind, source: str
    ) -> Callable[[Work], int]:
        """What writes down that both versions are being read, and returns the number of the row."""
        values = {
            "site_id": site_id,
            "account_id": account_id,
            "path": path.raw,
            "kind": kind.value,
            "source": source[:300],
            "now": utc_now(),
        }
        return lambda work: work.insert("replacements.begin", **values)

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
        await self._db.write(self.planning(one))

    @staticmethod
    def planning(one: Replacement) -> Change:
        """As `planned`, for a transaction that writes more than that."""
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

        def _change(work: Work) -> None:
            _step(work, one.id, ReplacementState.PLANNED)
            work.run("replacements.planned", **values)

        return _change

    async def choose(
        self,
        replacement_id: int,
        choices: Mapping[RelativePath, Take],
        joined: Mapping[RelativePath, tuple[bytes, int]],
    ) -> DecidedVersion:
        """Add to what a person decided, and to the texts that were joined; return all of it. What another page decided at
        the same moment stays. Raises Conflict where it is no plan any more."""

        def _change(work: Work) -> DecidedVersion:
            known = _decided(work, replacement_id)
            all_choices, all_joined = {**known.choices, **choices}, {**known.joined, **joined}
            work.run(
                "replacements.choose",
                id=replacement_id,
                choices=json.dumps([[_text(below), take.value] for below, take in all_choices.items()]),
                joined=json.dumps([[_text(below), one.hex(), size] for below, (one, size) in all_joined.items()]),
            )
            return DecidedVersion(all_choices, all_joined, known.in_place)

        return await self._db.write(_change)

    async def in_place(self, replacement_id: int, wanted: bool) -> None:
        """Write down whether files are replaced one by one. Raises Conflict where it is no plan any more."""

        def _change(work: Work) -> None:
            _decided(work, replacement_id)
            work.run("replacements.set_in_place", id=replacement_id, in_place=wanted)

        await self._db.write(_change)

    @staticmethod
    def building(
        one: Replacement,
        fresh: SitePath | None,
        kept: SitePath | None,
        pages: Sequence[Fetched],
        adding_job: Callable[[Work], int] | None,
    ) -> Callable[[Work], int]:
        """What begins to carry a plan out, and returns its number: the hidden names before they are used, what the pages
        answered before, and the job that builds, which `adding_job` stores. Raises UnderWay where another has begun,
        Conflict where something else was decided since `one` was read: what is carried out is what was shown."""
        values = {
            "id": one.id,
            "fresh": fresh.raw if fresh is not None else None,
            "kept": kept.raw if kept is not None else None,
            "pages": json.dumps([answer_row(page) for page in pages]),
        }

        def _change(work: Work) -> int:
            _claim(work, one, ReplacementState.BUILDING)
            if _decided(work, one.id, ReplacementState.BUILDING) != DecidedVersion(
                one.choices, one.joined, one.in_place
            ):
                raise Conflict("Something else was decided in this plan in the meantime. Read it again.")
            work.run("replacements.build", job_id=adding_job(work) if adding_job is not None else None, **values)
            return one.id

        return _change

    @staticmethod
    def going_on(
        one: Replacement, state: ReplacementState, more: Callable[[Work], object] | None = None
    ) -> Callable[[Work], int]:
        """What goes on from the state that was seen, with what `more` writes; it returns the number. Raises UnderWay where
        another has gone on from there."""

        def _change(work: Work) -> int:
            _claim(work, one, state)
            if more is not None:
                more(work)
            return one.id

        return _change

    async def set_state(self, replacement_id: int, state: ReplacementState, words: str = "") -> None:
        """Write down how far it is, or how it ended. Raises Conflict where that cannot follow on how it stands."""
        await self._db.write(self.stepping(replacement_id, state, words))

    @staticmethod
    def stepping(replacement_id: int, state: ReplacementState, words: str = "") -> Change:
        """As `set_state`, for a transaction that writes more than that."""
        ended = utc_now() if state not in (*UNDER_WAY, ReplacementState.READING, ReplacementState.PLANNED) else None
        values = {"id": replacement_id, "state": state.value, "words": words[:1000], "ended_at": ended}

        def _change(work: Work) -> None:
            _step(work, replacement_id, state)
            work.run("replacements.set_state", **values)

        return _change

    async def begin_removal(self, replacement_id: int, adding_job: Callable[[Work], int]) -> int:
        """Begin the job that removes what the new version does not have, and write it down with that; return its number."""

        def _change(work: Work) -> int:
            removal_id = adding_job(work)
            work.run("replacements.removes", id=replacement_id, removal_id=removal_id)
            return removal_id

        return await self._db.write(_change)

    async def let_go(self, replacement_id: int) -> None:
        """Write down that the old one is not kept beside it any more."""
        await self._db.write(lambda work: work.run("replacements.let_go", id=replacement_id, now=utc_now()))

    @staticmethod
    def not_read(replacement_id: int, words: str) -> Change:
        """What writes down that its versions could not be read; what was being taken in for it is not whole."""
        ended = ReplacementStore.stepping(replacement_id, ReplacementState.FAILED, words)

        def _change(work: Work) -> None:
            ended(work)
            work.run("replacements.fail_taken_in", id=replacement_id, now=utc_now())

        return _change


def _step(work: Work, replacement_id: int, state: ReplacementState) -> None:
    check_step(work, "replacements.lock", replacement_id, REPLACEMENTS, state, "This replacement no longer exists.")


def _decided(work: Work, replacement_id: int, state: ReplacementState = ReplacementState.PLANNED) -> DecidedVersion:
    """What is decided, in the transaction that goes by it. Raises Conflict where the state is another one."""
    row = work.one("replacements.decided", id=replacement_id)
    if row is None:
        raise NotFound("This replacement no longer exists.")
    if ReplacementState(row["state"]) is not state:
        raise Conflict("This is not a plan that can be changed.")
    return DecidedVersion(_choices(row["choices"]), _joined(row["joined"]), bool(row["in_place"]))


def _choices(text: str) -> dict[RelativePath, Take]:
    return {_below(below): Take(take) for below, take in json.loads(text)}


def _joined(text: str) -> dict[RelativePath, tuple[bytes, int]]:
    return {_below(below): (bytes.fromhex(hash_), size) for below, hash_, size in json.loads(text)}


def _claim(work: Work, one: Replacement, state: ReplacementState) -> None:
    _step(work, one.id, state)
    if not work.run("replacements.claim", id=one.id, was=one.state.value, state=state.value):
        raise UnderWay("Someone else is already working on this.")


def _text(below: RelativePath) -> list[str]:
    return [name.decode("latin-1") for name in below]


def _below(text: Sequence[str]) -> RelativePath:
    return tuple(name.encode("latin-1") for name in text)


def _replacement(row: Row) -> Replacement:
    more = {
        "path": SitePath.parse(row["path"]),
        "kind": ReplacementKind(row["kind"]),
        "state": ReplacementState(row["state"]),
        "choices": _choices(row["choices"]),
        "joined": _joined(row["joined"]),
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
