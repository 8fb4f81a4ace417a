"""Keep marks of sites."""

from __future__ import annotations

import hashlib
from datetime import date

from nailer.core.files.entry import SideName
from nailer.core.files.keeping import KeepMark, Keeps
from nailer.core.files.sitepath import SitePath
from nailer.store.database import Database, Work, utc_now


class MarkStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def of_site(self, site_id: int, today: date | None = None) -> Keeps:
        """The marks of a site that still hold. `today` is a day in UTC, by default this one."""
        day = today or utc_now().date()
        rows = await self._db.read(lambda work: work.rows("marks.of_site", site_id=site_id, today=day))
        return Keeps(
            KeepMark(SideName(row["side"]), SitePath.parse(row["path"]), row["until"], row["why"]) for row in rows
        )

    async def set(self, site_id: int, mark: KeepMark, account_id: int) -> None:
        """Mark a path; an earlier mark of it is replaced."""
        values = {"until": mark.until, "why": mark.why, "account_id": account_id, "now": utc_now()}
        await self._db.write(lambda work: work.run("marks.write", **(_key(site_id, mark.side, mark.path) | values)))

    async def take_off(self, site_id: int, side: SideName, path: SitePath) -> None:
        """Take a path's own mark off."""
        key = _key(site_id, side, path)
        del key["path"]
        await self._db.write(lambda work: work.run("marks.forget", **key))

    async def follow(self, site_id: int, side: SideName, old: SitePath, new: SitePath) -> None:
        """A path has another name from now on: its mark, and those of what is in it, go with it."""

        def _follow(work: Work) -> None:
            for row in work.rows("marks.of_side", site_id=site_id, side=side):
                below = SitePath.parse(row["path"]).below(old)
                if below is not None:
                    path = new.join(below)
                    work.run("marks.move", id=row["id"], place=_place(path), path=path.raw)

        await self._db.write(_follow)


def _place(path: SitePath) -> bytes:
    return hashlib.sha256(path.raw).digest()[:16]


def _key(site_id: int, side: SideName, path: SitePath) -> dict[str, object]:
    return {"site_id": site_id, "side": side, "place": _place(path), "path": path.raw}
