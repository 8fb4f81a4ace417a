"""Letting a plan that was read become a job, with every word that it needs."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.plan import Answers
from nailer.core.words import count_text
from nailer.errors import InvalidInput
from nailer.services.files import GuardedFolders
from nailer.services.plans.make import PlanMaker
from nailer.services.plans.read import PlanReader
from nailer.services.plans.removal import RemovalCheck
from nailer.store.jobs import Job
from nailer.store.sites import Site


class Confirming:
    """What stands between a plan and its job: guarded folders, and a word that is typed before much is removed."""

    def __init__(self, reader: PlanReader, make: PlanMaker, removal: RemovalCheck, guarded: GuardedFolders) -> None:
        self._reader = reader
        self._make = make
        self._removal = removal
        self._guarded = guarded
        self._before: list[Callable[[Job, Site], Awaitable[None]]] = []

    def before_each(self, act: Callable[[Job, Site], Awaitable[None]]) -> None:
        """Await `act` for each plan that is about to be carried out."""
        self._before.append(act)

    async def carry_out(
        self, job: Job, site: Site, answers: Answers, *, typed: str = "", opens_guarded: bool = False
    ) -> None:
        """Let a plan be carried out. Raises Locked where it touches a guarded folder that nobody opened, InvalidInput where
        a word must be typed, or where nobody has decided what becomes of what both sides have changed."""
        plan = await self._reader.read(job.id, site, limit=1)
        undecided = [number for number in plan.clashes if number not in answers.rows]
        if undecided and answers.clashes is None:
            files = count_text(len(undecided), "file")
            raise InvalidInput(
                f"First decide what to do with {files} that changed on both sides.",
                fields={"clashes": f"{files} that both sides have changed"},
            )
        for folder in plan.guarded:
            if opens_guarded:
                self._guarded.open(job.account_id, site, folder)
            self._guarded.check(job.account_id, site, job.to_side, folder)
        if job.kind is JobKind.REMOVE:
            known = await self._removal.known(job, site)
            if known.must_type and typed.strip() != known.must_type:
                raise InvalidInput(
                    f"Type {known.must_type} to confirm: {known.why}.", fields={"typed": known.must_type}
                )
        for act in self._before:
            await act(job, site)
        await self._make.carry_out(job.id, site, answers)
