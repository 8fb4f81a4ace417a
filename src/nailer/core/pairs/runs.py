"""How a run of a pair stands."""

from __future__ import annotations

from enum import StrEnum


class RunState(StrEnum):
    """How a run stands. `ASKED`: it touched nothing, because something needs a person."""

    RUNNING = "running"
    DONE = "done"
    NEEDS_YOU = "needs-you"
    STOPPED = "stopped"
    ASKED = "asked"


RUN_WORDS = {
    RunState.RUNNING: "running",
    RunState.DONE: "done",
    RunState.NEEDS_YOU: "needs you",
    RunState.STOPPED: "stopped",
    RunState.ASKED: "needs your decision",
}
