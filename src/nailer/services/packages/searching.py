"""The search for what breaks a page, on a real site: packages are set aside and brought back by renames that are written
down, the page is fetched, and at the end, whatever ended it, everything has its name again."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass

import structlog

from nailer.acting import Acting, acting_as, need
from nailer.bounded import bounded
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.packages.halves import Culprits, Ended, most_tests, resumed
from nailer.core.packages.tested import PageTest, broken_by
from nailer.core.people.rights import Right
from nailer.core.words import count_text
from nailer.errors import InvalidInput, NailerError, NotFound, UnderWay
from nailer.services.checks import Checks, need_whole
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files, GuardedFolders
from nailer.services.packages.asides import Asides
from nailer.services.packages.seen import PackageBook
from nailer.sides.side import Side
from nailer.store.database import written_down
from nailer.store.packages.searches import PackageSearch, PackageStore, SearchState
from nailer.store.sites import Site
from nailer.store.stores import Stores

_log = structlog.get_logger()
_THERE = SideName.THERE
_MOST_PACKAGES = 300
_PAUSE_S = 0.4  # some servers read a folder anew only after a moment
_ASKED = 3
_HEALS = 4
_HEALS_AFTER_S = 2.0


@dataclass(slots=True)
class SearchStanding:
    """A search that is under way: what it tests now, and what it has found where it has ended."""

    search: PackageSearch
    inside: frozenset[int] = frozenset()
    task: asyncio.Task[None] | None = None
    given_up: bool = False


@dataclass(frozen=True, slots=True)
class SearchKnown:
    """A search as it stands: `tests` are the sets that were in with what the page said, `culprits` what was found where it
    has ended, `now` what is in while a test is under way."""

    search: PackageSearch
    tests: tuple[tuple[frozenset[int], bool, str], ...]
    culprits: Culprits | None
    now: frozenset[int] | None
    most: int


class Searching:
    def __init__(
        self, stores: Stores, files: Files, editing: Editing, checks: Checks, asides: Asides, book: PackageBook
    ) -> None:
        self._store: PackageStore = stores.packages
        self._replacements = stores.replacements
        self._sites = stores.sites
        self._grants = stores.grants
        self._browse: Browse = files.browse
        self._guarded: GuardedFolders = files.guarded
        self._live = editing.live_check
        self._broken = checks.broken
        self._asides = asides
        self._book = book
        self._standing: dict[int, SearchStanding] = {}
        self._beginning: set[int] = set()

    async def start(self) -> None:
        """Searches that were cut are said to be; what they set aside is put back by the asides."""
        await self._store.cut()

    async def stop(self) -> None:
        """End searches; each puts back what it has set aside first."""
        for site_id, standing in list(self._standing.items()):
            await self._end(site_id, standing)

    async def begin(self, account_id: int, site: Site, wish: PageTest, packages: Sequence[SitePath]) -> None:
        """Search among packages for what breaks a page. Raises InvalidInput, Locked, UnderWay where one is under way."""
        need_whole(site)
        need(Right.CHANGE, site.id)
        if not packages or len(packages) > _MOST_PACKAGES:
            raise InvalidInput(f"Choose between one and {_MOST_PACKAGES} packages.")
        if not wish.address.lower().startswith(("http://", "https://")):
            raise InvalidInput("Type the web address of the broken page, beginning with http:// or https://.")
        for path in packages:
            self._guarded.check(account_id, site, _THERE, path)
        await self._need_nothing_replaced(site.id)
        self._need_free(site.id)
        self._beginning.add(site.id)
        try:
            ordered = await self._suspects_first(site, wish, packages)
            await self._store.begin(site.id, account_id, wish, ordered)
            await self._go(site)
        finally:
            self._beginning.discard(site.id)

    async def go_on(self, account_id: int, site: Site) -> None:
        """Go on with a search that was cut, from its answers. Raises NotFound where there is none."""
        need_whole(site)
        need(Right.CHANGE, site.id)
        self._need_free(site.id)
        last = await self._store.last(site.id)
        if last is None or last.state not in (SearchState.STOPPED, SearchState.FAILED):
            raise NotFound("There is no search to resume.")
        for path in last.packages:
            self._guarded.check(account_id, site, _THERE, path)
        await self._need_nothing_replaced(site.id)
        await self._asides.restored(site.id)
        await self._store.go_on(last.id)
        await self._go(site)

    async def give_up(self, site: Site) -> None:
        """End the search of a site; everything is put back first."""
        need(Right.CHANGE, site.id)
        need_whole(site)
        standing = self._standing.get(site.id)
        if standing is not None:
            standing.given_up = True
            await self._end(site.id, standing)

    async def known(self, site: Site) -> SearchKnown | None:
        """The last search of a site, as it stands; None where there was none."""
        need_whole(site)
        last = await self._store.last(site.id)
        if last is None:
            return None
        standing = self._standing.get(site.id)
        return _known(last, standing.inside if standing is not None else None)

    async def wait(self, site_id: int) -> None:
        """Until the search of a site has ended."""
        standing = self._standing.get(site_id)
        if standing is not None and standing.task is not None:
            await asyncio.wait([standing.task])

    async def _need_nothing_replaced(self, site_id: int) -> None:
        if any(one.site_id == site_id for one in await self._replacements.under_way()):
            raise UnderWay("A package of this site is being replaced at this moment. Wait until that has ended.")

    def _need_free(self, site_id: int) -> None:
        if site_id in self._standing or site_id in self._beginning:
            raise UnderWay("A search is under way on this site already.")

    async def _go(self, site: Site) -> None:
        search = await self._store.last(site.id)
        if search is None:
            return
        standing = self._standing[site.id] = SearchStanding(search)
        standing.task = asyncio.create_task(self._run(site.id, standing))

    async def _end(self, site_id: int, standing: SearchStanding) -> None:
        if standing.task is not None:
            standing.task.cancel()
            await asyncio.gather(standing.task, return_exceptions=True)
        # A task that is cancelled before its first step runs none of its code.
        if self._standing.get(site_id) is standing:
            await self._finish(site_id, standing, SearchState.STOPPED, "It was given up before its first test.")

    async def _suspects_first(self, site: Site, wish: PageTest, packages: Sequence[SitePath]) -> list[SitePath]:
        """What the error log names goes first, then what changed lately, then what was edited by hand, then the rest."""
        edited = await self._book.edited(site)
        try:
            seen = (await self._broken.look(site, wish.address)).seen
        except NailerError:
            return sorted(packages, key=lambda one: one not in edited)
        named = [line.path for line in (seen.log.telling if seen.log is not None else ()) if line.path is not None]
        changed = [one.path for one in seen.changed]

        def _rank(package: SitePath) -> int:
            for rank, paths in enumerate((named, changed)):
                if any(path.below(package) is not None for path in paths):
                    return rank
            return 2 if package in edited else 3

        return sorted(packages, key=_rank)

    async def _run(self, site_id: int, standing: SearchStanding) -> None:
        search = standing.search
        state, words = SearchState.STOPPED, "The search was stopped. Everything was restored."
        try:
            with acting_as(Acting(await self._grants.person(search.account_id or 0), program="a search")):
                site = await self._sites.get(site_id)
                found = await self._tests(site, standing)
            state, words = SearchState.ENDED, _words(found, search.packages)
        except asyncio.CancelledError:
            if not standing.given_up:
                words = "Nailer was stopped. You can resume where it was."
        except NailerError as error:
            state, words = SearchState.FAILED, error.what
        except Exception:
            _log.exception("a search failed in a way nobody foresaw", site=site_id)
            state, words = SearchState.FAILED, "It failed because of an error in Nailer. Details are in Nailer's log."
        finally:
            await asyncio.shield(self._finish(site_id, standing, state, words))

    async def _finish(self, site_id: int, standing: SearchStanding, state: SearchState, words: str) -> None:
        """Everything has its name again, or it is tried until it has; then the end is written down."""
        try:
            site = await self._sites.get(site_id)
            async with self._browse.side(site, _THERE) as side:
                await self._asides.put_back(site, side, standing.search.id)
        except NailerError:
            self._asides.restore_soon(site_id)
        try:
            patiently = state is not SearchState.STOPPED
            await written_down(lambda: self._store.end(standing.search.id, state, words), patiently=patiently)
        finally:
            self._standing.pop(site_id, None)

    async def _tests(self, site: Site, standing: SearchStanding) -> Culprits:
        search = standing.search
        answers = list(search.answers)
        order = range(len(search.packages))
        while True:
            _, wanted, found = resumed(order, most_tests(len(order)), [broken for broken, _ in answers])
            if found is not None:
                return found
            standing.inside = wanted or frozenset()
            answers.append(await self._tested(site, search, standing.inside))
            await self._store.answered(search.id, answers)

    async def _tested(self, site: Site, search: PackageSearch, inside: frozenset[int]) -> tuple[bool, str]:
        """Let only some packages be in, and fetch the page. A line that is cut is dialled anew: how far the last rename came
        is not known then, so everything is put back first."""
        for left in reversed(range(_HEALS)):
            try:
                async with self._browse.side(site, _THERE) as side:
                    if left < _HEALS - 1:
                        await self._asides.put_back(site, side, search.id)
                    await self._arrange(site, side, search, inside)
                break
            except NailerError as error:
                if not error.heals or not left:
                    raise
                await asyncio.sleep(_HEALS_AFTER_S)
        for _ in range(_ASKED):
            await asyncio.sleep(_PAUSE_S)
            answer, data = await self._live.content(search.wish.address)
            if answer.status is not None:
                break  # no answer at all may be the way there: it is asked again before it counts
        why = await bounded(broken_by, search.wish, answer, data.decode("utf-8", "replace"))
        return bool(why), why or f"answers {answer.status}"

    async def _arrange(self, site: Site, side: Side, search: PackageSearch, inside: frozenset[int]) -> None:
        wanted = frozenset(path for number, path in enumerate(search.packages) if number not in inside)
        await self._asides.put_back(site, side, search.id, but=wanted)
        out = {one.path for one in await self._asides.open(site)}
        for path in sorted(wanted - out):
            await self._asides.move(site, side, path, account_id=search.account_id, search_id=search.id)


def _known(search: PackageSearch, now: frozenset[int] | None) -> SearchKnown:
    """The tests of a search told over again from its answers."""
    order = range(len(search.packages))
    most = most_tests(len(order))
    tests = []
    for count, (broken, said) in enumerate(search.answers):
        _, wanted, _ = resumed(order, most, search.broken[:count])
        tests.append((wanted or frozenset(), broken, said))
    _, _, culprits = resumed(order, most, search.broken)
    return SearchKnown(search, tuple(tests), culprits, now, most)


def _words(found: Culprits, packages: Sequence[SitePath]) -> str:
    tests = count_text(found.tests, "test")
    match found.ended:
        case Ended.NOT_BROKEN:
            return "The page works with all packages active, so there is nothing to search for."
        case Ended.NOT_AMONG:
            return "The page is broken even without these packages, so none of them is the cause."
        case Ended.BOUND:
            return f"The cause is still unclear after {tests}: the page gives different answers each time."
        case Ended.FOUND:
            groups = [" with ".join(packages[one].shown for one in group) for group in found.groups]
            return f"{' and '.join(groups)}: found by {tests}. Everything is in its place again."
