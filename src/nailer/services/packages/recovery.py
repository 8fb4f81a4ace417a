"""Recovery in one place: what changed last and can be taken back, the newest copies, and the search by halves."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from nailer.core.files.entry import SideName
from nailer.core.packages.recovery import LastChange, LastCopy, WayBack, WayKind, ways_back
from nailer.core.words import aware
from nailer.core.work.states import CopyState
from nailer.services.checks import need_whole
from nailer.services.packages.asides import Asides
from nailer.store.changes import WHAT_WORDS, Change
from nailer.store.sites import Site
from nailer.store.stores import Stores

_LATELY = timedelta(days=30)
_MOST_CHANGES = 2000


class Recovery:
    def __init__(self, stores: Stores, asides: Asides) -> None:
        self._changes = stores.changes
        self._replacements = stores.replacements
        self._copies = stores.copies
        self._seen = stores.packages_seen
        self._asides = asides

    async def ways(self, site: Site) -> tuple[WayBack, ...]:
        """The ways back for a site, in the order in which to try them."""
        need_whole(site)
        now = datetime.now(UTC)
        seen = await self._seen.of(site.id)
        packages = len(seen[1]) if seen is not None else None
        changes = [*await self._versions(site), *await self._set_aside(site), *await self._jobs(site, now)]
        return ways_back(changes, await self._newest_copies(site), packages, now)

    async def _versions(self, site: Site) -> list[LastChange]:
        return [
            LastChange(
                WayKind.VERSION,
                one.id,
                f"{one.title}: {one.old_version or 'nothing'} to {one.new_version or 'nothing'}",
                one.ended_at or one.begun_at,
                one.account_name or "",
            )
            for one in await self._replacements.of(site.id)
            if one.can_go_back
        ]

    async def _set_aside(self, site: Site) -> list[LastChange]:
        return [
            LastChange(WayKind.ASIDE, one.id, f"{one.title} was set aside", one.at, one.account_name or "")
            for one in await self._asides.open(site)
        ]

    async def _jobs(self, site: Site, now: datetime) -> list[LastChange]:
        """The last jobs and single changes that can be taken back; what a replacement did goes back by itself."""
        replaced = await self._replacements.of(site.id)
        own = {job_id for one in replaced for job_id in (one.job_id, one.removal_id) if job_id is not None}
        latest = await self._changes.latest(site.id, side=SideName.THERE, limit=_MOST_CHANGES)
        by_job: dict[tuple[bool, int], list[Change]] = {}
        for one in latest:
            if (
                one.can_be_taken_back
                and one.job_id not in own
                and now - aware(one.at) < _LATELY
                and not one.is_of_packages
            ):
                key = (True, one.job_id) if one.job_id is not None else (False, one.id)
                by_job.setdefault(key, []).append(one)
        return [_change(key, changes) for key, changes in by_job.items()]

    async def _newest_copies(self, site: Site) -> list[LastCopy]:
        newest: dict[str, LastCopy] = {}
        for one in await self._copies.of(site.id):
            if one.state is CopyState.VERIFIED and any(
                root.folder.below(one.path) is not None for root in site.document_roots
            ):
                copy = LastCopy(one.id, str(one.path), one.begun_at, one.files, one.restore_test)
                newest.setdefault(copy.folder, copy)
        return list(newest.values())


def _change(key: tuple[bool, int], changes: Sequence[Change]) -> LastChange:
    is_job, number = key
    first = changes[0]
    words = first.job_title if is_job else f"{first.path} {WHAT_WORDS[first.what]}"
    return LastChange(WayKind.CHANGE, number, words, aware(first.at), first.account_name or "", len(changes), is_job)
