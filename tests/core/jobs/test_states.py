"""Which state may follow which."""

from __future__ import annotations

import pytest

from nailer.core.jobs.states import ENDED, ItemState, JobState, JobWish, check_item, check_job, ended_as, may_follow
from nailer.errors import Conflict


def test_ended_states_only_begin_again_by_waiting() -> None:
    for state in ENDED:
        assert {after for after in JobState if may_follow(state, after)} <= {JobState.WAITING, JobState.STOPPED}
    with pytest.raises(Conflict):
        check_job(JobState.DONE, JobState.RUNNING)
    with pytest.raises(Conflict):
        check_item(ItemState.DONE, ItemState.FAILED)
    assert check_item(ItemState.FAILED, ItemState.WAITING) is ItemState.WAITING


@pytest.mark.parametrize(
    ("failed", "waiting", "wish", "state"),
    [
        (0, 0, JobWish.GO_ON, JobState.DONE),
        (1, 0, JobWish.GO_ON, JobState.NEEDS_YOU),
        (0, 3, JobWish.GO_ON, JobState.NEEDS_YOU),
        (1, 3, JobWish.STOP, JobState.STOPPED),
        (0, 3, JobWish.PAUSE, JobState.PAUSED),
        (1, 0, JobWish.PAUSE, JobState.NEEDS_YOU),
    ],
)
def test_how_a_job_ends(failed: int, waiting: int, wish: JobWish, state: JobState) -> None:
    assert ended_as(failed=failed, waiting=waiting, wish=wish) is state
