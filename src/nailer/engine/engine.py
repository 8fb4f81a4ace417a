"""The engine: made once for the process, and used by the services."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from nailer.engine.group_commit import GroupCommit
from nailer.engine.kept import KeptStore
from nailer.engine.limits import SpeedLimits
from nailer.engine.live import LiveJobs
from nailer.engine.runner import Runner, RunnerParts
from nailer.engine.work import WorkRunner
from nailer.sides.here import HereSide
from nailer.sides.pool import Pool
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Carrying:
    """Settings of this installation: how many files and jobs at once, and the largest file that is kept before it is
    replaced."""

    files_at_once: int
    jobs_at_once: int
    keep_largest_bytes: int


@dataclass(frozen=True, slots=True)
class Engine:
    """The runner of jobs with its tools, and that of other long `work`. `live` tells who listens how jobs stand; `spool` is
    the side of what was prepared here."""

    tools: RunnerParts
    runner: Runner
    work: WorkRunner

    @property
    def pool(self) -> Pool:
        """The lines to servers."""
        return self.tools.pool

    @property
    def here(self) -> HereSide:
        """The side of this machine."""
        return self.tools.here

    @property
    def spool(self) -> HereSide:
        """The side of what was unpacked or prepared here."""
        return self.tools.spool

    @property
    def live(self) -> LiveJobs:
        """The jobs that run."""
        return self.tools.live

    @property
    def limits(self) -> SpeedLimits:
        """Limits of speed."""
        return self.tools.limits

    @property
    def kept(self) -> KeptStore:
        """Contents that were kept."""
        return self.tools.kept

    @property
    def group(self) -> GroupCommit:
        """What many files write at once shares transactions."""
        return self.tools.group

    @classmethod
    def build(
        cls,
        stores: Stores,
        pool: Pool,
        here: HereSide,
        spool: HereSide,
        kept_in: Path,
        minute_of_day: Callable[[], int],
        how: Carrying,
    ) -> Engine:
        """`kept_in` is the folder of kept contents; `minute_of_day` tells the hour by which limits of speed go."""
        group = GroupCommit(stores.database)
        tools = RunnerParts(
            jobs=stores.jobs,
            claims=stores.claims,
            changes=stores.changes,
            kept=KeptStore(kept_in, group),
            parts=stores.parts,
            group=group,
            live=LiveJobs(),
            pool=pool,
            here=here,
            spool=spool,
            limits=SpeedLimits(minute_of_day),
            grants=stores.grants,
            marks=stores.marks,
            files_at_once=how.files_at_once,
            keep_largest_bytes=how.keep_largest_bytes,
        )
        return cls(tools, Runner(tools, jobs_at_once=how.jobs_at_once), WorkRunner(stores.works, stores.grants))
