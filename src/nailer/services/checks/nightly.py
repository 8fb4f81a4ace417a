"""Scans at set times: each day at an hour, with a mail on what is new."""

from __future__ import annotations

import structlog

from nailer.acting import Acting, acting_as
from nailer.core.words import count_text
from nailer.core.work.states import ScanState
from nailer.engine.tasks import Often
from nailer.errors import NailerError
from nailer.services.checks.scanner import SiteScanner
from nailer.services.plans import Notices
from nailer.store.checks.scans import ScanTime
from nailer.store.stores import Stores

_log = structlog.get_logger()


class Nightly:
    def __init__(self, stores: Stores, reader: SiteScanner, notices: Notices) -> None:
        self._scans = stores.scans
        self._sites = stores.sites
        self._grants = stores.grants
        self._reader = reader
        self._notices = notices
        self._often = Often("sites whose time has come", self._look)

    def start(self) -> None:
        """Begin to look for sites whose time has come."""
        self._often.start()

    async def stop(self) -> None:
        """End looking."""
        await self._often.stop()

    async def _look(self) -> None:
        for due in await self._scans.claim_due():
            self._often.begin(self.read(due))

    async def read(self, due: ScanTime) -> None:
        """Read one site, and write to whoever wanted that where something is new or it could not be read."""
        try:
            with acting_as(Acting(await self._grants.person(due.account_id), program="a scan")):
                site = await self._sites.get(due.site_id)
                await self._reader.begin(due.account_id, site)
                await self._reader.wait(site.id)
                ended = await self._scans.last(site.id)
        except NailerError as error:
            _log.warning("a site could not be read at its time", site=due.site_id, why=error.what)
            return
        if not ended:
            _log.warning("how a scan ended could not be written down", site=due.site_id)
            return
        last = ended[0]
        news, count = last.summary.get("news", []), last.summary.get("news_count", 0)
        if last.state is not ScanState.DONE:
            lines = [f"{site.name} could not be read: {last.problem}"]
            await self._notices.write(due.account_id, f"{site.name}: daily check failed", lines)
        elif news:
            title = f"{site.name}: {count_text(count, 'new finding')}"
            more = [f"and {count - len(news)} more"] if count > len(news) else []
            await self._notices.write(due.account_id, title, [f"{title}.", *news, *more])
