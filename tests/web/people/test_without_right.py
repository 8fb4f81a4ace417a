"""What somebody left behind who may no longer do it: invitations, and timers that run in their name."""

from __future__ import annotations

import asyncio
from datetime import timedelta
from typing import Any

import pytest

from nailer.core.compare.joint import Compare
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.schedule import Every, Schedule
from nailer.core.jobs.timers import Clashes, Mail, Missed
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.wishes import Direction, Removals, SyncWish
from nailer.core.people.rights import Right
from nailer.store.database import utc_now
from nailer.store.timers import NewTimer
from tests.builders import tree, write
from tests.web.conftest import Visitor
from tests.web.people.conftest import another, grant, number_of, portal_of
from tests.web.people.test_accounts import come_in, invited

GONE = ["removed", "deactivated", "manages nobody"]


def _let_go(maren: Visitor, name: str, how: str) -> None:
    nailer, portal = maren.nailer, portal_of(maren)
    account_id = portal.call(nailer.people.accounts.by_name, name).id
    if how == "removed":
        heir = portal.call(nailer.people.accounts.by_name, "maren")
        portal.call(nailer.people.accounts.remove, account_id, heir.id)
        return
    column = "is_off = 1" if how == "deactivated" else "is_admin = 0"
    with nailer.stores.database.writing() as work:
        work._cursor.execute(f"UPDATE accounts SET {column} WHERE id = %s", (account_id,))


@pytest.mark.parametrize("how", GONE)
def test_an_invitation_ends_with_the_right_of_who_made_it(maren: Visitor, how: str) -> None:
    site = maren.open_site()
    nailer, portal = maren.nailer, portal_of(maren)
    with another(maren, "tam", {}) as tam:
        account_id = portal.call(nailer.people.accounts.by_name, "tam").id
        with nailer.stores.database.writing() as work:
            work._cursor.execute("UPDATE accounts SET is_admin = 1 WHERE id = %s", (account_id,))
        link = invited(tam, site)
        still = invited(maren, site)
        _let_go(maren, "tam", how)
        people = len(portal.call(nailer.people.accounts.all))

        assert tam.client.get(link).status_code == 404
        assert come_in(tam, link).status_code == 404
        assert len(portal.call(nailer.people.accounts.all)) == people
        assert len(portal.call(nailer.people.invitations.all)) == 1
        assert tam.client.get(still).status_code == 200, "another's invitation stays"


@pytest.mark.parametrize("how", ["deactivated", "site taken", "only looks", "another folder"])
def test_a_timer_does_nothing_without_the_right_of_who_made_it(maren: Visitor, how: str) -> None:
    site = maren.open_site()
    write(maren.here, "index.html", "new")
    nailer, portal = maren.nailer, portal_of(maren)
    with another(maren, "tam", {number_of(site): grant(*Right)}):
        account_id = portal.call(nailer.people.accounts.by_name, "tam").id
        stored = portal.call(nailer.stores.sites.get, number_of(site))
        pair = portal.call(nailer.stores.pairs.add, stored.id, _path("/studio/moss"), _path("/htdocs"), "htdocs")
        wish = SyncWish(Direction.PUBLISH, Removals.FOLLOW)
        schedule = Schedule(Every.DAILY, "06:30", "Europe/London")
        timer = NewTimer(
            account_id,
            pair.id,
            "Mornings",
            wish,
            Compare.SIZE_AND_TIME,
            schedule,
            Mail.NEVER,
            Missed.ONCE,
            Clashes.STOP,
        )
        timer_id = portal.call(nailer.stores.timers.add, timer)
        if how in GONE:
            _let_go(maren, "tam", how)
        elif how == "site taken":
            portal.call(nailer.people.rights.take, account_id, stored)
        else:
            less = (
                grant(Right.LOOK) if how == "only looks" else grant(*Right, there="/htdocs/news", here="/studio/news")
            )
            portal.call(nailer.stores.grants.give, account_id, stored.id, less)
        with nailer.stores.database.writing() as work:
            work._cursor.execute("UPDATE timers SET next_at = %s", (utc_now() - timedelta(seconds=5),))

        runs = portal.call(_tried, nailer, timer_id)

    assert tree(maren.there) == {}
    assert all(run.state is not RunState.DONE for run in runs)
    if how in ("site taken", "only looks", "another folder"):
        assert runs, "whoever looks at the timer reads why it does nothing"
        assert runs[0].told


async def _tried(nailer: Any, timer_id: int) -> list[Any]:
    """The runs of a timer after its time has come and gone."""
    for _ in range(100):
        runs: list[Any] = await nailer.stores.pairs.runs_of_timer(timer_id)
        if runs and runs[0].state is not RunState.RUNNING:
            return runs
        await asyncio.sleep(0.03)
    return []


def _path(text: str) -> SitePath:
    return SitePath.parse(text.encode())
