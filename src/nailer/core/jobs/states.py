"""The states of jobs and of their items, and which may follow which. Everything else in Nailer asks these tables.

A job is `planned` while a person reads it: nothing has happened and nothing will by itself. Confirmed, it is `waiting`
for a runner, `running` under a lease, and ends `done`, `stopped` by a person, or in `needs you`: some items failed and
only a person can say what now. `waiting` after `running` happens when a runner dies and its lease ends.

An item waits and ends done, failed or left out; that it is under way is known only to the runner that carries it. When
a runner dies its items are still waiting, and the next one looks at both ends before it does anything.
"""

from __future__ import annotations

from enum import StrEnum

from nailer.errors import Conflict


class JobState(StrEnum):
    PLANNED = "planned"
    WAITING = "waiting"
    RUNNING = "running"
    PAUSED = "paused"
    DONE = "done"
    STOPPED = "stopped"
    NEEDS_YOU = "needs-you"


JOB_WORDS = {
    JobState.PLANNED: "a plan",
    JobState.WAITING: "waiting",
    JobState.RUNNING: "running",
    JobState.PAUSED: "paused",
    JobState.DONE: "done",
    JobState.STOPPED: "stopped",
    JobState.NEEDS_YOU: "needs you",
}

_JOB_FOLLOWS: dict[JobState, frozenset[JobState]] = {
    JobState.PLANNED: frozenset({JobState.WAITING, JobState.RUNNING}),
    JobState.WAITING: frozenset({JobState.RUNNING, JobState.STOPPED, JobState.PAUSED}),
    JobState.RUNNING: frozenset(
        {JobState.DONE, JobState.STOPPED, JobState.NEEDS_YOU, JobState.WAITING, JobState.PAUSED}
    ),
    JobState.PAUSED: frozenset({JobState.WAITING, JobState.STOPPED}),
    JobState.DONE: frozenset(),
    JobState.STOPPED: frozenset({JobState.WAITING}),
    JobState.NEEDS_YOU: frozenset({JobState.WAITING, JobState.STOPPED}),
}


class JobWish(StrEnum):
    """What a person wants of a running job."""

    GO_ON = "go-on"
    PAUSE = "pause"
    STOP = "stop"


class ItemState(StrEnum):
    WAITING = "waiting"
    DONE = "done"
    FAILED = "failed"
    LEFT = "left"


_ITEM_FOLLOWS: dict[ItemState, frozenset[ItemState]] = {
    ItemState.WAITING: frozenset({ItemState.DONE, ItemState.FAILED, ItemState.LEFT}),
    ItemState.DONE: frozenset(),
    ItemState.FAILED: frozenset({ItemState.WAITING, ItemState.LEFT}),
    ItemState.LEFT: frozenset(),
}

ACTIVE = frozenset({JobState.WAITING, JobState.RUNNING, JobState.PAUSED})
ENDED = frozenset({JobState.DONE, JobState.STOPPED, JobState.NEEDS_YOU})


def may_follow(now: JobState, after: JobState) -> bool:
    """True where a job in one state may come into another."""
    return after in _JOB_FOLLOWS[now]


def check_job(now: JobState, after: JobState) -> JobState:
    """`after`, where it may follow `now`. Raises Conflict in words a person can read where it may not."""
    if not may_follow(now, after):
        raise Conflict(f"A job that is {JOB_WORDS[now]} cannot become {JOB_WORDS[after]}.")
    return after


def check_item(now: ItemState, after: ItemState) -> ItemState:
    """`after`, where it may follow `now`. Raises Conflict where it may not: nothing ends twice."""
    if after not in _ITEM_FOLLOWS[now]:
        raise Conflict(f"An item that is {now} cannot become {after}.")
    return after


def ended_as(*, failed: int, waiting: int, wish: JobWish = JobWish.GO_ON) -> JobState:
    """How a job ends, or pauses, from what became of its items and what was wanted of it.

    >>> ended_as(failed=0, waiting=0, wish=JobWish.PAUSE)
    <JobState.DONE: 'done'>
    """
    if wish is JobWish.STOP:
        return JobState.STOPPED
    if wish is JobWish.PAUSE and waiting:
        return JobState.PAUSED
    return JobState.NEEDS_YOU if failed or waiting else JobState.DONE
