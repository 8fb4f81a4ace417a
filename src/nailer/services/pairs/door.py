"""The door of the wing: pairs of folders, brought level by a person or by a timer."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.engine.engine import Engine
from nailer.services.files import Files
from nailer.services.pairs.book import PairBook
from nailer.services.pairs.choices import Choices
from nailer.services.pairs.not_sent import NotSent
from nailer.services.pairs.sync import Sync
from nailer.services.pairs.timer_jobs import TimerJobs
from nailer.services.pairs.timers import Timers
from nailer.services.plans import Plans
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Pairs:
    """The pairs (`book`), what is newer here and not sent yet (`not_sent`), bringing both ends level (`sync`), and doing
    so at set times (`timers`, `timer_jobs`)."""

    book: PairBook
    sync: Sync
    not_sent: NotSent
    timers: Timers
    timer_jobs: TimerJobs

    @classmethod
    def build(cls, stores: Stores, engine: Engine, files: Files, plans: Plans) -> Pairs:
        sync = Sync(
            files.ends,
            stores.pairs,
            stores.jobs,
            stores.changes,
            engine.runner,
            engine.live,
            files.guarded,
            files.sieves,
            engine.kept,
            plans.prepared,
            files.comparer,
            Choices(stores.choices),
            keep_largest_bytes=engine.tools.keep_largest_bytes,
        )
        not_sent = NotSent(stores.pairs, stores.changes, files.sieves, sync, engine.here, engine.live)
        timer_jobs = TimerJobs(
            stores.timers, stores.sites, stores.jobs, stores.changes, plans.make, plans.reader, engine.live
        )
        return cls(
            book=PairBook(stores.pairs, stores.sites, not_sent, files),
            sync=sync,
            not_sent=not_sent,
            timers=Timers(stores.timers, stores.pairs, sync, timer_jobs, plans.notices),
            timer_jobs=timer_jobs,
        )
