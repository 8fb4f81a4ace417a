"""The door of the wing: pairs of folders, brought level by a person or by a timer."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.engine.engine import Engine
from nailer.services.files import Files
from nailer.services.pairs.book import PairBook
from nailer.services.pairs.choices import Choices
from nailer.services.pairs.decisions import Deciding
from nailer.services.pairs.not_sent import NotSent
from nailer.services.pairs.plan_store import PlanStore
from nailer.services.pairs.readings import Readings
from nailer.services.pairs.rows import Rows
from nailer.services.pairs.runs import Runs
from nailer.services.pairs.timer_jobs import TimerJobs
from nailer.services.pairs.timers import Timers
from nailer.services.plans import Plans
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Pairs:
    """The pairs (`book`). Both ends are read (`readings`) into a plan (kept in `plans`), a person decides (`decisions`,
    row by row: `rows`), and a run carries it out (`runs`). `not_sent` counts what is newer here;
    `timers` and `timer_jobs` do all that at set times."""

    book: PairBook
    plans: PlanStore
    readings: Readings
    decisions: Deciding
    rows: Rows
    runs: Runs
    not_sent: NotSent
    timers: Timers
    timer_jobs: TimerJobs

    @classmethod
    def build(cls, stores: Stores, engine: Engine, files: Files, plans: Plans) -> Pairs:
        """Join the wing."""
        choices, kept_plans, ends = Choices(stores.choices), PlanStore(), files.ends
        readings = Readings(kept_plans, files, stores.pairs, stores.changes, choices)
        decisions = Deciding(kept_plans, choices)
        rows = Rows(ends, stores.changes, engine.kept, stores.jobs, engine.live, plans.prepared, decisions)
        runs = Runs(
            kept_plans,
            rows,
            ends,
            stores.pairs,
            stores.jobs,
            stores.changes,
            engine.runner,
            engine.live,
            files.guarded,
            choices,
            keep_largest_bytes=engine.tools.keep_largest_bytes,
        )
        not_sent = NotSent(stores.pairs, stores.changes, files.sieves, readings, runs, engine.here, engine.live)
        timer_jobs = TimerJobs(
            stores.timers, stores.sites, stores.jobs, stores.changes, plans.make, plans.reader, engine.live
        )
        return cls(
            book=PairBook(stores.pairs, stores.sites, not_sent, files),
            plans=kept_plans,
            readings=readings,
            decisions=decisions,
            rows=rows,
            runs=runs,
            not_sent=not_sent,
            timers=Timers(stores, readings, decisions, runs, timer_jobs, plans.notices),
            timer_jobs=timer_jobs,
        )
