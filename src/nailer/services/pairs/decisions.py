"""What a person wants of a reading: another wish, choices row by row, all as proposed again.

Decisions on one plan come one after another. Each works out a new value from the newest one, in a thread; a value that was
worked out is never changed, so what a page shows is what is carried out.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace

from nailer.core.pairs.proposals import choices_of
from nailer.core.pairs.wishes import Doing, SyncWish
from nailer.errors import Conflict
from nailer.services.pairs.choices import Choices
from nailer.services.pairs.plan import Decided, SyncPlan, SyncWanted
from nailer.services.pairs.plan_store import PlanStore


class Deciding:
    """Decides plans. Choices on a plan that a page works with are remembered as they are made."""

    def __init__(self, plans: PlanStore, choices: Choices) -> None:
        self._plans = plans
        self._choices = choices

    async def set_wish(self, plan: SyncPlan, wish: SyncWish) -> None:
        """Another wish on the same reading; where it goes another way, the choices of that way hold."""
        async with plan.deciding:
            if wish.direction is plan.wish.direction:
                await _decide(plan, replace(plan.decided.wanted, wish=wish))
                return
            await _decide(plan, SyncWanted(wish))
            remembered = await self._choices.recalled(plan)
            if remembered.chosen:
                await _decide(plan, remembered)

    async def begin_anew(self, plan: SyncPlan) -> None:
        """Forget every choice on a pair: all rows are as proposed."""
        async with plan.deciding:
            await self._choices.forget(plan)
            await _decide(plan, SyncWanted(plan.wish))

    async def choose(self, plan: SyncPlan, numbers: Iterable[int], doing: Doing | None) -> int:
        """Decide rows by their numbers, where they offer that; None goes back to what was proposed. Return how many. A text
        that was merged for a row is let go with any choice made after it."""
        rows = set(numbers)

        def _without(merged: Mapping[int, bytes]) -> Mapping[int, bytes]:
            return {number: text for number, text in merged.items() if number not in rows}

        return await self._choose(plan, rows, doing, _without)

    async def take_merged(self, plan: SyncPlan, number: int, text: bytes) -> None:
        """Upload a row's text as it was merged."""
        await self._choose(plan, [number], Doing.UPLOAD, lambda merged: {**merged, number: text})

    async def _choose(
        self,
        plan: SyncPlan,
        numbers: Iterable[int],
        doing: Doing | None,
        merged: Callable[[Mapping[int, bytes]], Mapping[int, bytes]],
    ) -> int:
        async with plan.deciding:
            chosen, changed = dict(plan.chosen), []
            for number in sorted(numbers):
                if not 0 <= number < len(plan.rows):
                    continue
                if doing is None:
                    if chosen.pop(number, None) is not None:
                        changed.append(number)
                elif doing in choices_of(plan.rows[number], plan.offered.each[number]):
                    chosen[number] = doing
                    changed.append(number)
            wanted = plan.decided.wanted
            await _decide(plan, replace(wanted, chosen=chosen, merged=merged(wanted.merged)))
            if self._plans.holds(plan):
                await self._choices.remember(plan, changed)
            return len(changed)


async def _decide(plan: SyncPlan, wanted: SyncWanted) -> Decided:
    """The caller holds `plan.deciding`. Raises Conflict where the plan is being carried out."""
    if plan.is_carried_out:
        raise Conflict("This plan is already being carried out. Read both sides again to decide anew.")
    plan.decided = await asyncio.to_thread(plan.worked_out, wanted)
    return plan.decided
