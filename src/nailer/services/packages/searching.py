"""The search for what breaks a page, on a real site: packages are set aside and brought back by renames that are written
down, the page is fetched, and at the end, whatever ended it, everything has its name again."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import structlog

from nailer.acting import need
from nailer.bounded import bounded
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.packages.halves import Culprits, Ended, most_tests, resumed
from nailer.core.packages.tested import PageTest, broken_by
from nailer.core.people.rights import Right
from nailer.core.words import count_text
from nailer.core.work.kinds import CutBy, CutShort, WorkKind
from nailer.core.work.states import SearchState
from nailer.engine.engine import Engine
from nailer.engine.work import RunningWork, Supplied
from nailer.errors import InvalidInput, NailerError, NotFound, UnderWay
from nailer.services.checks import Checks, need_whole
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files, GuardedFolders
from nailer.services.packages.asides import Asides
from nailer.services.packages.seen import PackageBook
from nailer.sides.side import Side
from nailer.store.database import Work
from nailer.store.packages.searches import PackageSearch, PackageStore
from nailer.store.running.works import Change, StoredWork
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
    """A search that is under way: the packages that are in while it tests."""

    inside: frozenset[int] = frozenset()


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
        self,
        stores: Stores,
        engine: Engine,
        files: Files,
        editing: Editing,
        checks: Checks,
        asides: Asides,
        book: PackageBook,
    ) -> None:
        self._store: PackageStore = stores.packages
        self._replacements = stores.replacements
        self._sites = stores.sites
        self._browse: Browse = files.browse
        self._guarded: GuardedFolders = files.guarded
        self._live = editing.live_check
        self._broken_pages = checks.broken
        self._asides = asides
        self._book = book
        self._work = engine.work
        engine.work.supply(WorkKind.SEARCH, Supplied(self._steps, self._broken))

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
        ordered = await self._suspects_first(site, wish, packages)
        await self._begin(account_id, site, self._store.beginning(site.id, account_id, wish, ordered))

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
        await self._begin(account_id, site, self._store.resuming(last.id))

    async def give_up(self, site: Site) -> None:
        """End the search of a site; everything is put back first."""
        need(Right.CHANGE, site.id)
        need_whole(site)
        await self._work.end_on(WorkKind.SEARCH, site.id)

    async def known(self, site: Site) -> SearchKnown | None:
        """The last search of a site, as it stands; None where there was none."""
        need_whole(site)
        last = await self._store.last(site.id)
        if last is None:
            return None
        standing = self._work.progress_on(WorkKind.SEARCH, site.id, SearchStanding)
        return _known(last, standing.inside if standing is not None else None)

    async def wait(self, site_id: int) -> None:
        """Until the search of a site has ended."""
        await self._work.ended_on(WorkKind.SEARCH, site_id)

    async def _need_nothing_replaced(self, site_id: int) -> None:
        if any(one.site_id == site_id for one in await self._replacements.under_way()):
            raise UnderWay("A package of this site is being replaced at this moment. Wait until that has ended.")

    def _need_free(self, site_id: int) -> None:
        if self._work.is_on(WorkKind.SEARCH, site_id):
            raise UnderWay("A search is under way on this site already.")

    async def _begin(self, account_id: int, site: Site, adding: Callable[[Work], int]) -> None:
        await self._work.begin(WorkKind.SEARCH, site.id, account_id, adding, SearchStanding())

    async def _suspects_first(self, site: Site, wish: PageTest, packages: Sequence[SitePath]) -> list[SitePath]:
        """What the error log names goes first, then what changed lately, then what was edited by hand, then the rest."""
        edited = await self._book.edited(site)
        try:
            seen = (await self._broken_pages.look(site, wish.address)).seen
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

    async def _steps(self, work: RunningWork) -> Change:
        """The tests; whatever ends them, everything has its name again first. What cannot have it now gets it by work of its
        own, which begins with the end of the search."""
        standing = work.shows(SearchStanding)
        search = await self._store.get(work.row.subject_id)
        site = await self._sites.get(search.site_id)
        try:
            found = await self._tests(site, search, standing)
        finally:
            await asyncio.shield(self._put_back(site, search))
        return self._store.ending(search.id, site.id, SearchState.ENDED, _words(found, search.packages))

    def _broken(self, row: StoredWork, broken: CutShort) -> Change:
        state, words = {
            CutBy.PERSON: (SearchState.STOPPED, "The search was stopped. Everything was restored."),
            CutBy.RESTART: (SearchState.STOPPED, "Nailer was stopped. You can resume where it was."),
            CutBy.FAILURE: (SearchState.FAILED, broken.words),
        }[broken.by]
        return self._store.ending(row.subject_id, row.site_id, state, words)

    async def _put_back(self, site: Site, search: PackageSearch) -> None:
        try:
            async with self._browse.side(site, _THERE) as side:
                await self._asides.put_back(site, side, search.id)
        except NailerError as error:
            _log.warning("what a search set aside is brought back later", site=site.id, why=error.what)

    async def _tests(self, site: Site, search: PackageSearch, standing: SearchStanding) -> Culprits:
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
                if not error.retryable or not left:
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
