"""The packages of a site as they were seen last."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from nailer.core.files.sitepath import SitePath
from nailer.core.words import aware
from nailer.store.database import Database, utc_now


@dataclass(frozen=True, slots=True)
class SeenPackage:
    """A package as it was seen: its folder, name, version, and the file that says so."""

    path: SitePath
    name: str
    version: str
    by: str

    @property
    def text(self) -> str:
        """`Harbour 1.4.2`."""
        return f"{self.name} {self.version}".strip()


class SeenPackageStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def set(self, site_id: int, packages: Sequence[SeenPackage]) -> None:
        """Write down what was seen."""
        text = json.dumps([[one.path.token, one.name, one.version, one.by] for one in packages])
        await self._db.write(lambda work: work.run("packages_seen.set", site_id=site_id, packages=text, now=utc_now()))

    async def of(self, site_id: int) -> tuple[datetime, tuple[SeenPackage, ...]] | None:
        """What was seen last, and when; None where nobody has looked."""
        row = await self._db.read(lambda work: work.one("packages_seen.of", site_id=site_id))
        if row is None:
            return None
        found = (SeenPackage(SitePath.of_token(path), *rest) for path, *rest in json.loads(row["packages"]))
        return aware(row["seen_at"]), tuple(found)
