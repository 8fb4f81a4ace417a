"""What pages hear: nothing that ended since a page was asked for goes unheard, and lists are of one moment."""

from __future__ import annotations

import json
from contextlib import aclosing
from typing import Any

import pytest

from nailer.core.jobs.states import JobState
from nailer.core.numbers import number_in
from nailer.store.database import Database, Work
from nailer.web.plans.jobs import _events
from tests.builders import write
from tests.world import World


async def first_event(world: World, since: int) -> tuple[int, dict[str, Any]]:
    """The id and the body of what a page hears first."""
    async with aclosing(
        _events(world.nailer.plans, world.nailer.editing, world.nailer.pairs, world.account_id, since)
    ) as stream:
        number, data = (await anext(stream)).encode().decode().strip().splitlines()
    return int(number.removeprefix("id: ")), json.loads(data.removeprefix("data: "))


async def test_what_ended_before_a_page_listened_is_heard_once(world: World) -> None:
    write(world.here, "a.html")
    asked_for = world.nailer.engine.live.version
    job = await world.upload("a.html")

    number, heard = await first_event(world, asked_for)
    _, again = await first_event(world, number)

    assert [one["id"] for one in heard["ended"]] == [job.id]
    assert again["ended"] == []


async def test_a_page_of_before_a_restart_hears_what_ended_since(world: World) -> None:
    """Versions begin anew with each start."""
    write(world.here, "a.html")
    job = await world.upload("a.html")

    _, heard = await first_event(world, world.nailer.engine.live.version + 1000)

    assert [one["id"] for one in heard["ended"]] == [job.id]


async def test_a_job_that_ends_while_the_lists_are_read_is_in_one_of_them(
    world: World, database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    write(world.here, "a.html")
    job = await world.upload("a.html")
    rows = Work.rows

    def state(value: JobState) -> None:
        with database._connection() as connection, connection.cursor() as cursor:
            cursor.execute("UPDATE jobs SET state = %s WHERE id = %s", (value, job.id))
            connection.commit()

    def and_then_it_ends(self: Work, name: str, /, **values: Any) -> Any:
        found = rows(self, name, **values)
        if name == "jobs.active":
            state(JobState.NEEDS_YOU)
        if name == "jobs.needing_you":
            state(JobState.RUNNING)
        return found

    state(JobState.RUNNING)
    monkeypatch.setattr(Work, "rows", and_then_it_ends)
    first = await world.nailer.stores.jobs.overview()
    state(JobState.NEEDS_YOU)
    second = await world.nailer.stores.jobs.overview()

    assert [one.id for one in first.active] == [job.id]
    assert first.needing_you == second.active == []
    assert [one.id for one in second.needing_you] == [job.id]
    assert first.counts[JobState.RUNNING] == second.counts[JobState.NEEDS_YOU] == 1


@pytest.mark.parametrize(
    ("text", "number"),
    [("0", 0), ("17", 17), ("", None), ("-1", None), ("\u0663", None), ("9" * 5000, None)],
)
def test_a_number_that_was_sent_is_read_or_is_none(text: str, number: int | None) -> None:
    assert number_in(text) == number
