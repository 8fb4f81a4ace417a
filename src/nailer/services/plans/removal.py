"""What else knows what a plan removes: an equal copy on the other side, a kept copy, or nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.compare.joint import Baseline, Joint, joint_of
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.plans.plan import Action, Verdict
from nailer.core.words import count_text, size_text
from nailer.services.files import FRESH_S, Browse
from nailer.store.changes import ChangeStore, pair_key
from nailer.store.jobs import Item, Job
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


@dataclass(frozen=True, slots=True)
class _Removal:
    """A removal as it is weighed: what goes, what is published and guarded, which files are `alone` (nowhere else), and of
    which that is not known. `emptied` is a document root that loses everything."""

    job: Job
    going: Sequence[Item]
    published: Sequence[tuple[SitePath, str]]
    emptied: SitePath | None
    guarded: Sequence[SitePath]
    alone: Sequence[SitePath]
    not_looked: Sequence[SitePath]
    unkept: Sequence[SitePath]

    @property
    def not_looked_text(self) -> str:
        """Those of which it is not known, with their verb."""
        return "it is" if len(self.not_looked) == 1 else f"{count_text(len(self.not_looked), 'file')} are"

    def top_of(self, path: SitePath) -> SitePath:
        """The picked name that a path lies in."""
        below = path.below(self.job.target_folder)
        return self.job.target_folder.child(below[0]) if below else path


@dataclass(frozen=True, slots=True)
class Known:
    """Of the files that go: how many have an equal copy on the other side, how many a different one, how many none, how
    many were not looked for; which are too large to be kept. `must_type` is the name that must be typed first, `gone` what
    goes in all."""

    equal: int
    different: int
    nowhere: int
    not_looked: int
    unkept: tuple[SitePath, ...]
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
    def __init__(self, browse: Browse, changes: ChangeStore, *, keep_largest_bytes: int) -> None:
        self._browse = browse
        self._changes = changes
        self._keep_largest_bytes = keep_largest_bytes

    async def known(self, job: Job, site: Site, items: Sequence[Item]) -> Known:
        """Look for what a plan removes on the other side, as far as it was read or is read quickly."""
        going = [one for one in items if one.verdict is Verdict.REMOVES]
        files = [one for one in going if one.action is Action.REMOVE and one.entry.is_file]
        found = await self._others(job, site, files)
        equal = sum(one is True for one in found.values())
        different = sum(one is False for one in found.values())
        nowhere = [one for one in files if found.get(one.target, "") is None]
        unkept = tuple(one.target for one in files if one.entry.size > self._keep_largest_bytes)
        published = await self._published(job, site)
        plan = _Removal(
            job,
            going,
            published,
            await self._emptied(job, site, going, published),
            site.guarded if job.to_side is SideName.THERE else (),
            [one.target for one in nowhere if one.entry.size],
            [one.target for one in files if one.target not in found],
            unkept,
        )
        name, why = _why_typed(plan)
        folders = sum(one.action is Action.REMOVE_FOLDER for one in going)
        kept = sum(one.verdict is Verdict.LEFT and one.action is Action.REMOVE for one in items)
        gone = Gone(len(files), folders, sum(one.entry.size for one in files), kept)
        return Known(equal, different, len(nowhere), len(plan.not_looked), unkept, name, why, gone)

    async def _published(self, job: Job, site: Site) -> list[tuple[SitePath, str]]:
        """The document roots on the side of a removal, with their addresses; here, the folders that belong to them."""
        roots = [(root.folder, root.address) for root in site.document_roots]
        if job.to_side is SideName.THERE:
            return roots
        mapped = [(await self._browse.other_side(site, SideName.THERE, folder), address) for folder, address in roots]
        return [(folder, address) for folder, address in mapped if folder is not None]

    async def _emptied(
        self, job: Job, site: Site, going: Sequence[Item], published: Sequence[tuple[SitePath, str]]
    ) -> SitePath | None:
        """The document root out of which everything goes; None where there is none."""
        leaving = {one.target for one in going}
        for root, _ in published:
            tops = {path for path in leaving if path.parent == root}
            if not tops:
                continue
            listing = await self._browse.listing(site, job.to_side, root)
            if all(root.child(entry.name) in tops for entry in listing.entries):
                return root
        return None

    async def _others(self, job: Job, site: Site, files: Sequence[Item]) -> dict[SitePath, bool | None]:
        """By path: True for an equal copy on the other side, False for a different one, None for none."""
        side = job.to_side
        folders: dict[SitePath, list[Item]] = {}
        for one in files:
            folders.setdefault(one.target.parent, []).append(one)
        pairs = [(folder, site.counterpart(side, folder)) for folder in list(folders)[:_MOST_FOLDERS]]
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


def _why_typed(plan: _Removal) -> tuple[str, str]:
    """The name to type, and why; empty where no typing is needed."""
    for root, address in plan.published:
        if any(one.action is Action.REMOVE_FOLDER and root.below(one.target) is not None for one in plan.going):
            return _word(root), f"{root} is what {address} serves"
        if plan.emptied == root:
            return _word(root), f"everything in {root} will be removed, which is the content of {address}"
    for folder in plan.guarded:
        if any(one.target.below(folder) is not None for one in plan.going):
            return _word(folder), f"{folder} is a guarded folder with files of the server or your email"
    if plan.unkept:
        return _word(plan.unkept[0]), "it is too large for a kept copy, so you cannot take this back"
    if plan.alone:
        only = (
            "this is the only copy"
            if len(plan.alone) == 1
            else f"{count_text(len(plan.alone), 'file')} are nowhere else"
        )
        return _word(plan.top_of(plan.alone[0])), only
    if plan.not_looked:
        return _word(
            plan.top_of(plan.not_looked[0])
        ), f"Nailer does not know whether other copies exist ({plan.not_looked_text})"
    return "", ""


def _word(path: SitePath) -> str:
    return shown_name(path.name) or "/"
