"""Packages that are set aside, each until it is known to be back; and searches for what breaks a page."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from nailer.core.files.sitepath import SitePath
from nailer.core.packages.tested import PageTest
from nailer.core.words import aware
from nailer.core.work.kinds import WorkKind
from nailer.core.work.states import SEARCHES, SearchState
from nailer.errors import NotFound
from nailer.store.database import Database, Row, Work, utc_now
from nailer.store.running.works import Change, begin_for_anyone, check_step


@dataclass(frozen=True, slots=True)
class SetAside:
    """A package whose folder has another name for a while. `search_id`: a search made it, and puts it back."""

    id: int
    site_id: int
    account_name: str | None
    search_id: int | None
    path: SitePath
    aside: SitePath
    title: str
    why: str
    at: datetime


@dataclass(frozen=True, slots=True)
class PackageSearch:
    """A search for what breaks a page: among `packages`, the most suspect first, with an answer for each test so far (True:
    broken, with what the page said)."""

    id: int
    site_id: int
    account_id: int | None
    wish: PageTest
    packages: tuple[SitePath, ...]
    answers: tuple[tuple[bool, str], ...]
    state: SearchState
    words: str
    begun_at: datetime
    ended_at: datetime | None

    @property
    def broken(self) -> list[bool]:
        """The answers alone."""
        return [broken for broken, _ in self.answers]


class PackageStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add_aside(
        self, site_id: int, account_id: int | None, search_id: int | None, path: SitePath, aside: SitePath, **more: str
    ) -> int:
        """Write down that a package is about to be set aside; return the number of the row. `more`: `title` and `why`."""
        values = {
            "site_id": site_id,
            "account_id": account_id,
            "search_id": search_id,
            "path": path.raw,
            "aside": aside.raw,
            "title": more["title"][:200],
            "why": more.get("why", "")[:300],
            "now": utc_now(),
        }
        return await self._db.write(lambda work: work.insert("packages.add_aside", **values))

    async def back(self, aside_id: int) -> None:
        """Write down that a package has its name again."""
        await self._db.write(lambda work: work.run("packages.back", id=aside_id, now=utc_now()))

    async def open(self, site_id: int) -> list[SetAside]:
        """What is set aside on a site."""
        rows = await self._db.read(lambda work: work.rows("packages.open", site_id=site_id))
        return [_aside(row) for row in rows]

    async def sites(self) -> list[int]:
        """Sites on which something is set aside."""
        return [row["site_id"] for row in await self._db.read(lambda work: work.rows("packages.sites"))]

    async def bring_back_left(self) -> None:
        """Begin to bring back what searches have left, on every site where no search is under way."""

        def _change(work: Work) -> None:
            for row in work.rows("packages.left_by_searches"):
                bringing_back(work, row["site_id"])

        await self._db.write(_change)

    @staticmethod
    def beginning(site_id: int, account_id: int, wish: PageTest, packages: Sequence[SitePath]) -> Callable[[Work], int]:
        """What writes down that a search begins, and returns its number."""
        values = {
            "site_id": site_id,
            "account_id": account_id,
            "wish": json.dumps(wish.data),
            "packages": json.dumps([one.token for one in packages]),
            "now": utc_now(),
        }
        return lambda work: work.insert("packages.begin", **values)

    async def answered(self, search_id: int, answers: Sequence[tuple[bool, str]]) -> None:
        """Write down every answer so far."""
        text = json.dumps([list(one) for one in answers])
        await self._db.write(lambda work: work.run("packages.answered", id=search_id, answers=text))

    @staticmethod
    def ending(search_id: int, site_id: int, state: SearchState, words: str) -> Change:
        """What writes down how a search ended. Where something that a search has set aside is not back, bringing it back
        begins with that."""
        values = {"id": search_id, "state": state.value, "words": words[:500], "now": utc_now()}

        def _change(work: Work) -> None:
            _step(work, search_id, state)
            work.run("packages.end", **values)
            if work.value("packages.count_left", site_id=site_id):
                bringing_back(work, site_id)

        return _change

    @staticmethod
    def resuming(search_id: int) -> Callable[[Work], int]:
        """What writes down that a search that was cut goes on, and returns its number."""

        def _change(work: Work) -> int:
            _step(work, search_id, SearchState.SEARCHING)
            work.run("packages.go_on", id=search_id)
            return search_id

        return _change

    async def get(self, search_id: int) -> PackageSearch:
        """One search. Raises NotFound."""
        row = await self._db.read(lambda work: work.one("packages.get", id=search_id))
        if row is None:
            raise NotFound("This search no longer exists.")
        return _search(row)

    async def last(self, site_id: int) -> PackageSearch | None:
        """The last search on a site."""
        row = await self._db.read(lambda work: work.one("packages.last", site_id=site_id))
        return _search(row) if row is not None else None


def _step(work: Work, search_id: int, state: SearchState) -> None:
    check_step(work, "packages.lock", search_id, SEARCHES, state, "This search no longer exists.")


def bringing_back(work: Work, site_id: int) -> None:
    """Begin to bring back what searches have left on a site: whoever looks for work first does it."""
    begin_for_anyone(work, WorkKind.BRING_BACK, site_id, site_id)


def _aside(row: Row) -> SetAside:
    return SetAside(
        row["id"],
        row["site_id"],
        row["account_name"],
        row["search_id"],
        SitePath.parse(row["path"]),
        SitePath.parse(row["aside"]),
        row["title"],
        row["why"],
        aware(row["at"]),
    )


def _search(row: Row) -> PackageSearch:
    wish: Mapping[str, Any] = json.loads(row["wish"])
    return PackageSearch(
        row["id"],
        row["site_id"],
        row["account_id"],
        PageTest(**wish),
        tuple(SitePath.of_token(one) for one in json.loads(row["packages"])),
        tuple((bool(broken), str(said)) for broken, said in json.loads(row["answers"])),
        SearchState(row["state"]),
        row["words"],
        aware(row["begun_at"]),
        aware(row["ended_at"]) if row["ended_at"] else None,
    )
