"""What else knows what a plan removes: an equal copy on the other side, a kept copy, or nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.compare.joint import Baseline, Joint, joint_of
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.plans.plan import Action, Verdict
from nailer.core.words import count_text
from nailer.services.files import Browse
from nailer.store.changes import ChangeStore, pair_key
from nailer.store.jobs import Item, Job
from nailer.store.sites import Site

_LARGE_BYTES = 50_000_000
_MOST_FOLDERS = 300


@dataclass(frozen=True, slots=True)
class Known:
    """Of the files that go: how many have an equal copy on the other side, how many a different one, how many none, how
    many were not looked for; which are too large to be kept. `must_type` is the name that must be typed first."""

    equal: int
    different: int
    nowhere: int
    not_looked: int
    unkept: tuple[SitePath, ...]
    must_type: str
    why: str

    @property
    def text(self) -> str:
        """What else knows the removed content, in words."""
        parts = []
        if self.equal:
            parts.append(f"{count_text(self.equal, 'file')} equal on the other side")
        if self.different:
            parts.append(f"{self.different} in another version there")
        if self.nowhere:
            parts.append(f"{self.nowhere} nowhere else")
        if self.not_looked:
            parts.append(f"{self.not_looked} not looked for")
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
        name, why = _must_type(site, job, going, nowhere, unkept)
        not_looked = len(files) - len(found)
        return Known(equal, different, len(nowhere), not_looked, unkept, name, why)

    async def _others(self, job: Job, site: Site, files: Sequence[Item]) -> dict[SitePath, bool | None]:
        """By path: True for an equal copy on the other side, False for a different one, None for none."""
        side = job.to_side
        folders: dict[SitePath, list[Item]] = {}
        for one in files:
            folders.setdefault(one.target.parent, []).append(one)
        pairs = [(folder, site.counterpart(side, folder)) for folder in list(folders)[:_MOST_FOLDERS]]
        mapped = [(folder, other) for folder, other in pairs if other is not None]
        listings = await asyncio.gather(
            *(self._browse.listing(site, side.other, other, max_age_s=600) for _, other in mapped)
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


def _must_type(
    site: Site, job: Job, going: Sequence[Item], nowhere: Sequence[Item], unkept: Sequence[SitePath]
) -> tuple[str, str]:
    """The name to type, and why; empty where no typing is needed."""
    if job.to_side == "there":
        for root in site.document_roots:
            for one in going:
                if one.action is Action.REMOVE_FOLDER and root.folder.below(one.target) is not None:
                    return shown_name(one.target.name), f"{root.folder} is what {root.address} serves"
    if unkept:
        return shown_name(unkept[0].name), "it is too large to be kept, and cannot be taken back"
    large = next((one for one in nowhere if one.entry.size >= _LARGE_BYTES), None)
    if large is not None:
        return shown_name(large.target.name), "it is large, and this is the only one"
    return "", ""
