"""Scans of sites: each with its trees, and what every file that was read refers to."""

from __future__ import annotations

import asyncio
import hashlib
import json
import zlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from nailer.core.files.completeness import Incomplete, Lack
from nailer.core.files.entry import Entry, Kind, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.jobs.schedule import Every, Schedule, next_run
from nailer.core.site.links import FileLinks, Link, Use
from nailer.core.site.read_files import ReadFile
from nailer.core.words import aware
from nailer.core.work.states import SCANS, ScanState
from nailer.errors import NotFound
from nailer.store.database import Database, Row, Work, utc_now
from nailer.store.running.works import Change, check_step

_KEPT = 3  # the last scan, and what it is compared with


@dataclass(frozen=True, slots=True)
class StoredScan:
    """One scan. `is_account`: all of the account was read from its home, not only what is published. `summary` holds
    figures and sentences of what could not be read; `asks_others`: links to other sites are asked, too."""

    id: int
    site_id: int
    account_id: int | None
    is_account: bool
    state: ScanState
    begun_at: datetime
    ended_at: datetime | None
    problem: str
    summary: Mapping[str, Any]
    asks_others: bool = False


@dataclass(frozen=True, slots=True)
class ScanTime:
    """When a site is read by itself each day, and for whom. `next_at` is UTC."""

    site_id: int
    account_id: int
    at: str
    zone: str
    next_at: datetime


class ScanStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    @staticmethod
    def beginning(site_id: int, account_id: int, *, is_account: bool, asks_others: bool) -> Callable[[Work], int]:
        """What writes down that a site is being scanned, and returns the number of the scan."""
        values = {
            "site_id": site_id,
            "account_id": account_id,
            "is_account": is_account,
            "asks_others": asks_others,
            "now": utc_now(),
        }
        return lambda work: work.insert("scans.begin", **values)

    async def ending(
        self,
        scan: StoredScan,
        state: ScanState,
        *,
        problem: str = "",
        trees: Mapping[SitePath, Tree] | None = None,
        same_as: int | None = None,
        summary: Mapping[str, Any] | None = None,
    ) -> Change:
        """What writes down how a scan ended, and lets old ones go. `same_as` is a scan whose trees were the same."""
        last = await self.last(scan.site_id)
        done = [one.id for one in last if one.state is ScanState.DONE]
        if same_as not in done:
            same_as = None
        packed = await asyncio.to_thread(_packed_trees, trees) if trees is not None and same_as is None else None
        said = _packed(dict(summary)) if summary is not None else None
        if state is ScanState.DONE:
            done.insert(0, scan.id)
        values = {
            "id": scan.id,
            "state": state.value,
            "now": utc_now(),
            "problem": problem,
            "trees": packed,
            "same_as": same_as,
            "summary": said,
        }

        def _change(work: Work) -> None:
            _step(work, scan.id, state)
            work.run("scans.end", **values)
            if len(done) >= _KEPT:
                work.run("scans.forget_old", site_id=scan.site_id, keep=done[_KEPT - 1])

        return _change

    @staticmethod
    def breaking(scan_id: int, state: ScanState, problem: str) -> Change:
        """What writes down that a scan did not come to its end."""
        nothing = {"trees": None, "same_as": None, "summary": None}

        def _change(work: Work) -> None:
            _step(work, scan_id, state)
            work.run("scans.end", id=scan_id, state=state.value, now=utc_now(), problem=problem, **nothing)

        return _change

    async def get(self, scan_id: int) -> StoredScan:
        """One scan. Raises NotFound."""
        row = await self._db.read(lambda work: work.one("scans.get", id=scan_id))
        if row is None:
            raise NotFound("This scan no longer exists.")
        return _scan(row)

    async def last(self, site_id: int) -> list[StoredScan]:
        """The last scans of a site that ended, newest first."""
        rows = await self._db.read(lambda work: work.rows("scans.last", site_id=site_id))
        return [_scan(row) for row in rows]

    async def trees(self, scan_id: int) -> dict[SitePath, Tree]:
        """The trees that a scan read, by their top folders there."""
        packed = await self._db.read(lambda work: work.value("scans.trees", id=scan_id))
        return _trees(json.loads(zlib.decompress(packed))) if packed else {}

    async def files(self, site_id: int) -> dict[SitePath, ReadFile]:
        """Every file that was read, by its path."""
        rows = await self._db.read(lambda work: work.rows("scans.files", site_id=site_id))
        found = [_file(row) for row in rows]
        return {one.path: one for one in found}

    async def digests(self, site_id: int) -> dict[SitePath, bytes]:
        """The hash of each file that has one, by its path."""
        rows = await self._db.read(lambda work: work.rows("scans.digests", site_id=site_id))
        return {SitePath.parse(row["path"]): row["digest"] for row in rows}

    async def put_files(self, site_id: int, files: Sequence[ReadFile]) -> None:
        """Store what was read of files, in place of what was known of them."""
        rows = [_file_row(site_id, one) for one in files]
        await self._db.write(lambda work: work.many("scans.put", rows))

    async def drop_files(self, site_id: int, paths: Sequence[SitePath]) -> None:
        """Forget files that are not there any more."""
        rows = [{"site_id": site_id, "hash": path_key(path)} for path in paths]
        await self._db.write(lambda work: work.many("scans.drop_file", rows))

    async def time_of(self, site_id: int) -> ScanTime | None:
        """When a site is read by itself; None where it is not."""
        row = await self._db.read(lambda work: work.one("scans.time_of", site_id=site_id))
        return ScanTime(**row) if row is not None else None

    async def set_time(self, site_id: int, account_id: int, daily: Schedule) -> None:
        """Read a site each day from now on."""
        at, zone = daily.spec, daily.zone
        values = {"site_id": site_id, "account_id": account_id, "at": at, "zone": zone, "next_at": _next(at, zone)}
        await self._db.write(lambda work: work.run("scans.set_time", **values))

    async def drop_time(self, site_id: int) -> None:
        """Read a site only when somebody asks."""
        await self._db.write(lambda work: work.run("scans.drop_time", site_id=site_id))

    async def claim_due(self) -> list[ScanTime]:
        """Sites whose time has come; each is given to one caller, and comes again a day later."""
        rows = await self._db.read(lambda work: work.rows("scans.due", now=utc_now()))
        claimed = []
        for one in (ScanTime(**row) for row in rows):
            values = {"site_id": one.site_id, "was": one.next_at, "next_at": _next(one.at, one.zone)}
            if await self._db.write(lambda work, values=values: work.run("scans.put_off", **values)):  # type: ignore[misc]
                claimed.append(one)
        return claimed


def path_key(path: SitePath) -> bytes:
    """Sixteen bytes that name a path."""
    return hashlib.sha256(path.raw).digest()[:16]


def _next(at: str, zone: str) -> datetime:
    schedule = Schedule(Every.DAILY, at, zone)
    return next_run(schedule, aware(utc_now()) + timedelta(seconds=1)).replace(tzinfo=None)


def _step(work: Work, scan_id: int, state: ScanState) -> None:
    check_step(work, "scans.lock", scan_id, SCANS, state, "This scan no longer exists.")


def _scan(row: Row) -> StoredScan:
    packed = row["summary"]
    more = {
        "state": ScanState(row["state"]),
        "is_account": bool(row["is_account"]),
        "asks_others": bool(row["asks_others"]),
        "begun_at": aware(row["begun_at"]),
        "ended_at": aware(row["ended_at"]) if row["ended_at"] else None,
        "summary": json.loads(zlib.decompress(packed)) if packed else {},
    }
    return StoredScan(**(row | more))


def _packed(value: object) -> bytes:
    return zlib.compress(json.dumps(value, separators=(",", ":")).encode(), 6)


def _file(row: Row) -> ReadFile:
    stamp = Stamp(row["at_ns"], row["precision_ns"]) if row["at_ns"] is not None else None
    places = None if row["has_places"] is None else bool(row["has_places"])
    links = _links(json.loads(zlib.decompress(row["links"]))) if row["links"] is not None else None
    return ReadFile(
        SitePath.parse(row["path"]),
        row["size"],
        stamp,
        row["read_at"],
        row["digest"],
        row["width"],
        row["height"],
        places,
        links,
    )


def _file_row(site_id: int, one: ReadFile) -> dict[str, Any]:
    links = one.links
    said = None
    if links is not None:
        listed = [[link.address, link.use.value, link.width] for link in links.links]
        said = _packed([listed, links.base, sorted(links.mentions)])
    return {
        "site_id": site_id,
        "hash": path_key(one.path),
        "path": one.path.raw,
        "size": one.size,
        "at_ns": one.stamp.at_ns if one.stamp else None,
        "precision_ns": one.stamp.precision_ns if one.stamp else None,
        "read_at": one.read_at,
        "digest": one.digest,
        "width": one.width,
        "height": one.height,
        "has_places": one.has_places,
        "links": said,
    }


def _links(said: list[Any]) -> FileLinks:
    listed, base, mentions = said
    return FileLinks(tuple(Link(address, Use(use), width) for address, use, width in listed), base, frozenset(mentions))


def _text(raw: bytes | None) -> str | None:
    return raw.decode("latin-1") if raw is not None else None


def _raw(text: str | None) -> bytes | None:
    return text.encode("latin-1") if text is not None else None


def _tree_rows(trees: Mapping[SitePath, Tree]) -> list[Any]:
    """Trees as JSON takes them: bytes as Latin-1 text, each of which is a letter there."""
    return [
        [
            _text(top.raw),
            [
                [[_text(name) for name in below], [_entry_row(one) for one in entries]]
                for below, entries in tree.folders.items()
            ],
            [[_texts(below), why] for below, why in tree.problems.items()],
            [[_texts(below), lack.why.value, lack.words, lack.count] for below, lack in tree.lacks.items()],
        ]
        for top, tree in trees.items()
    ]


def _packed_trees(trees: Mapping[SitePath, Tree]) -> bytes:
    return _packed(_tree_rows(trees))


def _texts(below: RelativePath) -> list[str | None]:
    return [_text(name) for name in below]


def _entry_row(one: Entry) -> list[Any]:
    stamp = [one.stamp.at_ns, one.stamp.precision_ns] if one.stamp else None
    leads = one.leads_to.value if one.leads_to else None
    return [_text(one.name), one.kind.value, one.size, stamp, one.permissions, one.owner, _text(one.target), leads]


def _trees(rows: list[Any]) -> dict[SitePath, Tree]:
    return {
        SitePath.parse(_raw(top) or b""): Tree(
            {_below(below): [_entry(one) for one in entries] for below, entries in folders},
            {_below(below): why for below, why in problems},
            {_below(below): Incomplete(Lack(why), words, count) for below, why, words, count in lacks},
        )
        for top, folders, problems, lacks in rows
    }


def _below(names: list[str]) -> RelativePath:
    return tuple(one.encode("latin-1") for one in names)


def _entry(row: list[Any]) -> Entry:
    name, kind, size, stamp, permissions, owner, target, leads = row
    return Entry(
        name.encode("latin-1"),
        Kind(kind),
        size,
        Stamp(*stamp) if stamp else None,
        permissions,
        owner,
        target=_raw(target),
        leads_to=Kind(leads) if leads else None,
    )
