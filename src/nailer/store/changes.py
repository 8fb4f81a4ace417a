"""Changes with what takes them back, kept contents, and the baseline of names that were level."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import Any

from nailer.acting import reaches
from nailer.core.compare.joint import Baseline, Seen
from nailer.core.files.entry import Entry, SideName, Stamp
from nailer.core.files.moves import Renaming, Renamings
from nailer.core.files.names import is_beside_package, is_package_built
from nailer.core.files.sitepath import SitePath
from nailer.errors import NotFound
from nailer.store.database import Database, Row, Work, like, utc_now

_KEYS_AT_ONCE = 500
_ROWS_AT_ONCE = 5000
_MOST_MOVES = 5000


class What(StrEnum):
    """What happened to a name."""

    MADE = "made"
    REPLACED = "replaced"
    REMOVED = "removed"
    LINK_REMOVED = "link-removed"
    LINK_MADE = "link-made"
    FOLDER_MADE = "folder-made"
    FOLDER_REMOVED = "folder-removed"
    RENAMED = "renamed"
    PERMISSIONS_SET = "permissions-set"


WHAT_WORDS = {
    What.MADE: "created",
    What.REPLACED: "replaced",
    What.REMOVED: "removed",
    What.LINK_REMOVED: "link removed",
    What.LINK_MADE: "link created",
    What.FOLDER_MADE: "folder created",
    What.FOLDER_REMOVED: "folder removed",
    What.RENAMED: "renamed",
    What.PERMISSIONS_SET: "permissions set",
}


@dataclass(frozen=True, slots=True)
class NewChange:
    """A change about to be made. `before` and `after` are what is, and what will be, under the path."""

    site_id: int
    side: SideName
    path: SitePath
    what: What
    account_id: int | None
    before: Entry | None = None
    before_hash: bytes | None = None
    after: Entry | None = None
    after_hash: bytes | None = None
    other_path: SitePath | None = None
    job_id: int | None = None
    item_id: int | None = None
    level_before: Level | None = None


@dataclass(frozen=True, slots=True)
class Change:
    id: int
    site_id: int
    side: SideName
    path: SitePath
    what: What
    account_name: str | None
    job_id: int | None
    at: datetime
    before_hash: bytes | None
    before_size: int | None
    before_stamp: Stamp | None
    before_permissions: int | None
    before_target: bytes | None
    after_size: int | None
    after_stamp: Stamp | None
    after_permissions: int | None
    other_path: SitePath | None
    level_before: Level | None
    taken_back_at: datetime | None
    job_title: str = ""

    @property
    def is_of_packages(self) -> bool:
        """True for the renames by which packages are set aside and exchanged, and for what is built for that: those go back
        where packages are."""
        ends = [self.path.name] + ([self.other_path.name] if self.other_path is not None else [])
        if self.what is What.RENAMED and any(is_beside_package(name) for name in ends):
            return True
        return any(is_package_built(name) for name in self.path.names)

    @property
    def can_be_taken_back(self) -> bool:
        """True where it was not taken back yet, by itself or with others, and what that needs is kept."""
        if self.taken_back_at is not None or self.is_of_packages:
            return False
        return self.before_hash is not None or self.what not in (What.REPLACED, What.REMOVED)


@dataclass(frozen=True, slots=True)
class Level:
    """What the baseline says of one file. `row` is None where it was never level.

    A change carries it along as text, so that taking the change back puts the baseline back too.
    """

    site_id: int
    pair_key: bytes
    name: bytes
    row: Row | None

    def content(self, side: SideName) -> tuple[Seen, bytes] | None:
        """What `side` held when level, with the hash of that content; None where that is not known."""
        if self.row is None or self.row["content_hash"] is None:
            return None
        stamp = _stamp(self.row[f"{side}_time_ns"], self.row[f"{side}_precision_ns"])
        return Seen(self.row[f"{side}_size"], stamp), self.row["content_hash"]

    @property
    def as_text(self) -> str:
        """The baseline as text, to be kept with an announced change."""
        row = None if self.row is None else {key: _plain(value) for key, value in self.row.items()}
        return json.dumps({"pair_key": self.pair_key.hex(), "name": self.name.hex(), "row": row})

    @classmethod
    def of_text(cls, site_id: int, text: str) -> Level:
        """The baseline out of such a text."""
        raw = json.loads(text)
        row = raw["row"]
        if row is not None and row["content_hash"] is not None:
            row["content_hash"] = bytes.fromhex(row["content_hash"])
        return cls(site_id, bytes.fromhex(raw["pair_key"]), bytes.fromhex(raw["name"]), row)

    @property
    def to_put_back(self) -> tuple[str, dict[str, Any]]:
        """The query and its values that make the baseline say this again."""
        if self.row is None:
            return "baselines.forget", self.key
        return "baselines.write", {"kind": "file"} | self.key | self.row | {"now": utc_now()}

    @property
    def key(self) -> dict[str, Any]:
        """What names its row."""
        return {"site_id": self.site_id, "pair_key": self.pair_key, "name": self.name}

    def written(self, here: Entry, there: Entry, content_hash: bytes | None) -> dict[str, Any]:
        """Both sides, now level, as a row of `baselines.write`."""
        return self.key | _both_sides(here, there, content_hash)


def _plain(value: Any) -> Any:
    return value.hex() if isinstance(value, bytes) else value


def _reached(change: Change) -> bool:
    return reaches(change.site_id, change.side, change.path)


class ChangeStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def get(self, change_id: int) -> Change:
        """Raises NotFound."""
        row = await self._db.read(lambda work: work.one("changes.by_id", id=change_id))
        if row is None or not _reached(found := _change(row)):
            raise NotFound("This copy has been deleted.")
        return found

    async def of_path(self, site_id: int, side: SideName, path: SitePath, limit: int = 20) -> list[Change]:
        """What happened to what is at a path now, under every name it had; newest first."""
        found: list[Change] = []
        for name in (await self.moves(site_id, side)).names(path):
            values = {"path": name.path.raw, "begun": name.begun, "ended": name.ended, "limit": limit}
            rows = await self._db.read(
                lambda work, values=values: work.rows("changes.of_name", site_id=site_id, side=side, **values)  # type: ignore[misc]
            )
            found += [one for one in map(_change, rows) if _reached(one)]
            if len(found) >= limit:
                break
        return found[:limit]

    async def moves(self, site_id: int, side: SideName) -> Renamings:
        """What was renamed on a side of a site, and got its old name back."""
        rows = await self._db.read(
            lambda work: work.rows("changes.moves", site_id=site_id, side=side, limit=_MOST_MOVES)
        )
        found = []
        for row in rows:
            old, new = SitePath.parse(row["path"]), SitePath.parse(row["other_path"])
            found.append(Renaming(row["at"], old, new))
            if row["taken_back_at"] is not None:
                found.append(Renaming(row["taken_back_at"], new, old))
        return Renamings(found)

    async def removed_in(self, site_id: int, side: SideName, folder: SitePath, limit: int = 50) -> list[Change]:
        """Removals below a folder that can be taken back, newest first."""
        prefix = _like_below(folder)
        rows = await self._db.read(
            lambda work: work.rows("changes.removed_in", site_id=site_id, side=side, prefix=prefix, limit=limit)
        )
        return [one for one in map(_change, rows) if _reached(one)]

    async def lately_in(
        self, site_id: int, side: SideName, folder: SitePath, since: datetime, limit: int = 500
    ) -> dict[bytes, Change]:
        """What was changed directly in a folder since a moment and can be taken back: the newest of each name, by the name
        that it has now."""
        values = {"site_id": site_id, "side": side, "prefix": _like_below(folder), "since": since, "limit": limit}
        rows = await self._db.read(lambda work: work.rows("changes.lately_in", **values))
        found: dict[bytes, Change] = {}
        for change in map(_change, rows):
            path = change.other_path or change.path
            if path.parent == folder and _reached(change) and change.can_be_taken_back:
                found.setdefault(path.name, change)
        return found

    async def latest(
        self, site_id: int, *, before: int = 2**62, side: str = "", wanted: str = "", limit: int = 200
    ) -> list[Change]:
        """Changes newest first, before a number, of one side, and of what holds a text; empty: any."""
        values = {"site_id": site_id, "before": before, "side": side, "wanted": like(wanted), "limit": limit}
        rows = await self._db.read(lambda work: work.rows("changes.latest", **values))
        return [one for one in map(_change, rows) if _reached(one)]

    async def since(self, change: Change, limit: int = 20_000) -> list[Change]:
        """What was changed on its side since a change, itself too, and not taken back; newest first."""
        values = {"site_id": change.site_id, "side": change.side, "id": change.id, "limit": limit}
        rows = await self._db.read(lambda work: work.rows("changes.since", **values))
        return [one for one in map(_change, rows) if _reached(one)]

    async def keeping(self) -> tuple[int | None, int | None]:
        """How many days, and how many bytes, of kept copies there may be; None: no limit."""
        row = await self._db.read(lambda work: work.one("changes.keeping"))
        return (row["days"], row["bytes"]) if row else (None, None)

    async def write_keeping(self, days: int | None, size: int | None) -> None:
        """Set for how long and how much is kept; None: no limit."""
        await self._db.write(lambda work: work.run("changes.write_keeping", days=days, bytes=size))

    async def oldest_kept(self, limit: int = 500) -> list[tuple[bytes, int, datetime]]:
        """Kept contents, the oldest first: hash, compressed size, when it was kept last."""
        rows = await self._db.read(lambda work: work.rows("changes.oldest_kept", limit=limit))
        return [(row["hash"], row["stored_size"], row["kept_at"]) for row in rows]

    async def forget_kept(self, hashes: Sequence[bytes]) -> list[bytes]:
        """These contents are not kept any more, but for those that a verified copy holds by now; what needed them cannot be
        taken back. Returns which."""

        def _forget(work: Work) -> list[bytes]:
            gone = [one for one in hashes if work.run("changes.forget_kept", hash=one)]
            for one in gone:
                work.run("changes.without_copy", hash=one)
            return gone

        return await self._db.write(_forget)

    async def of_job(self, job_id: int) -> list[Change]:
        """What a job changed and nobody has taken back, newest first."""
        rows = await self._db.read(lambda work: work.rows("changes.of_job", job_id=job_id))
        return [one for one in map(_change, rows) if _reached(one)]

    async def add_confirmed(self, change: NewChange) -> int:
        """Record a change that was made at once, outside any job."""
        values = change_row(change)
        for key in ("job_id", "item_id", "after_hash", "after_permissions", "level_before"):
            del values[key]
        return await self._db.write(lambda work: work.insert("changes.add_confirmed", **values))

    async def taken_back(self, change_id: int) -> None:
        """Mark a change as taken back."""
        await self._db.write(lambda work: work.run("changes.taken_back", id=change_id, now=utc_now()))

    async def unconfirmed(self, job_id: int) -> dict[int, tuple[What, Seen | None]]:
        """What was announced and perhaps made before a runner died, by item: what, and how the target would look."""
        rows = await self._db.read(lambda work: work.rows("changes.unconfirmed_of_job", job_id=job_id))
        found: dict[int, tuple[What, Seen | None]] = {}
        for row in rows:
            after = None
            if row["after_size"] is not None:
                after = Seen(row["after_size"], _stamp(row["after_time_ns"]))
            found[row["item_id"]] = (What(row["what"]), after)
        return found

    async def before_of_item(self, item_id: int) -> bytes | None:
        """The kept content that an announced change of an item was to replace."""
        found: bytes | None = await self._db.read(lambda work: work.value("changes.before_of_item", item_id=item_id))
        return found

    async def is_kept(self, content_hash: bytes) -> bool:
        """True where a content is kept."""
        return bool(await self._db.read(lambda work: work.value("changes.is_kept", hash=content_hash)))

    async def kept_room(self) -> tuple[int, int]:
        """How many contents are kept, and their compressed size in bytes."""
        row = await self._db.read(lambda work: work.one("changes.kept_room")) or {}
        return int(row["contents"]), int(row["stored_size"])

    async def baselines(
        self, site_id: int, pairs: Iterable[tuple[SitePath, SitePath]], *, other_site_id: int | None = None
    ) -> dict[bytes, dict[bytes, Baseline]]:
        """The baselines of many folder pairs: by pair key, then by name. Of pairs between two sites, `other_site_id` is
        the one that plays here."""
        keys = [pair_key(here, there, other_site_id) for here, there in pairs]
        found: dict[bytes, dict[bytes, Baseline]] = {key: {} for key in keys}
        for start in range(0, len(keys), _KEYS_AT_ONCE):
            some = keys[start : start + _KEYS_AT_ONCE]
            await self._db.read(lambda work, some=some: _read_baselines(work, site_id, some, found))  # type: ignore[misc]
        return found

    async def forget_baselines(
        self,
        site_id: int,
        here: SitePath,
        there: SitePath,
        names: Iterable[bytes],
        *,
        other_site_id: int | None = None,
    ) -> None:
        """Forget names that are gone from both sides: met again, they are new."""
        key = pair_key(here, there, other_site_id)
        rows = [{"site_id": site_id, "pair_key": key, "name": name} for name in names]
        await self._db.write(lambda work: work.many("baselines.forget", rows))

    async def levels(
        self, site_id: int, pairs: Sequence[tuple[SitePath, SitePath]], *, other_site_id: int | None = None
    ) -> list[Level]:
        """What is known of names' last being level, in the order of the pairs (here, there), by one question."""
        keys = [pair_key(here.parent, there.parent, other_site_id) for here, there in pairs]
        names = {here.name for here, _ in pairs}
        if not pairs:
            return []
        rows = await self._db.read(
            lambda work: work.rows("baselines.of_names", site_id=site_id, pair_keys=set(keys), names=names)
        )
        known = {(row.pop("pair_key"), row.pop("name")): row for row in rows}
        return [
            Level(site_id, key, here.name, known.get((key, here.name)))
            for key, (here, _) in zip(keys, pairs, strict=True)
        ]

    async def write_baselines(self, rows: list[dict[str, Any]]) -> None:
        """Write baselines of many names, some hundred a statement."""
        for start in range(0, len(rows), _ROWS_AT_ONCE):
            some = rows[start : start + _ROWS_AT_ONCE]
            await self._db.write(lambda work, some=some: work.many("baselines.write", some))  # type: ignore[misc]

    async def forget_baselines_below(
        self, site_id: int, here: SitePath, there: SitePath, *, other_site_id: int | None = None
    ) -> None:
        """Forget all names in a folder pair that is gone from both sides, and in the folders it held."""

        def _forget(work: Work) -> None:
            waiting = [(here, there)]
            while waiting:
                near, far = waiting.pop()
                key = pair_key(near, far, other_site_id)
                rows = work.rows("baselines.folders_in", site_id=site_id, pair_key=key)
                waiting += [(near.child(row["name"]), far.child(row["name"])) for row in rows]
                work.run("baselines.forget_all", site_id=site_id, pair_key=key)

        await self._db.write(_forget)


def _like_below(folder: SitePath) -> bytes:
    """What stands for every path below a folder in LIKE."""
    prefix = folder.raw.rstrip(b"/") + b"/"
    for special in (b"\\", b"%", b"_"):
        prefix = prefix.replace(special, b"\\" + special)
    return prefix + b"%"


def _read_baselines(work: Work, site_id: int, keys: list[bytes], found: dict[bytes, dict[bytes, Baseline]]) -> None:
    for row in work.rows("baselines.of_many", site_id=site_id, pair_keys=keys):
        found[row["pair_key"]][row["name"]] = Baseline(
            Seen(row["here_size"], _stamp(row["here_time_ns"], row["here_precision_ns"])),
            Seen(row["there_size"], _stamp(row["there_time_ns"], row["there_precision_ns"])),
            row["kind"] == "folder",
            row["content_hash"],
        )


def pair_key(here: SitePath, there: SitePath, other_site_id: int | None = None) -> bytes:
    """Sixteen bytes that name a pair of folders. `other_site_id` is the site that plays here; None: this machine."""
    prefix = b"" if other_site_id is None else b"site %d\0" % other_site_id
    return hashlib.sha256(prefix + here.raw + b"\0" + there.raw).digest()[:16]


def baseline_row(
    site_id: int,
    here: SitePath,
    there: SitePath,
    here_entry: Entry,
    there_entry: Entry,
    content_hash: bytes | None,
    *,
    other_site_id: int | None = None,
) -> dict[str, Any]:
    """Both sides of one name, now level, as a row of `baselines.write`."""
    key = pair_key(here.parent, there.parent, other_site_id)
    return {"site_id": site_id, "pair_key": key, "name": here.name} | _both_sides(here_entry, there_entry, content_hash)


def _both_sides(here: Entry, there: Entry, content_hash: bytes | None) -> dict[str, Any]:
    # What a folder's own size and time are says nothing of what is in it.
    stamps = (None, None) if there.is_folder else (here.stamp, there.stamp)
    return {
        "kind": "folder" if there.is_folder else "file",
        "here_size": 0 if there.is_folder else here.size,
        "here_time_ns": stamps[0].at_ns if stamps[0] else None,
        "here_precision_ns": stamps[0].precision_ns if stamps[0] else None,
        "there_size": 0 if there.is_folder else there.size,
        "there_time_ns": stamps[1].at_ns if stamps[1] else None,
        "there_precision_ns": stamps[1].precision_ns if stamps[1] else None,
        "content_hash": content_hash,
        "now": utc_now(),
    }


def change_row(change: NewChange) -> dict[str, Any]:
    """A change as a row of `changes.add`."""
    before, after = change.before, change.after
    return {
        "site_id": change.site_id,
        "side": change.side,
        "path": change.path.raw,
        "what": change.what,
        "account_id": change.account_id,
        "job_id": change.job_id,
        "item_id": change.item_id,
        "now": utc_now(),
        "before_hash": change.before_hash,
        "before_size": before.size if before else None,
        "before_time_ns": before.stamp.at_ns if before and before.stamp else None,
        "before_permissions": before.permissions if before else None,
        "before_target": before.target if before else None,
        "after_size": after.size if after else None,
        "after_time_ns": after.stamp.at_ns if after and after.stamp else None,
        "after_permissions": after.permissions if after and change.what is What.PERMISSIONS_SET else None,
        "after_hash": change.after_hash,
        "other_path": change.other_path.raw if change.other_path else None,
        "level_before": change.level_before.as_text if change.level_before else None,
    }


def _stamp(at_ns: int | None, precision_ns: int | None = None) -> Stamp | None:
    return None if at_ns is None else Stamp(at_ns, precision_ns or 1)


def _change(row: Row) -> Change:
    return Change(
        id=row["id"],
        site_id=row["site_id"],
        side=SideName(row["side"]),
        path=SitePath.parse(row["path"]),
        what=What(row["what"]),
        account_name=row.get("account_name"),
        job_id=row["job_id"],
        at=row["at"],
        before_hash=row["before_hash"],
        before_size=row["before_size"],
        before_stamp=_stamp(row["before_time_ns"]),
        before_permissions=row["before_permissions"],
        before_target=row["before_target"],
        after_size=row["after_size"],
        after_stamp=_stamp(row["after_time_ns"]),
        after_permissions=row["after_permissions"],
        other_path=SitePath.parse(row["other_path"]) if row["other_path"] is not None else None,
        level_before=Level.of_text(row["site_id"], row["level_before"]) if row["level_before"] else None,
        taken_back_at=row["taken_back_at"],
        job_title=row.get("job_title") or "",
    )
