"""What a person wants of a reading: another wish, choices row by row, all as proposed again."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable

from nailer.core.pairs.proposals import choices_of
from nailer.core.pairs.wishes import Doing, SyncWish
from nailer.services.pairs.choices import Choices
from nailer.services.pairs.plan import SyncPlan
from nailer.services.pairs.plan_store import PlanStore


class Decisions:
    """Decides plans. Choices on a plan that a page works with are remembered as they are made."""

    def __init__(self, plans: PlanStore, choices: Choices) -> None:
        self._plans = plans
        self._choices = choices

    async def set_wish(self, plan: SyncPlan, wish: SyncWish) -> None:
        """Another wish on the same reading; where it goes another way, the choices of that way hold."""
        turned = wish.direction is not plan.wish.direction
        if turned:
            plan.chosen.clear()
            plan.merged.clear()
        plan.wish = wish
        await asyncio.to_thread(plan.propose)
        if turned:
            await self._recall(plan)

    async def _recall(self, plan: SyncPlan) -> None:
        """Let remembered choices hold again."""
        await self._choices.recall(plan)
        if plan.chosen:
            await asyncio.to_thread(plan.decide)

    async def begin_anew(self, plan: SyncPlan) -> None:
        """Forget every choice on a pair: all rows are as proposed."""
        plan.chosen.clear()
        plan.merged.clear()
        plan.recalled = 0
        await self._choices.forget(plan)
        await asyncio.to_thread(plan.decide)

    async def choose(self, plan: SyncPlan, numbers: Iterable[int], doing: Doing | None) -> int:
        """Decide rows by their numbers, where they offer that; None goes back to what was proposed. Return how many. A text
        that was merged for a row is let go with any choice made after it."""
        rows = list(numbers)
        for number in rows:
            plan.merged.pop(number, None)
        return await self.choose_rows(plan, rows, doing)

    async def choose_rows(self, plan: SyncPlan, numbers: Iterable[int], doing: Doing | None) -> int:
        """As `choose`, with texts that were merged left as they are."""
        changed = []
        for number in numbers:
            if not 0 <= number < len(plan.rows):
                continue
            if doing is None:
                if plan.chosen.pop(number, None) is not None:
                    changed.append(number)
            elif doing in choices_of(plan.rows[number], plan.offered.each[number]):
                plan.chosen[number] = doing
                changed.append(number)
        if self._plans.holds(plan):
            await self._choices.remember(plan, changed)
        await asyncio.to_thread(plan.decide)
        return len(changed)
