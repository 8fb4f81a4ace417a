"""Contents that were prepared here and are to be written. They wait in the spool; a job carries them like any other file."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.sitepath import SitePath, common_folder
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Action, Verdict
from nailer.engine.runner import Runner
from nailer.services.plans.unpacking.archives import Archives
from nailer.sides.side import Side
from nailer.store.jobs import JobStore, NewItem, NewJob
from nailer.store.sites import Site


@dataclass(frozen=True, slots=True)
class Write:
    """One content and where it is to land. `seen` is what is there now, None for a new name."""

    path: SitePath
    content: bytes
    seen: Entry | None
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Rename:
    """One name that becomes another in its folder; `seen` is what it is now."""

    old: SitePath
    new: SitePath
    seen: Entry


class PreparedFiles:
    def __init__(self, jobs: JobStore, unpack: Archives, spool: Side, runner: Runner) -> None:
        self._jobs = jobs
        self._unpack = unpack
        self._spool = spool
        self._runner = runner

    async def add(
        self,
        account_id: int,
        site: Site,
        side: SideName,
        title: str,
        writes: Sequence[Write],
        renames: Sequence[Rename] = (),
        *,
        at_once: bool = False,
    ) -> int:
        """A plan that renames first, then writes; return its job. `at_once`: it is not read, but carried out."""
        place = await self._unpack.lay([one.content for one in writes])
        stamps = {one.name: one.stamp for one in (await self._spool.list(place)).entries}
        items = [
            NewItem(
                Action.MOVE,
                Verdict.NEW,
                f"becomes {one.new.name.decode('utf-8', 'replace')}",
                one.old,
                one.new,
                one.seen,
            )
            for one in renames
        ]
        for number, one in enumerate(writes):
            name = str(number).encode()
            entry = Entry(name, Kind.FILE, len(one.content), stamps.get(name))
            verdict = Verdict.REPLACES if one.seen is not None else Verdict.NEW
            reason = one.reason or verdict.value
            items.append(NewItem(Action.TRANSFER, verdict, reason, place.child(name), one.path, entry, one.seen))
        folders = [one.path.parent for one in writes] + [one.new.parent for one in renames]
        target = common_folder(folders)
        job = NewJob(account_id, site.id, JobKind.WRITE, title, side, place, target)
        job_id = await self._jobs.add(job, items, JobState.WAITING if at_once else JobState.PLANNED)
        if at_once:
            self._runner.wake()
        return job_id
