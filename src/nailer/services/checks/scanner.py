"""Scans of sites: trees of both sides, what pages refer to, and what comes out of it.

A file that is known to be unchanged is not read again: the second scan of an unchanged site costs its listing. What was
read is stored as it comes, so that a scan that was cut or killed goes on where it was.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

import structlog

from nailer.acting import need_whole as require_whole_site
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.files.tree import Tree
from nailer.core.site.findings import FindingKind, SiteFinding
from nailer.core.site.graph import BrokenReference, Graph
from nailer.core.site.names import Names
from nailer.core.site.read_files import LONGEST_PATH, ReadFile, to_read
from nailer.core.words import count_text
from nailer.core.work.kinds import CutBy, CutShort, WorkKind
from nailer.core.work.states import ScanState
from nailer.engine.work import RunningWork, Supplied, WorkRunner
from nailer.errors import NotFound, TransferError, UnderWay
from nailer.services.checks.asking import MOST, Asker, Suspects
from nailer.services.checks.content import read_files
from nailer.services.checks.ground import here_of, need_whole, roots_there, tops_of
from nailer.services.checks.host_facts import HostFacts
from nailer.services.checks.others import OtherSites
from nailer.services.files import Browse, Progress, read_tree
from nailer.sides.connection import Lane
from nailer.sides.side import Side
from nailer.store.checks.scans import StoredScan
from nailer.store.running.works import Change, StoredWork
from nailer.store.sites import Site
from nailer.store.stores import Stores

_log = structlog.get_logger()

_STORED_AT_ONCE = 200
_TRIES = 3
_PAUSE_S = 2.0
_MOST_PROBLEMS = 50
_MOST_LEARNED = 4  # sites of which all that was read lies ready


@dataclass(slots=True)
class ScanProgress:
    """How far a scan is: what it does now, names listed, files read of those to read."""

    what: str = "Looking at both sides"
    listed: Progress = field(default_factory=Progress)
    to_read: int = 0
    read: int = 0


@dataclass(frozen=True, slots=True)
class SiteLearned:
    """All that one scan has of a site: names there and here, files as they were read, and the graph of its pages."""

    roots: tuple[DocumentRoot, ...]
    there: Names
    here: Names
    files: Mapping[SitePath, ReadFile]
    graph: Graph
    read_now: int


@dataclass(frozen=True, slots=True)
class LastSeen:
    """What a scan in this process knew, and by what it is known again: numbers of both sides' names. `settled`: no file
    had changed so shortly before that another change could hide in its time."""

    scan_id: int
    prints: tuple[int, int]
    learned: SiteLearned
    broken: tuple[BrokenReference, ...]
    suspects: Suspects
    guarded: tuple[SitePath, ...]
    settled: bool


class SiteScanner:
    """Scans sites, as long work: a scan that was cut goes on where it was."""

    def __init__(
        self, stores: Stores, work: WorkRunner, browse: Browse, asker: Asker, host: HostFacts, others: OtherSites
    ) -> None:
        self._work = work
        self._browse = browse
        self._sites = stores.sites
        self._changes = stores.changes
        self._scans = stores.scans
        self._findings = stores.findings
        self._asker = asker
        self._host = host
        self._others = others
        work.supply(WorkKind.SCAN, Supplied(self._steps, self._broken))
        self._seen: OrderedDict[int, LastSeen] = OrderedDict()

    def standing(self, site_id: int) -> ScanProgress | None:
        """How far the scan of a site is; None where none is under way."""
        return self._work.progress_on(WorkKind.SCAN, site_id, ScanProgress)

    async def begin(self, account_id: int, site: Site, *, is_account: bool = False, asks_others: bool = False) -> None:
        """Begin to scan a site, with the links that lead to other sites where that is wanted; nothing where it is being
        scanned already. Raises InvalidInput, NotAllowed."""
        need_whole(site)
        roots_there(site)
        adding = self._scans.beginning(site.id, account_id, is_account=is_account, asks_others=asks_others)
        with contextlib.suppress(UnderWay):
            await self._work.begin(WorkKind.SCAN, site.id, account_id, adding, ScanProgress())

    async def give_up(self, site_id: int) -> None:
        """End the scan of a site; what it has read stays known. Raises NotAllowed for whoever has a part of it."""
        require_whole_site(site_id)
        await self._work.end_on(WorkKind.SCAN, site_id)

    async def wait(self, site_id: int) -> None:
        """Until the scan of a site that is under way has ended."""
        await self._work.ended_on(WorkKind.SCAN, site_id)

    async def _steps(self, work: RunningWork) -> Change:
        return await self._attempts(await self._scans.get(work.row.subject_id), work.shows(ScanProgress))

    def _broken(self, row: StoredWork, broken: CutShort) -> Change:
        state = ScanState.STOPPED if broken.by is CutBy.PERSON else ScanState.FAILED
        said = broken.error.server_words if broken.error is not None else ""
        return self._scans.breaking(
            row.subject_id, state, f"{broken.words} Its answer: {said}" if said else broken.words
        )

    async def _attempts(self, scan: StoredScan, standing: ScanProgress) -> Change:
        site = await self._sites.get(scan.site_id)
        for left in reversed(range(_TRIES)):
            try:
                return await self._read(site, scan, standing)
            except TransferError as error:
                if not error.retryable or not left:
                    raise
                await asyncio.sleep(_PAUSE_S)
        raise AssertionError("the last try returns or raises")

    async def _read(self, site: Site, scan: StoredScan, standing: ScanProgress) -> Change:
        need_whole(site)
        roots = roots_there(site)
        problems: list[str] = []
        async with self._browse.side(site, SideName.THERE, Lane.TRANSFER) as side:
            there = await self._trees(side, await self._tops(side, scan, roots), standing)
            here = await self._here(site, roots)
            seen = await self._seen_as_before(site, roots, there, here)
            if seen is None:
                files, count = await self._files(site, side, there, roots, problems, standing)
                seen = await self._judged(site, there, here, files, count)
        if len(seen.broken) > MOST:
            problems.append(f"{count_text(len(seen.broken), 'reference')} are broken; the first {MOST} were checked.")
        standing.what = "Checking links"
        learned = seen.learned
        found = await self._asker.findings(site, learned.there, learned.files, seen.broken, seen.suspects)
        news = await self._findings.put(site.id, *found)
        if scan.asks_others:
            standing.what = "Asking other sites"

            def _heard(done: int, of: int) -> None:
                standing.read, standing.to_read = done, of

            others = await self._others.findings(learned.graph, problems, _heard)
            news += await self._findings.put(site.id, [FindingKind.OTHERS], others)
        await self._host.learn_of(site)
        summary = _summary(learned, there, problems, news)
        self._keep(site.id, replace(seen, scan_id=scan.id))
        return await self._scans.ending(
            scan, ScanState.DONE, trees=there, same_as=seen.scan_id or None, summary=summary
        )

    async def _judged(
        self,
        site: Site,
        there: Mapping[SitePath, Tree],
        here: Mapping[SitePath, Tree],
        files: Mapping[SitePath, ReadFile],
        count: int,
    ) -> LastSeen:
        """The graph of what was read, and what is wrong in it."""
        roots = roots_there(site)
        pages = {path: one.links for path, one in files.items() if one.links is not None}
        graph = await asyncio.to_thread(Graph.of, pages, roots)
        learned = SiteLearned(roots, Names(there), Names(here), files, graph, count)
        moves = await self._changes.moves(site.id, SideName.THERE)

        def _now(path: SitePath) -> SitePath:
            return moves.now(path, datetime.min)  # from the first renaming that anybody remembers

        def _judge() -> LastSeen:
            broken = graph.broken(learned.there, learned.here, _now)
            suspects = Suspects.of(learned.there, roots, graph, site.guarded)
            settled = not to_read(_on_web(learned.there, roots), files)
            prints = (_print_of(there), _print_of(here))
            return LastSeen(0, prints, learned, tuple(broken), suspects, site.guarded, settled)

        return await asyncio.to_thread(_judge)

    async def _seen_as_before(
        self,
        site: Site,
        roots: tuple[DocumentRoot, ...],
        there: Mapping[SitePath, Tree],
        here: Mapping[SitePath, Tree],
    ) -> LastSeen | None:
        """What the last scan in this process knew, where nothing has changed on either side since."""
        kept = self._seen.get(site.id)
        if kept is None or (kept.learned.roots, kept.guarded) != (roots, site.guarded) or not kept.settled:
            return None
        prints = await asyncio.to_thread(lambda: (_print_of(there), _print_of(here)))
        return replace(kept, learned=replace(kept.learned, read_now=0)) if kept.prints == prints else None

    def _keep(self, site_id: int, seen: LastSeen) -> None:
        self._seen[site_id] = seen
        self._seen.move_to_end(site_id)
        while len(self._seen) > _MOST_LEARNED:
            self._seen.popitem(last=False)

    @staticmethod
    async def _tops(side: Side, scan: StoredScan, roots: tuple[DocumentRoot, ...]) -> list[SitePath]:
        if not scan.is_account:
            return tops_of(roots)
        home = await side.home()
        return [home, *(top for top in tops_of(roots) if top.below(home) is None)]

    @staticmethod
    async def _trees(side: Side, tops: list[SitePath], standing: ScanProgress) -> dict[SitePath, Tree]:
        trees = {}
        for top in tops:
            standing.listed = Progress()
            tree = await read_tree(side, top, standing.listed)
            if tree.missing:
                raise NotFound(f"The folder {top} from the site's settings does not exist.")
            trees[top] = tree
        return trees

    async def _here(self, site: Site, roots: tuple[DocumentRoot, ...]) -> dict[SitePath, Tree]:
        """Trees here by the folder there that they belong to, as far as the pair maps it."""
        found: dict[SitePath, Tree] = {}
        async with self._browse.side(site, SideName.HERE) as side:
            for top in tops_of(roots):
                folder = here_of(site, top)
                if folder is not None:
                    with contextlib.suppress(TransferError):
                        found[top] = await read_tree(side, folder, Progress())
        return found

    async def _files(
        self,
        site: Site,
        side: Side,
        there: Mapping[SitePath, Tree],
        roots: tuple[DocumentRoot, ...],
        problems: list[str],
        standing: ScanProgress,
    ) -> tuple[dict[SitePath, ReadFile], int]:
        """What is known of the files under the document roots, those read anew that may have changed."""
        names = Names(there)
        on_web = _on_web(names, roots)
        too_long = sum(len(path.raw) > LONGEST_PATH for path, _ in names.files())
        if too_long:
            problems.append(f"{count_text(too_long, 'file')} left out: the path has more than {LONGEST_PATH} bytes.")
        known = await self._scans.files(site.id)
        await self._scans.drop_files(site.id, [path for path in known if path not in on_web])
        wanted = to_read(on_web, known)
        standing.what, standing.to_read, standing.read = "Scanning pages and style sheets", len(wanted), 0
        files = {path: one for path, one in known.items() if path in on_web}
        batch: list[ReadFile] = []

        def _heard(done: int) -> None:
            standing.read = done

        async for one in read_files(side, wanted, problems, _heard):
            files[one.path] = one
            batch.append(one)
            if len(batch) >= _STORED_AT_ONCE:
                await self._scans.put_files(site.id, batch)
                batch = []
        await self._scans.put_files(site.id, batch)
        return files, len(wanted)

    def widths_at_hand(self, site_id: int) -> Mapping[SitePath, tuple[int, ...]]:
        """The widths at which pages show their pictures, where a scan lies ready; nothing is read for it."""
        kept = self._seen.get(site_id)
        return kept.learned.graph.widths() if kept is not None else {}

    async def learned(self, site: Site) -> tuple[StoredScan, SiteLearned] | None:
        """The last scan that was done, with all that it has; None where the site was never read."""
        done = next((one for one in await self._scans.last(site.id) if one.state is ScanState.DONE), None)
        if done is None:
            return None
        kept = self._seen.get(site.id)
        if kept is None or kept.scan_id != done.id or kept.learned.roots != site.document_roots:
            trees, files = await self._scans.trees(done.id), await self._scans.files(site.id)
            judged = await self._judged(site, trees, await self._here(site, roots_there(site)), files, 0)
            kept = replace(judged, scan_id=done.id)
            self._keep(site.id, kept)
        return done, kept.learned


def _on_web(names: Names, roots: tuple[DocumentRoot, ...]) -> dict[SitePath, Entry]:
    """Every file under the document roots whose path can be stored."""
    return {
        path: entry
        for path, entry in names.files()
        if len(path.raw) <= LONGEST_PATH and any(path.below(root.folder) is not None for root in roots)
    }


def _print_of(trees: Mapping[SitePath, Tree]) -> int:
    """A number that is another where anything is, for as long as this process runs."""
    return hash(
        frozenset(
            (top, folder, frozenset(entries)) for top, tree in trees.items() for folder, entries in tree.folders.items()
        )
    ) ^ hash(frozenset((top, folder) for top, tree in trees.items() for folder in (*tree.problems, *tree.lacks)))


def _summary(
    learned: SiteLearned, there: Mapping[SitePath, Tree], problems: list[str], news: list[SiteFinding]
) -> dict[str, Any]:
    unread = [f"{top.join(below)}: {why}" for top, tree in there.items() for below, why in tree.problems.items()]
    unsure = [
        f"{top.join(below)}: {lack.sentence}" for top, tree in there.items() for below, lack in tree.lacks.items()
    ]
    said = [*unread, *unsure, *problems]
    return {
        "files": sum(tree.files for tree in there.values()),
        "pages": sum(one.links is not None for one in learned.files.values()),
        "read": learned.read_now,
        "unread": said[:_MOST_PROBLEMS],
        "unread_count": len(said),
        "news": [f"{one.kind.value}: {one.name}" for one in news[:_MOST_PROBLEMS]],
        "news_count": len(news),
    }
