"""What a timer does about mails, missed times and clashes."""

from __future__ import annotations

from enum import StrEnum


class Mail(StrEnum):
    """When a timer's owner is written to."""

    NEVER = "never"
    TROUBLE = "trouble"
    ALWAYS = "always"


class Missed(StrEnum):
    """What becomes of runs whose time passed while Nailer was not running: one run for all of them, or none."""

    ONCE = "once"
    SKIP = "skip"


class Clashes(StrEnum):
    """What a run does where something needs a person: nothing at all, or everything else."""

    STOP = "stop"
    LEAVE = "leave"
