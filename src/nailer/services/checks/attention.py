"""What of each site needs somebody, from what is stored: nothing is asked of a server for it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import UTC, datetime

from nailer.acting import grant_on
from nailer.core.files.entry import SideName
from nailer.core.site.attention import FirstSteps, SiteFacts, SiteNeed, is_new, needs_of
from nailer.core.words import aware
from nailer.errors import FileMissing, NailerError
from nailer.services.files import Files
from nailer.store.checks.attention import SiteStored
from nailer.store.sites import Site
from nailer.store.stores import Stores


class Attention:
    def __init__(self, stores: Stores, files: Files) -> None:
        self._store = stores.attention
        self._findings = stores.findings
        self._files = files

    async def of(
        self,
        sites: Sequence[Site],
        *,
        not_sent: Mapping[int, int],
        changed: Collection[tuple[str, int]],
        asides: Callable[[int], Sequence[str]],
    ) -> dict[int, SiteFacts]:
        """What is known of sites that whoever acts sees. `not_sent`: names newer here, by site; `changed`: servers that show
        another identity than the one known; `asides`: titles of packages that are set aside on a site."""
        for site_id in await self._store.uncounted():
            await self._findings.recount(site_id)
        stored = await self._store.all()
        return {
            site.id: self._facts(
                site, stored[site.id], not_sent.get(site.id, 0), (site.host, site.port) in changed, asides(site.id)
            )
            for site in sites
            if site.id in stored
        }

    def _facts(self, site: Site, stored: SiteStored, not_sent: int, changed: bool, asides: Sequence[str]) -> SiteFacts:
        grant = grant_on(site.id)
        return SiteFacts(
            added_at=stored.added_at,
            opened_at=aware(site.opened_at) if site.opened_at is not None else None,
            is_encrypted=site.protocol.traits.is_encrypted,
            identity_changed=changed,
            sees_all=not site.fleeting and (grant is None or grant.is_whole),
            not_sent=not_sent,
            serious=stored.counts.serious,
            findings=stored.counts.all,
            certificate=stored.counts.certificate,
            scanned_at=stored.scanned_at,
            asides=tuple(asides),
            failed_timers=stored.failed_timers,
            steps=FirstSteps(None, stored.scanned_at is not None, stored.tested, stored.copied),
        )

    async def newest(self, sites: Sequence[Site], facts: Mapping[int, SiteFacts]) -> tuple[Site, FirstSteps] | None:
        """The site that was added last, while first steps of it are left, with what stands of them."""
        now = datetime.now(UTC)
        new = [site for site in sites if site.id in facts and facts[site.id].sees_all and is_new(facts[site.id], now)]
        if not new:
            return None
        site = max(new, key=lambda one: (facts[one.id].added_at, one.id))
        steps = facts[site.id].steps
        assert steps is not None
        return site, FirstSteps(await self._fetched(site), steps.scanned, steps.tested, steps.copied)

    async def _fetched(self, site: Site) -> bool | None:
        """True where the folder here holds something; None where it cannot be looked at."""
        try:
            async with self._files.browse.side(site, SideName.HERE) as here:
                return bool((await here.list(site.start_here)).entries)
        except FileMissing:
            return False
        except NailerError:
            return None

    @staticmethod
    def needs(facts: SiteFacts) -> tuple[SiteNeed, ...]:
        """What needs somebody now."""
        return needs_of(facts, datetime.now(UTC))
