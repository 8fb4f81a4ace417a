"""Verified copies by timer: taken each day, restore tested at once, and let go by a rule."""

from __future__ import annotations

import structlog

from nailer.acting import Acting, acting_as, need
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.jobs.schedule import Every, checked_schedule
from nailer.core.packages.keeping import KeepingRule, staying
from nailer.core.people.rights import Right
from nailer.core.words import count_text
from nailer.core.work.states import CopyState
from nailer.engine.tasks import Often
from nailer.errors import NailerError
from nailer.services.checks import need_whole
from nailer.services.packages.copies import VerifiedCopies
from nailer.services.plans import Notices
from nailer.store.packages.copy_times import CopyTime
from nailer.store.sites import Site
from nailer.store.stores import Stores

_log = structlog.get_logger()


class CopyTimes:
    def __init__(self, stores: Stores, copies: VerifiedCopies, notices: Notices) -> None:
        self._store = stores.copy_times
        self._all_copies = stores.copies
        self._sites = stores.sites
        self._grants = stores.grants
        self._copies = copies
        self._notices = notices
        self._often = Often("copies whose time has come", self._look)

    def start(self) -> None:
        """Begin to look for copies whose time has come."""
        self._often.start()

    async def stop(self) -> None:
        """End looking."""
        await self._often.stop()

    async def of(self, site: Site) -> list[CopyTime]:
        """The timers of a site."""
        need_whole(site)
        return await self._store.of(site.id)

    async def add(self, account_id: int, site: Site, path: SitePath, at: str, zone: str, rule: KeepingRule) -> None:
        """Copy a folder each day at a time, and keep those that a rule says. Raises InvalidInput."""
        need_whole(site)
        need(Right.DOWNLOAD, site.id)
        checked_schedule(Every.DAILY, at, zone)
        await self._store.add(site.id, account_id, path, at, zone, rule)

    async def drop(self, site: Site, time_id: int) -> None:
        """Copy it by itself no more; the copies stay."""
        need_whole(site)
        need(Right.DOWNLOAD, site.id)
        await self._store.drop(site.id, time_id)

    async def _look(self) -> None:
        for due in await self._store.claim_due():
            self._often.begin(self.run(due))

    async def run(self, due: CopyTime) -> None:
        """Take one copy, test its restore, and let go what the rule does not keep. Whoever wanted it hears where that
        failed."""
        try:
            with acting_as(Acting(await self._grants.person(due.account_id), program="a copy by timer")):
                site = await self._sites.get(due.site_id)
                words, is_well = await self._taken(due, site)
                if is_well:
                    words += await self._let_go(due)
                else:
                    await self._notices.write(due.account_id, f"{site.name}: not copied", [f"{due.path}: {words}"])
        except NailerError as error:
            words = error.what
            _log.warning("a copy could not be taken at its time", site=due.site_id, why=words)
        await self._store.said(due.id, words)

    async def _taken(self, due: CopyTime, site: Site) -> tuple[str, bool]:
        """How it went, and whether there is a whole copy that came back byte for byte."""
        title = shown_name(due.path.name) if due.path.names else "The account"
        copy = await self._copies.taken(due.account_id, site, due.path, title, time_id=due.id)
        if copy.state is not CopyState.VERIFIED:
            return f"Copy failed: {copy.problem}", False
        restore_test = await self._copies.test_restore(site, copy.id)
        return f"{count_text(copy.files, 'file')} copied. {restore_test.words}", restore_test.is_exact

    async def _let_go(self, due: CopyTime) -> str:
        mine = [one for one in await self._all_copies.of(due.site_id) if one.time_id == due.id]
        proved = {one.begun_at: one for one in mine if one.state is CopyState.VERIFIED}
        kept = staying(list(proved), due.rule)
        gone = [one for moment, one in proved.items() if moment not in kept]
        failed = [one for one in mine if one.state is CopyState.FAILED]
        for one in [*gone, *failed]:
            await self._all_copies.drop(due.site_id, one.id)
        return f"; {count_text(len(gone), 'older copy', 'older copies')} deleted" if gone else ""
