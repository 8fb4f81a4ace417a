"""Choices on a pair's plan, remembered as they are made: reading anew, a closed page and a restart lose none.

A choice holds for the two ends that a person saw. Where one of them has changed since, the name is proposed anew.
"""

from __future__ import annotations

from collections.abc import Iterable

from nailer.core.pairs.proposals import choices_of, ends_of
from nailer.core.pairs.wishes import Doing
from nailer.services.pairs.plan import SyncPlan, SyncWanted
from nailer.store.choices import ChoiceStore, StoredChoice


class Choices:
    def __init__(self, store: ChoiceStore) -> None:
        self._store = store

    async def recalled(self, plan: SyncPlan) -> SyncWanted:
        """What is wanted of a plan that was just proposed, with the choices that are remembered. Choices that no longer fit
        are forgotten."""
        remembered = await self._store.of(plan.account_id, plan.pair.id, plan.wish.direction)
        numbers = {row.below: number for number, row in enumerate(plan.rows)} if remembered else {}
        chosen: dict[int, Doing] = {}
        merged: dict[int, bytes] = {}
        stale = []
        for one in remembered:
            number = numbers.get(one.below)
            if number is not None and _holds(plan, number, one):
                chosen[number] = one.doing
                if one.merged is not None:
                    merged[number] = one.merged
            else:
                stale.append(one.below)
        if stale:
            await self._store.forget(plan.account_id, plan.pair.id, plan.wish.direction, stale)
        return SyncWanted(plan.wish, chosen, merged, len(chosen))

    async def remember(self, plan: SyncPlan, numbers: Iterable[int]) -> None:
        """Store the choices that a person made on rows. Rows without a choice are forgotten."""
        made, taken_back = [], []
        for number in numbers:
            row = plan.rows[number]
            if number in plan.chosen:
                made.append(StoredChoice(row.below, ends_of(row), plan.chosen[number], plan.merged.get(number)))
            else:
                taken_back.append(row.below)
        key = (plan.account_id, plan.pair.id, plan.wish.direction)
        if made:
            await self._store.write(*key, made)
        if taken_back:
            await self._store.forget(*key, taken_back)

    async def forget(self, plan: SyncPlan) -> None:
        """Forget all choices on a pair, when its plan is carried out or a person starts over."""
        await self._store.forget_all(plan.account_id, plan.pair.id)


def _holds(plan: SyncPlan, number: int, one: StoredChoice) -> bool:
    row = plan.rows[number]
    whole = one.merged is None or one.doing is Doing.UPLOAD
    return whole and one.ends == ends_of(row) and one.doing in choices_of(row, plan.offered.each[number])
