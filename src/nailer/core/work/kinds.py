"""Kinds of long work, and what holds for each whatever it does."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nailer.errors import NailerError


class WorkKind(StrEnum):
    """What goes on by itself once a person, or a timer, began it."""

    SCAN = "scan"
    COPY = "copy"
    SEARCH = "search"
    VERSIONS = "versions"
    REPLACEMENT = "replacement"
    BRING_BACK = "bring-back"


@dataclass(frozen=True, slots=True)
class WorkRules:
    """`program` is who acts in the log; `by_nailer`: Nailer itself, for nobody. Work that `resumes` goes on where it was
    once the process that had it is gone; other work ends as interrupted. Of work that is `alone` a site has one at a time:
    another one is refused with `busy`."""

    program: str
    resumes: bool
    alone: bool = True
    by_nailer: bool = False
    busy: str = "This is already under way."


RULES: dict[WorkKind, WorkRules] = {
    WorkKind.SCAN: WorkRules("a scan", resumes=True, busy="This site is already being scanned."),
    WorkKind.COPY: WorkRules("a copy", resumes=False, busy="A copy of this site is already being created."),
    WorkKind.SEARCH: WorkRules("a search", resumes=False, busy="A package search is already running on this site."),
    WorkKind.VERSIONS: WorkRules("a replacement", resumes=False, alone=False),
    WorkKind.REPLACEMENT: WorkRules(
        "a replacement", resumes=True, busy="A package of this site is already being replaced."
    ),
    WorkKind.BRING_BACK: WorkRules("a search", resumes=True, by_nailer=True),
}


class CutBy(StrEnum):
    """Why work ended before its end: a person stopped it, its process ended, or something failed."""

    PERSON = "person"
    RESTART = "restart"
    FAILURE = "failure"


@dataclass(frozen=True, slots=True)
class CutShort:
    """Work that ended before its end. `words` say why to a person, `error` what failed where that is known."""

    by: CutBy
    words: str
    error: NailerError | None = None
