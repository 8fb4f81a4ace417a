"""Verified copies, each with its manifest, and the contents that it holds."""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from nailer.core.files.sitepath import SitePath
from nailer.core.packages.declared import Declared
from nailer.core.packages.manifest import Manifest
from nailer.core.words import aware, count_text
from nailer.core.work.states import COPIES, CopyState
from nailer.errors import Conflict, NotFound
from nailer.store.database import Database, Row, Work, utc_now
from nailer.store.running.works import check_step
from nailer.unbroken import in_thread

_LONGEST = timedelta(days=1)


class CopyKind(StrEnum):
    """What a copy is of: a folder there as it was, or a package as it was delivered, before it went anywhere."""

    COPY = "copy"
    DELIVERED = "delivered"


@dataclass(frozen=True, slots=True)
class VerifiedCopy:
    """A copy of a folder there. `fetched` counts the files that were carried for it; the others were known from an earlier
    copy. `restore_test` says how the last one went. `name` and `version` are what a package in it declares, '' for none;
    `time_id` is the timer it was made by."""

    id: int
    site_id: int
    account_name: str | None
    path: SitePath
    title: str
    state: CopyState
    files: int
    bytes: int
    fetched: int
    problem: str
    begun_at: datetime
    ended_at: datetime | None
    restore_tested_at: datetime | None
    restore_test: str
    kind: CopyKind = CopyKind.COPY
    name: str = ""
    version: str = ""
    time_id: int | None = None


class CopyStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def begin(self, site_id: int, account_id: int, path: SitePath, title: str) -> int:
        """Write down that what is delivered is being taken in; return its number."""
        return await self._db.write(self.beginning(site_id, account_id, path, title, kind=CopyKind.DELIVERED))

    @staticmethod
    def beginning(
        site_id: int,
        account_id: int,
        path: SitePath,
        title: str,
        *,
        kind: CopyKind = CopyKind.COPY,
        time_id: int | None = None,
    ) -> Callable[[Work], int]:
        """What writes down that a copy is being taken, and returns its number."""
        values = {
            "site_id": site_id,
            "account_id": account_id,
            "path": path.raw,
            "title": title[:200],
            "kind": kind.value,
            "time_id": time_id,
            "now": utc_now(),
        }
        return lambda work: work.insert("copies.begin", **values)

    async def hold(self, copy_id: int, digests: Sequence[bytes]) -> None:
        """Keep contents from being let go, for a copy."""
        rows = [{"copy_id": copy_id, "hash": digest} for digest in digests]
        await self._db.write(lambda work: work.many("copies.hold", rows))

    async def verified(self, copy_id: int, manifest: Manifest, fetched: int, declared: Declared | None = None) -> None:
        """Write down that a copy is verified. Raises Conflict where it is not."""
        await self._db.write(await self.verifying(copy_id, manifest, fetched, declared))

    @staticmethod
    async def verifying(
        copy_id: int, manifest: Manifest, fetched: int, declared: Declared | None = None
    ) -> Callable[[Work], None]:
        """What writes down that a copy is verified, with its manifest and what the package in it declares. It looks first,
        in the same transaction: raises Conflict where the copy is no longer being taken, or a content of it is not kept."""
        packed = await in_thread(_packed, manifest)
        values = {
            "id": copy_id,
            "state": CopyState.VERIFIED.value,
            "files": len(manifest.files),
            "bytes": manifest.size,
            "fetched": fetched,
            "problem": "",
            "manifest": packed,
            "name": declared.name if declared is not None else "",
            "version": declared.version.text if declared is not None else "",
            "now": utc_now(),
        }
        wanted = len({one.digest for one in manifest.names if one.digest is not None})

        def _change(work: Work) -> None:
            _step(work, copy_id, CopyState.VERIFIED)
            missing = wanted - int(work.value("copies.count_kept", id=copy_id))
            if missing > 0:
                raise Conflict(f"{count_text(missing, 'content')} of this copy are no longer kept.")
            work.run("copies.end", **values)

        return _change

    async def fail(self, copy_id: int, problem: str) -> None:
        """Write down that a copy is not whole; it holds nothing."""
        await self._db.write(self.failing(copy_id, problem))

    @staticmethod
    def failing(copy_id: int, problem: str) -> Callable[[Work], None]:
        """As `fail`, for a transaction that writes more than that."""
        values = {"id": copy_id, "state": CopyState.FAILED.value, "problem": problem[:500], "now": utc_now()}
        nothing = {"files": 0, "bytes": 0, "fetched": 0, "manifest": None, "name": "", "version": ""}

        def _change(work: Work) -> None:
            _step(work, copy_id, CopyState.FAILED)
            work.run("copies.end", **values, **nothing)
            work.run("copies.release", id=copy_id)

        return _change

    async def fail_old(self) -> None:
        """What was being taken in for so long that nobody can be at it any more is not whole."""

        def _change(work: Work) -> None:
            work.run("copies.fail_old", now=utc_now(), before=utc_now() - _LONGEST)
            work.run("copies.release_failed")

        await self._db.write(_change)

    async def of(self, site_id: int) -> list[VerifiedCopy]:
        """The copies of a site, newest first."""
        return [_copy(row) for row in await self._db.read(lambda work: work.rows("copies.of", site_id=site_id))]

    async def originals(self, site_id: int, path: SitePath, version: str) -> list[VerifiedCopy]:
        """What is kept of one version of a package: as it was delivered, the newest first; then copies of it, the oldest
        first."""
        values = {"site_id": site_id, "path": path.raw, "version": version}
        return [_copy(row) for row in await self._db.read(lambda work: work.rows("copies.originals", **values))]

    async def get(self, site_id: int, copy_id: int) -> VerifiedCopy:
        """One copy, of whichever kind. Raises NotFound."""
        row = await self._db.read(lambda work: work.one("copies.get", site_id=site_id, id=copy_id))
        if row is None:
            raise NotFound("This copy does not exist.")
        return _copy(row)

    async def manifest(self, copy_id: int) -> Manifest:
        """The manifest of a copy; empty where it has none."""
        packed = await self._db.read(lambda work: work.value("copies.manifest", id=copy_id))
        return await in_thread(_unpacked, packed) if packed else Manifest(())

    async def restore_tested(self, copy_id: int, words: str) -> None:
        """Write down how the test of a restore went."""
        await self._db.write(
            lambda work: work.run("copies.restore_tested", id=copy_id, words=words[:300], now=utc_now())
        )

    async def drop_unneeded(self, site_id: int, copy_id: int) -> None:
        """Forget what was delivered, unless a replacement that was not given up needs it."""
        await self._db.write(lambda work: work.run("copies.drop_unneeded", site_id=site_id, id=copy_id))

    async def drop(self, site_id: int, copy_id: int) -> None:
        """Forget a copy; what it alone held may be let go."""
        await self._db.write(lambda work: work.run("copies.drop", site_id=site_id, id=copy_id))


def _step(work: Work, copy_id: int, state: CopyState) -> None:
    check_step(work, "copies.lock", copy_id, COPIES, state, "This copy does not exist.")


def _packed(manifest: Manifest) -> bytes:
    """Of a large site this takes a while: never on the event loop."""
    return zlib.compress(json.dumps(manifest.data, separators=(",", ":")).encode(), 6)


def _unpacked(packed: bytes) -> Manifest:
    return Manifest.of(json.loads(zlib.decompress(packed)))


def _copy(row: Row) -> VerifiedCopy:
    more = {
        "path": SitePath.parse(row["path"]),
        "state": CopyState(row["state"]),
        "kind": CopyKind(row["kind"]),
        "begun_at": aware(row["begun_at"]),
        "ended_at": aware(row["ended_at"]) if row["ended_at"] else None,
        "restore_tested_at": aware(row["restore_tested_at"]) if row["restore_tested_at"] else None,
    }
    return VerifiedCopy(**(row | more))
