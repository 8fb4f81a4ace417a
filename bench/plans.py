"""Plans of pairs: three million names compared and planned beside a bare merge; a whole pair read over a slow line."""

from __future__ import annotations

import asyncio
import gc
import time
from pathlib import Path

from bench import content
from bench.through import Through
from nailer.core.compare.joint import Baseline, Compare, Seen
from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.differences import trees_compared
from nailer.core.pairs.proposals import proposed
from nailer.core.pairs.steps import sync_steps
from nailer.core.pairs.wishes import Direction, Removals, SyncWish
from nailer.store.sites import Site

_CHANGED_EVERY = 100
_NOON_NS = 1_790_000_000 * NS

_Row = tuple[bytes, int, int]


class Million:
    """A million names on each side and in the baseline; one in a hundred was changed here."""

    def __init__(self, sizes: content.Sizes) -> None:
        self._files = sizes.plan_files
        self._changed = sizes.plan_folders * -(-sizes.plan_files // _CHANGED_EVERY)
        here: dict[RelativePath, list[Entry]] = {(): []}
        there: dict[RelativePath, list[Entry]] = {(): []}
        self.baselines: dict[RelativePath, dict[bytes, Baseline]] = {(): {}}
        for folder in range(sizes.plan_folders):
            name = b"folder-%04d" % folder
            for side in (here, there):
                side[()].append(Entry(name, Kind.FOLDER))
            self.baselines[()][name] = Baseline(Seen(0, None), Seen(0, None), folder=True)
            here[(name,)], there[(name,)], self.baselines[(name,)] = self._folder()
        self.here, self.there = Tree(here), Tree(there)
        self.steps = 0
        self.added_mib = 0

    def _folder(self) -> tuple[list[Entry], list[Entry], dict[bytes, Baseline]]:
        ours, theirs, known = [], [], {}
        for number in range(self._files):
            name, size = b"file-%06d.html" % number, number * 7 + 1
            at, later = Stamp(_NOON_NS + number * NS, NS), Stamp(_NOON_NS + (number + 9) * NS, NS)
            changed = number % _CHANGED_EVERY == 0
            ours.append(Entry(name, Kind.FILE, size + changed, later if changed else at, 0o644))
            theirs.append(Entry(name, Kind.FILE, size, at, 0o644))
            known[name] = Baseline(Seen(size, at), Seen(size, at))
        return ours, theirs, known

    def rows(self, tree: Tree) -> list[_Row]:
        """A side as sorted tuples, as bare as it gets: path, size, time."""
        return sorted(
            (b"/".join((*folder, entry.name)), entry.size, entry.stamp.at_ns)
            for folder, entries in tree.folders.items()
            for entry in entries
            if entry.stamp is not None
        )

    def base_rows(self) -> list[_Row]:
        return sorted(
            (b"/".join((*folder, name)), was.here.size, was.here.stamp.at_ns)
            for folder, known in self.baselines.items()
            for name, was in known.items()
            if was.here.stamp is not None
        )

    async def ours(self) -> float:
        return await asyncio.to_thread(self._plan)

    def _plan(self) -> float:
        gc.collect()
        before, started = _resident_mib(), time.perf_counter()
        found = trees_compared(self.here, self.there, self.baselines)
        doings = proposed(found.rows, SyncWish(Direction.LEVEL, Removals.FOLLOW))
        steps = sync_steps(found.rows, doings, self.here, self.there)
        took_s = time.perf_counter() - started
        self.steps, self.added_mib = len(steps.there), max(self.added_mib, _resident_mib() - before)
        if self.steps != self._changed:
            raise SystemExit(f"the plan has {self.steps} steps")
        return took_s

    async def plain(self) -> float:
        """A three-way merge of sorted tuples that only says which rows differ."""
        return await asyncio.to_thread(self._merge)

    def _merge(self) -> float:
        here, there, base = self.rows(self.here), self.rows(self.there), self.base_rows()
        gc.collect()
        started = time.perf_counter()
        changed = _differing(here, there, base)
        took_s = time.perf_counter() - started
        if len(changed) != self._changed:
            raise SystemExit(f"the merge found {len(changed)} rows")
        return took_s


def _differing(here: list[_Row], there: list[_Row], base: list[_Row]) -> list[_Row]:
    found = []
    left = right = known = 0
    while left < len(here) and right < len(there):
        one, other = here[left], there[right]
        if one[0] == other[0]:
            while known < len(base) and base[known][0] < one[0]:
                known += 1
            if known >= len(base) or one != base[known] or other != base[known]:
                found.append(one)
            left += 1
            right += 1
        elif one[0] < other[0]:
            found.append(one)
            left += 1
        else:
            found.append(other)
            right += 1
    return found + here[left:] + there[right:]


def _resident_mib() -> int:
    return int(Path("/proc/self/status").read_text().split("VmRSS:")[1].split()[0]) // 1024


async def read_pair(through: Through, site: Site, sizes: content.Sizes) -> float:
    """Seconds until the plan of a pair with the tree on each side is there, connecting included."""
    here = through.here / "tree"
    if not here.exists():
        await asyncio.to_thread(content.tree, here, sizes)
    nailer = through.nailer
    top = SitePath((*site.start_here.names, b"tree")) if site.start_here.names[-1:] != (b"tree",) else site.start_here
    pair = await nailer.stores.pairs.add(site.id, top, site.start_there, "tree")
    await nailer.sites.pool.close_site(site.id)
    started = time.perf_counter()
    plan = await nailer.pairs.readings.read_now(through.account_id, pair, SyncWish(), Compare.SIZE)
    took_s = time.perf_counter() - started
    if plan.rows:
        raise SystemExit(f"{len(plan.rows)} names differ that should not")
    return took_s
