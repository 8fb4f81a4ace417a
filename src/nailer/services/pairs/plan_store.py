"""Sync plans that people work with. They are kept in memory, behind one class, so that a database can keep them later."""

from __future__ import annotations

import time
from collections import OrderedDict

from nailer.engine.tasks import Background
from nailer.errors import (
    NotFound,
)
from nailer.services.pairs.plan import SyncPlan
from nailer.store.pairs import Pair

_MOST_PLANS = 12
_MOST_KEPT = 2_000_000
_KEPT_S = 3600.0


class PlanStore:
    """Plans by their token, each of one person. The oldest go where they grow too many or hold too many names."""

    def __init__(self) -> None:
        self._plans: OrderedDict[str, SyncPlan] = OrderedDict()
        self.reading = Background()

    def add(self, plan: SyncPlan) -> None:
        """Keep a plan; an earlier one of the same pair and person is let go, and whatever is too old or too much."""
        for token, old in list(self._plans.items()):
            same = (old.account_id, old.pair.id) == (plan.account_id, plan.pair.id)
            if same or time.monotonic() - old.begun_s > _KEPT_S:
                self.drop(token)
        while self._plans and (
            len(self._plans) >= _MOST_PLANS or sum(one.names for one in self._plans.values()) > _MOST_KEPT
        ):
            self.drop(next(iter(self._plans)))
        self._plans[plan.token] = plan

    def holds(self, plan: SyncPlan) -> bool:
        """True where the store keeps this plan for a page. The plans of timers are not kept."""
        return plan.token in self._plans

    async def close(self) -> None:
        """End every reading that is under way."""
        await self.reading.close()

    def plan(self, token: str, account_id: int) -> SyncPlan:
        """A plan of this account. Raises NotFound."""
        plan = self._plans.get(token)
        if plan is None or plan.account_id != account_id:
            raise NotFound("This plan has expired. Read both sides again.")
        return plan

    def latest(self, account_id: int, pair: Pair) -> SyncPlan | None:
        """The reading of a pair that this person works with, where there is one."""
        for plan in reversed(self._plans.values()):
            if (plan.account_id, plan.pair.id) == (account_id, pair.id):
                return plan
        return None

    def let_go(self, plan: SyncPlan) -> None:
        """Forget a reading; one that is under way is cancelled."""
        self.drop(plan.token)

    def drop(self, token: str) -> None:
        """Forget a plan; a reading under way is cancelled."""
        self._plans.pop(token, None)
        self.reading.cancel(token)
