"""How far each kind of long work is, and which step may follow which."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import TypeVar

from nailer.errors import Conflict

_S = TypeVar("_S", bound=StrEnum)


class ScanState(StrEnum):
    SCANNING = "scanning"
    DONE = "done"
    STOPPED = "stopped"
    FAILED = "failed"


class CopyState(StrEnum):
    COPYING = "copying"
    VERIFIED = "verified"
    FAILED = "failed"


class SearchState(StrEnum):
    SEARCHING = "searching"
    ENDED = "ended"
    STOPPED = "stopped"
    FAILED = "failed"


class ReplacementState(StrEnum):
    """How far it is: both versions are read; a person reads the plan; the new version is built beside the old one; names are
    exchanged; pages are looked at. It ends in place, restored, failed (with nothing changed, unless its words say so), or
    dropped before anything was done."""

    READING = "reading"
    PLANNED = "planned"
    BUILDING = "building"
    SWAPPING = "swapping"
    LOOKING = "looking"
    RESTORING = "restoring"
    IN_PLACE = "in-place"
    BACK = "back"
    FAILED = "failed"
    DROPPED = "dropped"


SCANS: Mapping[ScanState, frozenset[ScanState]] = {
    ScanState.SCANNING: frozenset({ScanState.DONE, ScanState.STOPPED, ScanState.FAILED}),
}

COPIES: Mapping[CopyState, frozenset[CopyState]] = {
    CopyState.COPYING: frozenset({CopyState.VERIFIED, CopyState.FAILED}),
}

SEARCHES: Mapping[SearchState, frozenset[SearchState]] = {
    SearchState.SEARCHING: frozenset({SearchState.ENDED, SearchState.STOPPED, SearchState.FAILED}),
    SearchState.STOPPED: frozenset({SearchState.SEARCHING}),
    SearchState.FAILED: frozenset({SearchState.SEARCHING}),
}

_R = ReplacementState
REPLACEMENTS: Mapping[ReplacementState, frozenset[ReplacementState]] = {
    _R.READING: frozenset({_R.PLANNED, _R.FAILED, _R.DROPPED}),
    _R.PLANNED: frozenset({_R.READING, _R.BUILDING, _R.DROPPED}),
    _R.BUILDING: frozenset({_R.SWAPPING, _R.FAILED}),
    _R.SWAPPING: frozenset({_R.LOOKING, _R.FAILED}),
    _R.LOOKING: frozenset({_R.IN_PLACE, _R.RESTORING, _R.FAILED}),
    _R.RESTORING: frozenset({_R.BACK, _R.IN_PLACE, _R.FAILED}),
    _R.IN_PLACE: frozenset({_R.RESTORING}),
    _R.FAILED: frozenset({_R.BUILDING, _R.READING, _R.DROPPED, _R.IN_PLACE}),
}
UNDER_WAY = (_R.BUILDING, _R.SWAPPING, _R.LOOKING, _R.RESTORING)


def check(table: Mapping[_S, frozenset[_S]], was: _S, state: _S) -> None:
    """Raises Conflict where a state cannot become another."""
    if was is not state and state not in table.get(was, frozenset()):
        raise Conflict(f"This has changed in the meantime: it is {was} now. Reload the page.")
