"""The book of pairs: which folders belong together, what each has picked, and the runs that brought them level."""

from __future__ import annotations

from collections.abc import Sequence

from nailer.core.files.sitepath import SitePath
from nailer.errors import Conflict, InvalidInput
from nailer.services.files import Files
from nailer.services.pairs.not_sent import NotSent
from nailer.store.pairs import Pair, PairStore, Run
from nailer.store.sites import Site, SiteStore


class PairBook:
    """Pairs of folders. Each change here makes Nailer count again what is not sent yet."""

    def __init__(self, store: PairStore, sites: SiteStore, not_sent: NotSent, files: Files) -> None:
        self._store = store
        self._sites = sites
        self._not_sent = not_sent
        self._files = files

    async def first_pair(self, site: Site) -> Pair:
        """The pair of a site's start folders; made where there is none yet."""
        return await self._store.add(site.id, site.start_here, site.start_there, site.start_there.shown or "/")

    async def get(self, pair_id: int) -> Pair:
        """Raises NotFound."""
        return await self._store.get(pair_id)

    async def of_site(self, site_id: int) -> list[Pair]:
        """The pairs of a site."""
        return await self._store.of_site(site_id)

    async def all(self) -> list[Pair]:
        """The pairs of all sites."""
        return await self._store.all()

    async def add(self, site: Site, here: SitePath, there: SitePath, *, name: str, other_site_id: int | None) -> Pair:
        """Another pair of a site: a folder here, or of another site, and one there.

        Raises InvalidInput where no folder here is named, or where one of the two lies in the other; NotFound.
        """
        other = await self._sites.get(other_site_id) if other_site_id is not None else None
        if other is None and here.is_root:
            raise InvalidInput("Choose the folder here for this pair.")
        nested = here.below(there) is not None or there.below(here) is not None
        if other is not None and other.id == site.id and nested:
            raise InvalidInput("One of these folders is inside the other. Choose separate folders.")
        default = f"{other.name} to {there}" if other is not None else str(there)
        pair = await self._store.add(site.id, here, there, name or default, other_site_id=other_site_id)
        self._not_sent.look_again(site.id)
        self._files.browse.redraw(site.id)
        return pair

    async def remove(self, pair_id: int) -> Site:
        """Forget a pair with its runs and timers; no file is touched. Return its site.

        Raises NotFound, or Conflict for the pair of the start folders, which stays as long as the site does.
        """
        pair = await self._store.get(pair_id)
        site = await self._sites.get(pair.site_id)
        if (pair.here, pair.there, pair.other_site_id) == (site.start_here, site.start_there, None):
            raise Conflict("You cannot remove the pair of the start folders; it belongs to the site.")
        await self._store.remove(pair_id)
        self._not_sent.look_again(site.id)
        self._files.browse.redraw(site.id)
        return site

    async def set_ways(
        self, pair_id: int, account_id: int, *, sieves: Sequence[int], sends: bool, send_after_s: int
    ) -> bool:
        """Set which sieves a pair uses, whether saves here go up by themselves, and whose jobs those are.
        Return whether they
        do: only a folder of this machine is watched."""
        pair = await self._store.get(pair_id)
        await self._store.pick_sieves(pair_id, sieves)
        sends = sends and pair.other_site_id is None
        await self._store.set_sending(pair_id, account_id, sends=sends, send_after_s=send_after_s)
        self._not_sent.look_again(pair.site_id)
        self._files.browse.redraw(pair.site_id)
        return sends

    async def sieves(self, pair_id: int) -> set[int]:
        """The sieves that a pair has picked, beside those that hold everywhere."""
        return await self._store.sieves(pair_id)

    async def pick_sieve(self, pair_id: int, sieve_id: int) -> None:
        """Let one more sieve hold for a pair."""
        await self._store.pick_sieves(pair_id, [*await self._store.sieves(pair_id), sieve_id])

    def sieves_changed(self) -> None:
        """Sieves have changed: count what is not sent again, and draw the files view again."""
        self._not_sent.look_again()
        self._files.browse.redraw()

    async def run(self, run_id: int) -> Run:
        """Raises NotFound."""
        return await self._store.run(run_id)

    async def runs(self, pair_id: int, limit: int) -> list[Run]:
        """The runs of a pair, newest first."""
        return await self._store.runs(pair_id, limit)

    async def runs_of_timer(self, timer_id: int, limit: int) -> list[Run]:
        """The runs of a timer, newest first."""
        return await self._store.runs_of_timer(timer_id, limit)
