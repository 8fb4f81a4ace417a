"""What is newer here than there since both were level: counted from the folder here and the baseline alone, so that no
server is asked; kept current by watching the folder; and, for pairs that want it, sent by itself."""

from __future__ import annotations

import asyncio
import contextlib
import os
import time
from collections.abc import Iterable
from pathlib import Path

import structlog
from watchfiles import awatch

from nailer.acting import person, reaches_pair
from nailer.core.compare.joint import Baseline, same_content, seen
from nailer.core.files.entry import Entry
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.people.rights import Right
from nailer.core.plans.sieve import Sieves
from nailer.engine.live import LiveJobs
from nailer.engine.tasks import Background
from nailer.errors import NailerError
from nailer.services.files import Progress, SieveBook, read_tree
from nailer.services.pairs.readings import Readings
from nailer.services.pairs.runs import Runs
from nailer.sides.here import HereSide
from nailer.store.changes import ChangeStore
from nailer.store.pairs import Pair, PairStore

_log = structlog.get_logger()

_DEBOUNCE_MS = 600
_LOOK_EVERY_MS = 60_000
_MOST_SENT = 2000
_AGAIN_AFTER_S = 120.0


class NotSent:
    def __init__(
        self,
        pairs: PairStore,
        changes: ChangeStore,
        sieving: SieveBook,
        readings: Readings,
        runs: Runs,
        here: HereSide,
        live: LiveJobs,
    ) -> None:
        self._pairs = pairs
        self._changes = changes
        self._sieving = sieving
        self._readings = readings
        self._runs = runs
        self._here = here
        self._live = live
        self._counts: dict[int, int] = {}
        self._known: dict[int, Pair] = {}
        self._troubles: dict[int, str] = {}
        self._anew = asyncio.Event()
        self._due: set[int] = set()
        self._tasks = Background()

    def start(self) -> None:
        """Begin to watch the folders here."""
        self._tasks.begin(self._watch(), "watching")

    async def stop(self) -> None:
        """End watching, and what is being sent by itself."""
        await self._tasks.close()

    def of_site(self, site_id: int) -> int:
        """How many names are newer here than there in the pairs of a site that whoever acts sees, as far as is known."""
        if not _may_sync(site_id):
            return 0
        return sum(
            self._counts.get(pair.id, 0) for pair in self._known.values() if pair.site_id == site_id and _sees(pair)
        )

    def of_sites(self) -> dict[int, int]:
        """The same for every site that whoever acts may sync."""
        sites = {pair.site_id for pair in self._known.values()}
        return {site_id: self.of_site(site_id) for site_id in sites if _may_sync(site_id)}

    def of_pair(self, pair_id: int) -> int | None:
        """The same count for one pair. None where the pair was never level."""
        return self._counts.get(pair_id)

    def trouble(self, pair_id: int) -> str:
        """Why saves of a pair did not go up by themselves; '' where they do."""
        return self._troubles.get(pair_id, "")

    def look_again(self, site_id: int | None = None) -> None:
        """Count again: a pair was made or changed, or a job has changed its baseline."""
        self._due.add(-1 if site_id is None else site_id)
        self._anew.set()

    async def _watch(self) -> None:
        """Watch the folders of all pairs with this machine; begins anew where there are more, or a job has ended."""
        while True:
            self._anew.clear()
            try:
                pairs = [pair for pair in await self._pairs.all() if pair.other_site_id is None]
                self._known = {pair.id: pair for pair in pairs}
                places = {pair.id: await asyncio.to_thread(self._place, pair) for pair in pairs}
                due, self._due = self._due, set()
                for pair in pairs:
                    if pair.id not in self._counts or due & {-1, pair.site_id}:
                        await self._count(pair)
                watched = [place for place in places.values() if place is not None]
                if not watched:
                    await self._anew.wait()
                    continue
                async for changes in awatch(
                    *watched,
                    debounce=_DEBOUNCE_MS,
                    stop_event=self._anew,
                    rust_timeout=_LOOK_EVERY_MS,
                    yield_on_timeout=True,
                    ignore_permission_denied=True,
                ):
                    touched = [Path(path) for _, path in changes]
                    for pair in pairs:
                        place = places[pair.id]
                        if place is not None and (not changes or any(one.is_relative_to(place) for one in touched)):
                            await self._count(pair)
            except (NailerError, OSError, RuntimeError) as error:
                # A tree too large to be watched is looked at now and then instead.
                _log.warning("watching folders here was interrupted", why=str(error)[:200])
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(_LOOK_EVERY_MS / 1000):
                        await self._anew.wait()
                self._due.add(-1)

    def _place(self, pair: Pair) -> Path | None:
        try:
            place = Path(os.path.realpath(self._here.on_disk(pair.here)))
        except NailerError:
            return None  # its root is not allowed any more
        return place if place.is_dir() else None

    async def _count(self, pair: Pair) -> None:
        changed, tree = await self.changed(pair)
        if changed is None:
            return
        self._counts[pair.id] = len(changed)
        if pair.unsent != len(changed):
            await self._pairs.set_unsent(pair.id, len(changed))
            self._live.touch()
        if pair.sends and changed and self._tasks.of(pair.id) is None:
            self._tasks.begin(self._send(pair.id, tree), pair.id)

    async def changed(self, pair: Pair) -> tuple[list[RelativePath] | None, Tree]:
        """Names here that are not as they were when level, without what a sieve holds back; None where the pair was never
        level. The tree is what was read here."""
        sieves = Sieves(await self._sieving.of_pair(pair), time.time_ns())
        try:
            tree = await read_tree(
                self._here, pair.here, Progress(), enter=lambda below, entry: not sieves.held(below, entry)
            )
        except NailerError:
            return None, Tree({})
        folders = list(tree.folders)
        found = await self._changes.baselines(
            pair.site_id, [(pair.here.join(folder), pair.there.join(folder)) for folder in folders]
        )
        if not any(found.values()):
            return None, tree
        names = [
            (*folder, entry.name)
            for folder in folders
            for entry in tree.folders[folder]
            if entry.is_file
            and not _as_level(found[pair.key(folder)].get(entry.name), entry)
            and not sieves.held((*folder, entry.name), entry)
        ]
        return names, tree

    async def _send(self, pair_id: int, tree: Tree) -> None:
        """Send what was saved, once nothing changes any more."""
        before: list[RelativePath] | None = None
        while True:
            pair = await self._pairs.get(pair_id)
            await asyncio.sleep(max(1, pair.send_after_s))
            names, tree = await self.changed(pair)
            if not names or not pair.sends or pair.sends_account is None:
                return
            if names == before and not _just_changed(tree, names, pair.send_after_s):
                break
            before = names
        try:
            plan = await self._readings.of_changed(pair.sends_account, pair, tree, names[:_MOST_SENT])
            if plan.flow.steps:
                await self._runs.carry_out(plan)
            left = sum(row.standing.joint == "both-changed" for row in plan.rows)
            self._troubles[pair.id] = f"{left} changed there, too: open Sync to decide." if left else ""
        except NailerError as error:
            self._troubles[pair.id] = error.what
            _log.warning("saves did not go up by themselves", pair=pair.id, why=error.what)
            await asyncio.sleep(_AGAIN_AFTER_S)
            self.look_again(pair.site_id)


def _may_sync(site_id: int) -> bool:
    who = person()
    return who is None or who.may(Right.SYNC, site_id)


def _sees(pair: Pair) -> bool:
    return reaches_pair(pair.site_id, pair.here, pair.there, pair.other_site_id)


def _as_level(baseline: Baseline | None, entry: Entry) -> bool:
    return baseline is not None and not baseline.folder and same_content(seen(entry), baseline.here)


def _just_changed(tree: Tree, names: Iterable[RelativePath], within_s: int) -> bool:
    """True where one of the names was written within the pair's own pause."""
    now_s = time.time()
    wanted = set(names)
    return any(
        (*folder, entry.name) in wanted and entry.stamp is not None and 0 <= now_s - entry.stamp.at_s < within_s
        for folder, entries in tree.folders.items()
        for entry in entries
    )
