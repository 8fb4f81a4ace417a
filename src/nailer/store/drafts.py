"""Files that are open in the editor, with what was typed and is not saved; and how a site wants to be edited."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import datetime, timedelta

from nailer.core.files.entry import Entry, Kind, SideName, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.files.text import TextForm
from nailer.errors import NotFound
from nailer.store.database import Database, Row, utc_now

_PRESENT_S = 45
_READ_KEPT = timedelta(days=7)


@dataclass(frozen=True, slots=True)
class Draft:
    """One file open for one account. `base` is its content as opened or last saved, with what was seen of it then (None:
    a new file). `text` is what was typed since; None: nothing. `history` is the editor's own state, for undoing."""

    id: int
    account_id: int
    account_name: str
    site_id: int
    side: SideName
    path: SitePath
    base: bytes
    seen: Entry | None
    form: TextForm
    text: str | None
    history: str | None
    changed_at: datetime | None

    @property
    def version(self) -> str:
        """What tells the content that this draft counts from, for a page to say what its text began as."""
        return hashlib.sha256((b"0" if self.seen is None else b"1") + self.base).hexdigest()[:32]


@dataclass(frozen=True, slots=True)
class OpenDraft:
    """A line of the list of open files."""

    id: int
    site_id: int
    site_name: str
    side: SideName
    path: SitePath
    has_changes: bool
    changed_at: datetime | None
    is_new: bool


@dataclass(frozen=True, slots=True)
class Ways:
    """How a site is edited. `watched` are public addresses that must go on working; `purge_address` empties its cache."""

    save_asks: bool = False
    guarded_save: bool = False
    watched: tuple[str, ...] = ()
    purge_address: str = ""


@dataclass(frozen=True, slots=True)
class OwnFile:
    """A file that somebody edits with a program of their own. `content` is the hash of what both sides held last;
    `saved_at`: a save waits to be sent; `sends`: each save goes by itself; `trouble`: why the last did not."""

    id: int
    account_id: int
    site_id: int
    site_name: str
    here: SitePath
    there: SitePath
    content: bytes
    sends: bool
    saved_at: datetime | None
    trouble: str


class DraftStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def get(self, draft_id: int) -> Draft:
        """Raises NotFound."""
        row = await self._db.read(lambda work: work.one("drafts.by_id", id=draft_id))
        if row is None:
            raise NotFound("This file is no longer open.")
        return _draft(row)

    async def of_file(self, account_id: int, site_id: int, side: SideName, path: SitePath) -> Draft | None:
        """A person's draft of a file; None where there is none."""
        key = {"account_id": account_id, "site_id": site_id, "side": side, "path_hash": _hash(path)}
        row = await self._db.read(lambda work: work.one("drafts.of_file", **key))
        return _draft(row) if row else None

    async def of_account(self, account_id: int) -> list[OpenDraft]:
        """All open files, in the order in which they were opened."""
        rows = await self._db.read(lambda work: work.rows("drafts.of_account", account_id=account_id))
        return [
            OpenDraft(
                row["id"],
                row["site_id"],
                row["site_name"],
                SideName(row["side"]),
                SitePath.parse(row["path"]),
                bool(row["has_changes"]),
                row["changed_at"],
                row["base_size"] is None,
            )
            for row in rows
        ]

    async def others(self, draft: Draft) -> list[tuple[str, bool]]:
        """Who else has the same file open now, or has changes of it: the name, and whether there are changes."""
        since = utc_now() - timedelta(seconds=_PRESENT_S)
        rows = await self._db.read(
            lambda work: work.rows(
                "drafts.others",
                account_id=draft.account_id,
                site_id=draft.site_id,
                side=draft.side,
                path_hash=_hash(draft.path),
                since=since,
            )
        )
        return [(row["account_name"], bool(row["has_changes"])) for row in rows]

    async def add(
        self,
        account_id: int,
        site_id: int,
        side: SideName,
        path: SitePath,
        base: bytes,
        seen: Entry | None,
        form: TextForm,
        text: str | None = None,
    ) -> int:
        """Store a file that was opened; return its number."""
        values = _base_row(base, seen, form) | {"path": path.raw, "path_hash": _hash(path), "text": text}
        return await self._db.write(
            lambda work: work.insert(
                "drafts.add", account_id=account_id, site_id=site_id, side=side, now=utc_now(), **values
            )
        )

    async def type(self, draft_id: int, text: str | None, history: str | None) -> None:
        """Remember what was typed; None: the text is again what was opened."""
        values = {"id": draft_id, "text": text, "history": history, "now": utc_now()}
        await self._db.write(lambda work: work.run("drafts.type", **values))

    async def rebase(
        self, draft_id: int, base: bytes, seen: Entry | None, form: TextForm, *, text: str | None = None
    ) -> None:
        """The file was saved, or was taken over from the server: what is typed counts from there."""
        values = _base_row(base, seen, form) | {"id": draft_id, "text": text}
        await self._db.write(lambda work: work.run("drafts.rebase", **values))

    async def see(self, draft_id: int) -> None:
        """Somebody has it before them now."""
        await self._db.write(lambda work: work.run("drafts.see", id=draft_id, now=utc_now()))

    async def remove(self, draft_id: int) -> None:
        """Forget a draft."""
        await self._db.write(lambda work: work.run("drafts.remove", id=draft_id))

    async def forget_read(self) -> None:
        """Close what was opened long ago and never changed."""
        await self._db.write(lambda work: work.run("drafts.forget_read", before=utc_now() - _READ_KEPT))

    async def own_files(self) -> list[OwnFile]:
        """Files that people edit with programs of their own."""
        rows = await self._db.read(lambda work: work.rows("drafts.own_files"))
        return [
            OwnFile(
                row["id"],
                row["account_id"],
                row["site_id"],
                row["site_name"],
                SitePath.parse(row["here"]),
                SitePath.parse(row["there"]),
                row["content"],
                bool(row["sends"]),
                row["saved_at"],
                row["trouble"],
            )
            for row in rows
        ]

    async def add_own(
        self, account_id: int, site_id: int, here: SitePath, there: SitePath, content: bytes, *, sends: bool
    ) -> None:
        """Begin to watch a copy that a person edits."""
        values = {"here": here.raw, "there": there.raw, "path_hash": _hash(there), "content": content, "sends": sends}
        await self._db.write(lambda work: work.run("drafts.add_own", account_id=account_id, site_id=site_id, **values))

    async def set_own(self, own: OwnFile) -> None:
        """Store how a watched copy stands."""
        values = {
            "id": own.id,
            "content": own.content,
            "sends": own.sends,
            "saved_at": own.saved_at,
            "trouble": own.trouble[:500],
        }
        await self._db.write(lambda work: work.run("drafts.set_own", **values))

    async def remove_own(self, own_id: int) -> None:
        """Watch a copy no longer."""
        await self._db.write(lambda work: work.run("drafts.remove_own", id=own_id))

    async def ways(self, site_id: int) -> Ways:
        """How a site is edited."""
        row = await self._db.read(lambda work: work.one("drafts.ways", site_id=site_id))
        if row is None:
            return Ways()
        watched = tuple(json.loads(row["watched"]))
        return Ways(bool(row["save_asks"]), bool(row["guarded_save"]), watched, row["purge_address"])

    async def write_ways(self, site_id: int, ways: Ways) -> None:
        """Store how a site is edited."""
        values = {
            "save_asks": ways.save_asks,
            "guarded_save": ways.guarded_save,
            "watched": json.dumps(ways.watched),
            "purge_address": ways.purge_address,
        }
        await self._db.write(lambda work: work.run("drafts.write_ways", site_id=site_id, **values))


def _hash(path: SitePath) -> bytes:
    return hashlib.sha256(path.raw).digest()[:16]


def _base_row(base: bytes, seen: Entry | None, form: TextForm) -> Row:
    stamp = seen.stamp if seen is not None else None
    return {
        "base": base,
        "base_size": seen.size if seen is not None else None,
        "base_time_ns": stamp.at_ns if stamp else None,
        "base_precision_ns": stamp.precision_ns if stamp else None,
        "encoding": form.encoding,
        "mark": form.mark,
        "line_end": form.line_end,
        "mixed": form.mixed,
    }


def _draft(row: Row) -> Draft:
    path = SitePath.parse(row["path"])
    stamp = Stamp(row["base_time_ns"], row["base_precision_ns"] or 1) if row["base_time_ns"] is not None else None
    seen = None if row["base_size"] is None else Entry(path.name, Kind.FILE, row["base_size"], stamp)
    return Draft(
        id=row["id"],
        account_id=row["account_id"],
        account_name=row["account_name"],
        site_id=row["site_id"],
        side=SideName(row["side"]),
        path=path,
        base=row["base"],
        seen=seen,
        form=TextForm(row["encoding"], bool(row["mark"]), row["line_end"], bool(row["mixed"])),
        text=row["text"],
        history=row["history"],
        changed_at=row["changed_at"],
    )
