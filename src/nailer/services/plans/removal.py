"""What else knows what a plan removes: an equal copy on the other side, a kept copy, or nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nailer.core.compare.joint import Baseline, Joint, joint_of
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.plans.plan import Action, Verdict
from nailer.core.words import count_text, size_text
from nailer.services.files import FRESH_S, Browse
from nailer.store.changes import ChangeStore, pair_key
from nailer.store.jobs import Item, Job, JobStore
from nailer.store.sites import Site

_MOST_FOLDERS = 300


@dataclass(frozen=True, slots=True)
class Gone:
    """What a plan takes away: files, folders and bytes, and how many files stay because somebody keeps them."""

    files: int
    folders: int
    size: int
    kept: int

    @property
    def text(self) -> str:
        """`477 files and 32 folders, 12.3 MB`."""
        parts = [count_text(self.files, "file")] if self.files or not self.folders else []
        if self.folders:
            parts.append(count_text(self.folders, "folder"))
        return " and ".join(parts) + (f", {size_text(self.size)}" if self.size else "")


@dataclass(slots=True)
class _Weighed:
    """A removal as it is weighed, window by window: sums, what a rule must know of single names, and the files of so many
    folders as are looked up on the other side. `beyond` counts the files of all others."""

    job: Job
    published: Sequence[tuple[SitePath, str]]
    guards: Sequence[SitePath]
    keep_largest_bytes: int
    files: int = 0
    folders: int = 0
    size: int = 0
    kept: int = 0
    unkept: int = 0
    beyond: int = 0
    by_folder: dict[SitePath, list[Item]] = field(default_factory=dict)
    first_unkept: SitePath | None = None
    first_beyond: SitePath | None = None
    roots_gone: set[SitePath] = field(default_factory=set)
    guards_hit: set[SitePath] = field(default_factory=set)
    tops: dict[SitePath, set[SitePath]] = field(default_factory=dict)

    def add(self, window: Sequence[Item]) -> None:
        """Take in a window of the plan's items."""
        for item in window:
            if item.verdict is Verdict.REMOVES:
                self._add_going(item)
            elif item.verdict is Verdict.LEFT and item.action is Action.REMOVE:
                self.kept += 1

    def _add_going(self, item: Item) -> None:
        path = item.target
        for root, _ in self.published:
            if path.parent == root:
                self.tops.setdefault(root, set()).add(path)
            if item.action is Action.REMOVE_FOLDER and root.below(path) is not None:
                self.roots_gone.add(root)
        self.guards_hit.update(folder for folder in self.guards if path.below(folder) is not None)
        if item.action is Action.REMOVE_FOLDER:
            self.folders += 1
        elif item.action is Action.REMOVE and item.entry.is_file:
            self._add_file(item)

    def _add_file(self, item: Item) -> None:
        self.files += 1
        self.size += item.entry.size
        if item.entry.size > self.keep_largest_bytes:
            self.unkept += 1
            self.first_unkept = self.first_unkept or item.target
        folder = item.target.parent
        if folder in self.by_folder or len(self.by_folder) < _MOST_FOLDERS:
            self.by_folder.setdefault(folder, []).append(item)
        else:
            self.beyond += 1
            self.first_beyond = self.first_beyond or item.target

    def top_of(self, path: SitePath) -> SitePath:
        """The picked name that a path lies in."""
        below = path.below(self.job.target_folder)
        return self.job.target_folder.child(below[0]) if below else path


@dataclass(frozen=True, slots=True)
class _Others:
    """What the other side has of the files that go: counts, which of them are `alone` (nowhere else, and not empty), and of
    which that is not known."""

    equal: int
    different: int
    nowhere: int
    alone: Sequence[SitePath]
    unknown: Sequence[SitePath]


@dataclass(frozen=True, slots=True)
class Known:
    """Of the files that go: how many have an equal copy on the other side, how many a different one, how many none, how
    many were not looked for; which are too large to be kept. `must_type` is the name that must be typed first, `gone` what
    goes in all."""

    equal: int
    different: int
    nowhere: int
    not_looked: int
    unkept: int
    must_type: str
    why: str
    gone: Gone

    @property
    def text(self) -> str:
        """What else knows the removed content, in words."""
        parts = []
        if self.equal:
            parts.append(f"{count_text(self.equal, 'file')} equal on the other side")
        if self.different:
            parts.append(f"{self.different} with a different version there")
        if self.nowhere:
            parts.append(f"{self.nowhere} with no other copy")
        if self.not_looked:
            parts.append(f"{self.not_looked} not checked")
        return ", ".join(parts)


class RemovalCheck:
    def __init__(self, browse: Browse, changes: ChangeStore, jobs: JobStore, *, keep_largest_bytes: int) -> None:
        self._browse = browse
        self._changes = changes
        self._jobs = jobs
        self._keep_largest_bytes = keep_largest_bytes

    async def known(self, job: Job, site: Site) -> Known:
        """Look for what a plan removes on the other side, as far as it was read or is read quickly."""
        guards = site.guarded if job.to_side is SideName.THERE else ()
        plan = _Weighed(job, await self._published(job, site), guards, self._keep_largest_bytes)
        async for window in self._jobs.all_items(job.id):
            plan.add(window)
        others = await self._others(job, site, plan.by_folder)
        name, why = _why_typed(plan, others, await self._emptied(job, site, plan))
        gone = Gone(plan.files, plan.folders, plan.size, plan.kept)
        not_looked = plan.beyond + len(others.unknown)
        return Known(others.equal, others.different, others.nowhere, not_looked, plan.unkept, name, why, gone)

    async def _published(self, job: Job, site: Site) -> list[tuple[SitePath, str]]:
        """The document roots on the side of a removal, with their addresses; here, the folders that belong to them."""
        roots = [(root.folder, root.address) for root in site.document_roots]
        if job.to_side is SideName.THERE:
            return roots
        mapped = [(await self._browse.other_side(site, SideName.THERE, folder), address) for folder, address in roots]
        return [(folder, address) for folder, address in mapped if folder is not None]

    async def _emptied(self, job: Job, site: Site, plan: _Weighed) -> SitePath | None:
        """The document root out of which everything goes; None where there is none."""
        for root, tops in plan.tops.items():
            listing = await self._browse.listing(site, job.to_side, root)
            if all(root.child(entry.name) in tops for entry in listing.entries):
                return root
        return None

    async def _others(self, job: Job, site: Site, folders: Mapping[SitePath, Sequence[Item]]) -> _Others:
        found = await self._by_path(job, site, folders)
        files = [one for some in folders.values() for one in some]
        nowhere = [one for one in files if found.get(one.target, "") is None]
        return _Others(
            sum(one is True for one in found.values()),
            sum(one is False for one in found.values()),
            len(nowhere),
            [one.target for one in nowhere if one.entry.size],
            [one.target for one in files if one.target not in found],
        )

    async def _by_path(
        self, job: Job, site: Site, folders: Mapping[SitePath, Sequence[Item]]
    ) -> dict[SitePath, bool | None]:
        """By path: True for an equal copy on the other side, False for a different one, None for none."""
        side = job.to_side
        pairs = [(folder, site.counterpart(side, folder)) for folder in folders]
        mapped = [(folder, other) for folder, other in pairs if other is not None]
        # What is said to have another copy may go: here it is looked at now, there as the files view shows it.
        age_s = 0.0 if side.other is SideName.HERE else FRESH_S
        listings = await asyncio.gather(
            *(self._browse.listing(site, side.other, other, max_age_s=age_s) for _, other in mapped)
        )
        here_there = [(folder, other) if side == "here" else (other, folder) for folder, other in mapped]
        baselines = await self._changes.baselines(site.id, here_there)
        found: dict[SitePath, bool | None] = {
            one.target: None for folder, other in pairs if other is None for one in folders[folder]
        }
        for (folder, _), pair, listing in zip(mapped, here_there, listings, strict=True):
            if listing.problem is not None and not listing.is_missing:
                continue
            there = {entry.name: entry for entry in listing.entries}
            lack = listing.lack
            known = baselines.get(pair_key(*pair), {})
            for one in folders[folder]:
                if one.target.name not in there and lack is not None and lack.may_hide(one.target.name):
                    continue  # whether the other side has it is not known
                found[one.target] = _is_equal(
                    one.entry, there.get(one.target.name), known.get(one.target.name), side == "here"
                )
        return found


def _is_equal(gone: Entry, other: Entry | None, baseline: Baseline | None, from_here: bool) -> bool | None:
    if other is None or not other.is_file:
        return None
    here, there = (gone, other) if from_here else (other, gone)
    return joint_of(here, there, baseline).joint is Joint.SAME


def _why_typed(plan: _Weighed, others: _Others, emptied: SitePath | None) -> tuple[str, str]:
    """The name to type, and why; empty where no typing is needed."""
    for root, address in plan.published:
        if root in plan.roots_gone:
            return _word(root), f"{root} is what {address} serves"
        if emptied == root:
            return _word(root), f"everything in {root} will be removed, which is the content of {address}"
    for folder in plan.guards:
        if folder in plan.guards_hit:
            return _word(folder), f"{folder} is a guarded folder with files of the server or your email"
    if plan.first_unkept is not None:
        return _word(plan.first_unkept), "it is too large for a kept copy, so you cannot take this back"
    if others.alone:
        count = len(others.alone)
        only = "this is the only copy" if count == 1 else f"{count_text(count, 'file')} are nowhere else"
        return _word(plan.top_of(others.alone[0])), only
    unknown = others.unknown[0] if others.unknown else plan.first_beyond
    if unknown is not None:
        count = plan.beyond + len(others.unknown)
        are = "it is" if count == 1 else f"{count_text(count, 'file')} are"
        return _word(plan.top_of(unknown)), f"Nailer does not know whether other copies exist ({are})"
    return "", ""


def _word(path: SitePath) -> str:
    return shown_name(path.name) or "/"
