"""Guarded folders: what lies in them is locked until the person opens it, for a while."""

from __future__ import annotations

import time

from nailer.acting import need_place
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Right
from nailer.errors import Locked
from nailer.store.sites import Site

OPEN_S = 15 * 60.0


class GuardedFolders:
    """Which guarded folders are open now, by person and site. Kept in memory: a restart locks them all."""

    def __init__(self) -> None:
        self._open_until_s: dict[tuple[int, int, SitePath], float] = {}

    def open(self, account_id: int, site: Site, path: SitePath) -> None:
        """Open the guarded folders a path lies in. Raises NotFound where the path is beyond whoever acts."""
        need_place(Right.LOOK, site.id, SideName.THERE, path)
        for folder in _guards_of(site, path):
            self._open_until_s[(account_id, site.id, folder)] = time.monotonic() + OPEN_S

    def lock(self, account_id: int, site: Site, path: SitePath) -> None:
        """Lock a guarded folder again before its time."""
        for folder in _guards_of(site, path):
            self._open_until_s.pop((account_id, site.id, folder), None)

    def left_s(self, account_id: int, site: Site, path: SitePath) -> float | None:
        """None where nothing guards the path; else for how many seconds it is still open, 0 where it is locked."""
        guards = _guards_of(site, path)
        if not guards:
            return None
        now = time.monotonic()
        return min(max(0.0, self._open_until_s.get((account_id, site.id, one), 0.0) - now) for one in guards)

    def is_locked(self, account_id: int, site: Site, path: SitePath) -> bool:
        """True where a path lies in a guarded folder that this person has not opened."""
        return self.left_s(account_id, site, path) == 0.0

    def check(self, account_id: int, site: Site, side: SideName, path: SitePath) -> None:
        """Raises Locked where a change of this path needs the folder to be opened first."""
        if side is SideName.THERE and self.is_locked(account_id, site, path):
            raise Locked(
                f"{_guards_of(site, path)[0]} is a guarded folder. Unlock it first; it locks again after 15 minutes."
            )


def _guards_of(site: Site, path: SitePath) -> list[SitePath]:
    return [folder for folder in site.guarded if path.below(folder) is not None]
