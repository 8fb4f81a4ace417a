"""Who works where now: for people who share a site, so that two do not trip over each other. Kept in memory only."""

from __future__ import annotations

import time
from dataclasses import dataclass

from nailer.acting import acting, reaches
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath

_PRESENT_S = 300.0


@dataclass(frozen=True, slots=True)
class Present:
    """Somebody who was in a site a moment ago. `folder` is where there, None where that is not for whoever looks."""

    account_id: int
    person: str
    folder: SitePath | None


class Presence:
    """The people in each site, by what they asked for last."""

    def __init__(self) -> None:
        self._seen: dict[tuple[int, int], tuple[str, SitePath | None, float]] = {}

    def saw(self, site_id: int, folder: SitePath | None = None) -> None:
        """Whoever acts is in a site, and in a folder there where that is known."""
        who = acting()
        if who is None or not who.person.account_id:
            return
        key = (site_id, who.person.account_id)
        known = self._seen.get(key)
        self._seen[key] = (who.person.name, folder or (known[1] if known else None), time.monotonic())

    def others(self, site_id: int) -> list[Present]:
        """Who else is in a site now, for whoever acts."""
        who, now_s = acting(), time.monotonic()
        own = who.person.account_id if who is not None else 0
        self._seen = {key: one for key, one in self._seen.items() if now_s - one[2] < _PRESENT_S}
        return [
            Present(account_id, name, folder if folder and reaches(site_id, SideName.THERE, folder) else None)
            for (site, account_id), (name, folder, _) in sorted(self._seen.items())
            if site == site_id and account_id != own
        ]
