"""Which step may follow which: what has ended well is never begun again by itself, and every step leads to an end."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum

import pytest

from nailer.core.work.kinds import RULES, WorkKind
from nailer.core.work.states import COPIES, REPLACEMENTS, SCANS, SEARCHES, CopyState, ReplacementState, check
from nailer.errors import Conflict

TABLES: dict[str, tuple[Mapping[StrEnum, frozenset[StrEnum]], set[str]]] = {
    "scans": (SCANS, {"done", "stopped", "failed"}),  # type: ignore[dict-item]
    "copies": (COPIES, {"verified", "failed"}),  # type: ignore[dict-item]
    "searches": (SEARCHES, {"ended", "stopped", "failed"}),  # type: ignore[dict-item]
    "replacements": (REPLACEMENTS, {"in-place", "back", "failed", "dropped"}),  # type: ignore[dict-item]
}


@pytest.mark.parametrize(("table", "ends"), TABLES.values(), ids=TABLES)
def test_every_state_leads_to_an_end(table: Mapping[StrEnum, frozenset[StrEnum]], ends: set[str]) -> None:
    states = set(next(iter(table)).__class__)
    reached = {one for to in table.values() for one in to} | {next(iter(table))}
    assert reached == states, "every state can come about"
    for state in states:
        seen, open_ = {state}, [state]
        while open_:
            following = table.get(open_.pop(), frozenset()) - seen
            seen |= following
            open_ += following
        assert {one.value for one in seen} & ends, f"{state} leads to no end"


@pytest.mark.parametrize(
    ("was", "state"),
    [
        (ReplacementState.BACK, ReplacementState.BUILDING),
        (ReplacementState.DROPPED, ReplacementState.PLANNED),
        (ReplacementState.PLANNED, ReplacementState.IN_PLACE),
        (ReplacementState.BUILDING, ReplacementState.IN_PLACE),
        (ReplacementState.READING, ReplacementState.BUILDING),
    ],
)
def test_no_step_is_left_out(was: ReplacementState, state: ReplacementState) -> None:
    with pytest.raises(Conflict, match="has changed in the meantime"):
        check(REPLACEMENTS, was, state)
    check(REPLACEMENTS, was, was)


def test_a_copy_that_failed_is_never_verified() -> None:
    with pytest.raises(Conflict):
        check(COPIES, CopyState.FAILED, CopyState.VERIFIED)


def test_every_kind_of_work_has_its_rules() -> None:
    assert set(RULES) == set(WorkKind)
    assert all(rules.busy for rules in RULES.values())
