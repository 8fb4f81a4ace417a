"""Ways back for a site that is broken, in the order in which a person should try them: what costs least first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from nailer.core.packages.halves import most_tests, usual_tests
from nailer.core.words import count_text, span_text


class WayKind(StrEnum):
    """What a way back does."""

    VERSION = "version"
    CHANGE = "change"
    ASIDE = "aside"
    COPY = "copy"
    SEARCH = "search"


@dataclass(frozen=True, slots=True)
class LastChange:
    """Something that changed the site and can be taken back: a version that was replaced, a job, or one change. `number` is
    that of the replacement, job or change; `names` how many names it changed."""

    kind: WayKind
    number: int
    words: str
    at: datetime
    by: str
    names: int = 1
    is_job: bool = False


@dataclass(frozen=True, slots=True)
class LastCopy:
    """The newest whole copy of a folder, and how the test of its restore went ('' for none)."""

    number: int
    folder: str
    at: datetime
    files: int
    restore_test: str


@dataclass(frozen=True, slots=True)
class WayBack:
    """One way back: what it does, what it costs, and what it is about."""

    kind: WayKind
    title: str
    cost: str
    number: int
    at: datetime | None = None
    is_job: bool = False


_MOST_CHANGES = 3
_TEST_S = 2.0


def ways_back(
    changes: Sequence[LastChange], copies: Sequence[LastCopy], packages: int | None, now: datetime
) -> tuple[WayBack, ...]:
    """The ways back: the last changes, newest first; then the newest copies; then the search by halves among so many
    packages (None: nobody has looked for them yet)."""
    ways = [_of_change(one) for one in sorted(changes, key=lambda one: one.at, reverse=True)[:_MOST_CHANGES]]
    ways += [_of_copy(one, now) for one in sorted(copies, key=lambda one: one.at, reverse=True)]
    if packages is None or packages > 0:
        ways.append(_of_search(packages))
    return tuple(ways)


def _of_change(one: LastChange) -> WayBack:
    by = f", by {one.by}" if one.by else ""
    match one.kind:
        case WayKind.VERSION:
            cost = "Two renames restore the old version at once. Nailer checks the pages before and after."
        case WayKind.ASIDE:
            cost = "One rename brings the package back."
        case _:
            names = count_text(one.names, "item")
            cost = (
                f"A plan first shows what will be restored: {names}. Files changed since then are skipped and listed."
            )
    return WayBack(one.kind, f"{one.words}{by}", cost, one.number, one.at, one.is_job)


def _of_copy(one: LastCopy, now: datetime) -> WayBack:
    age = span_text((now - one.at).total_seconds())
    proof = f"restore tested: {one.restore_test}" if one.restore_test else "restore not tested yet"
    cost = f"This also undoes changes made in the last {age}. A plan lists them first. {proof[:1].upper()}{proof[1:]}."
    return WayBack(WayKind.COPY, f"{one.folder} as copied, {count_text(one.files, 'file')}", cost, one.number, one.at)


def _of_search(packages: int | None) -> WayBack:
    if packages is None:
        cost = (
            "Nailer first lists the packages. During the search, visitors miss some of them; everything is "
            "restored at the end."
        )
        return WayBack(WayKind.SEARCH, "Search for the package that breaks it", cost, 0)
    usual, most = usual_tests(packages), most_tests(packages)
    span = span_text(usual * _TEST_S)
    cost = (
        f"About {count_text(usual, 'test')} (at most {most}), roughly {span}. Visitors miss some packages "
        "meanwhile. Everything is restored at the end, even if the search fails."
    )
    return WayBack(
        WayKind.SEARCH, f"Search {count_text(packages, 'package')} for the one that breaks the page", cost, 0
    )
