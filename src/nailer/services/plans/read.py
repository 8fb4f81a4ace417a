"""A stored plan, read for a page: what it would do in all, what it needs, what there is to say about it.

Reading goes through the items in windows. Of a plan that goes up its names are held meanwhile (advice needs them side by
side), of any other no more than what is shown.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nailer.core.check.scripts import is_script
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.advice import Doubt, hurting_names, not_for_public
from nailer.core.plans.plan import Action, PlanStep, Summary, Verdict, summary
from nailer.core.plans.room import Fit, Need, need_of
from nailer.core.plans.sieve import Sieves
from nailer.services.files import SieveBook
from nailer.services.plans.make import SIEVED
from nailer.sides.pool import Pool
from nailer.store.jobs import Item, Job, JobStore
from nailer.store.sites import Site
from nailer.unbroken import in_thread


@dataclass(frozen=True, slots=True)
class PlanToRead:
    """A stored plan as a page shows it: the job, its counts, and the first items of it. `sieved` is how many names stay
    behind by sieves, `sieves` are their names. `renames` is False where the server was found to rename nothing, and
    `in_place` says whether the site lets files be overwritten then. `clashes` are the numbers of the items that both sides
    have changed: they come first among `items`. `off` are sieves that are switched off, with how many names of the plan each
    would hold back."""

    job: Job
    summary: Summary
    items: list[Item]
    guarded: tuple[SitePath, ...]
    need: Need
    hurting: list[Doubt]
    private: list[Doubt]
    idle_scripts: tuple[SitePath, ...] = ()
    sieved: int = 0
    sieves: tuple[str, ...] = ()
    renames: bool | None = None
    in_place: bool = False
    clashes: tuple[int, ...] = ()
    off: tuple[tuple[str, int], ...] = ()

    @property
    def overwrites(self) -> int:
        """How many files the server would have overwritten in place, because it renames nothing."""
        if self.renames is not False:
            return 0
        return sum(one.action is Action.TRANSFER and _step(one).acts for one in self.items)

    @property
    def more(self) -> int:
        """How many steps are not among `items`."""
        found = self.summary
        return max(0, found.acts + found.folders + found.left + found.same + found.both_changed - len(self.items))

    @property
    def fit(self) -> Fit:
        """Whether what the plan carries has room where it lands."""
        return self.need.fit(self.job.room_bytes)


@dataclass(slots=True)
class _Reading:
    """What was read of a plan so far."""

    job: Job
    guarded: tuple[SitePath, ...]
    limit: int
    summary: Summary = field(default_factory=lambda: summary(()))
    need: Need = field(default_factory=lambda: need_of(()))
    acting: list[Item] = field(default_factory=list)
    left: list[Item] = field(default_factory=list)
    clashing: list[Item] = field(default_factory=list)
    clashes: list[int] = field(default_factory=list)
    names: list[RelativePath] = field(default_factory=list)
    touched: set[SitePath] = field(default_factory=set)
    idle: list[SitePath] = field(default_factory=list)
    sieved: int = 0
    sieves: dict[str, None] = field(default_factory=dict)
    start: SitePath = SitePath()
    off: Mapping[str, Sieves] = field(default_factory=dict)
    off_counts: Counter[str] = field(default_factory=Counter)

    @property
    def goes_up(self) -> bool:
        """True where the plan puts files on the server."""
        return self.job.to_side is SideName.THERE and self.job.kind in (JobKind.TRANSFER, JobKind.DROP, JobKind.UNPACK)

    def add(self, window: Sequence[Item]) -> None:
        """Take in a window of the plan's items."""
        self.summary += summary(map(_step, window))
        for item in window:
            self.touched.update(folder for folder in self.guarded if _touches(item, folder))
            if item.verdict is Verdict.BOTH_CHANGED:
                self._add_clash(item)
            elif _step(item).acts:
                self._add_acting(item)
            else:
                self._add_left(item)

    def _add_acting(self, item: Item) -> None:
        if len(self.acting) < self.limit:
            self.acting.append(item)
        if item.action is Action.TRANSFER and (below := item.target.below(self.start)):
            self.off_counts.update(name for name, sieve in self.off.items() if sieve.held(below, item.entry))
        if item.action is Action.TRANSFER:
            self.need = self.need.then(item.entry.size, item.seen.size if item.seen is not None else 0)
        if self.goes_up:
            self.names.append(item.target.below(self.job.target_folder) or (item.target.name,))
            if _stays_idle(item):
                self.idle.append(item.target)

    def _add_clash(self, item: Item) -> None:
        self.clashes.append(item.id)
        if len(self.clashing) < self.limit:
            self.clashing.append(item)

    def _add_left(self, item: Item) -> None:
        if len(self.left) < self.limit:
            self.left.append(item)
        if item.reason.startswith(SIEVED):
            self.sieved += 1
            self.sieves[item.reason.removeprefix(SIEVED)] = None


class PlanReader:
    def __init__(self, jobs: JobStore, pool: Pool, sieving: SieveBook) -> None:
        self._jobs = jobs
        self._pool = pool
        self._sieving = sieving

    async def read(self, job_id: int, site: Site, *, limit: int = 200) -> PlanToRead:
        """A stored plan, with the first `limit` of its items: those that do something come first."""
        job = await self._jobs.get(job_id)
        guarded = site.guarded if job.to_side is SideName.THERE else ()
        start = site.start_there if job.to_side is SideName.THERE else site.start_here
        off = await self._sieving.off_of_site(site) if job.kind is JobKind.TRANSFER else {}
        found = _Reading(job, guarded, limit, start=start, off=off)
        async for window in self._jobs.all_items(job_id):
            found.add(window)
        hurting, not_public = await in_thread(lambda: (hurting_names(found.names), not_for_public(found.names)))
        return PlanToRead(
            job,
            found.summary,
            (found.clashing + found.acting + found.left)[:limit],
            tuple(folder for folder in guarded if folder in found.touched),
            found.need,
            hurting,
            not_public,
            tuple(found.idle),
            found.sieved,
            tuple(found.sieves),
            self._renames(job, site),
            site.in_place,
            tuple(found.clashes),
            tuple(sorted(found.off_counts.items())),
        )

    def _renames(self, job: Job, site: Site) -> bool | None:
        """Whether the server renames at all, as far as its open connection knows."""
        connection = self._pool.connection(site.id) if job.to_side is SideName.THERE else None
        return connection.abilities.renames if connection is not None else None


def _step(item: Item) -> PlanStep:
    return PlanStep(item.action, (), (), item.entry, item.verdict, item.reason, item.seen)


def _stays_idle(item: Item) -> bool:
    """True for a script that replaces one which may not be run: it keeps those permissions."""
    permissions = item.seen.permissions if item.seen is not None else None
    return is_script(item.target.name) and permissions is not None and not permissions & 0o100


def _touches(item: Item, folder: SitePath) -> bool:
    """True where a step changes something in a folder; a move changes the one it leaves, too."""
    ends = (item.source, item.target) if item.action is Action.MOVE else (item.target,)
    return any(one.below(folder) is not None for one in ends)
