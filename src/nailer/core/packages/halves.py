"""The search for what breaks a page: packages are set aside by halves, and a test says each time whether it is broken.

One culprit is assumed first and found in about log2(n) tests. Where that does not hold, groups are split ever smaller
(delta debugging), until a set is left of which none can be missed: two that only fail together are found so. What else
breaks the page by itself is found by searching again among the rest. The search is a generator: it gives the packages that
are to be *in*, takes whether the page was broken then, and knows no server. The same answers lead the same way, so that a
search that was cut goes on from its list of answers.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from math import ceil, log2


class Ended(StrEnum):
    """How a search ended."""

    FOUND = "found"
    NOT_AMONG = "not among them"
    NOT_BROKEN = "not broken"
    BOUND = "too many tests"


@dataclass(frozen=True, slots=True)
class Culprits:
    """What was found: groups of packages, each of which breaks the page by itself; those in one group only together. `tests`
    is how many were made. `suspects`: where the search stopped, what is still in doubt."""

    ended: Ended
    groups: tuple[tuple[int, ...], ...] = ()
    tests: int = 0
    suspects: tuple[int, ...] = ()


Search = Generator[frozenset[int], bool, Culprits]


_Asking = Generator[frozenset[int], bool, bool]
_Test = Callable[[Sequence[int]], _Asking]
_Grouping = Generator[frozenset[int], bool, list[int]]


class _Enough(Exception):
    """The bound is reached."""


def usual_tests(count: int) -> int:
    """How many tests find one culprit among so many.

    >>> [usual_tests(count) for count in (1, 2, 20, 64)]
    [4, 5, 9, 10]
    """
    return ceil(log2(max(1, count))) + 4


def most_tests(count: int) -> int:
    """The bound of a search: enough for two culprits, or for two that only fail together, among so many."""
    return 4 * usual_tests(count) + 2 * count


def search(order: Sequence[int], most: int) -> Search:
    """Search among packages, by their numbers, the most suspect first, with at most so many tests. The first test has all of
    them in (it must be broken), the second none (it must not be)."""
    asked: dict[frozenset[int], bool] = {}

    def test(inside: Sequence[int]) -> _Asking:
        key = frozenset(inside)
        if key not in asked:
            if len(asked) >= most:
                raise _Enough
            asked[key] = yield key
        return asked[key]

    rest, groups = list(order), []
    try:
        if not (yield from test(rest)):
            return Culprits(Ended.NOT_BROKEN, tests=len(asked))
        if (yield from test([])):
            return Culprits(Ended.NOT_AMONG, tests=len(asked))
        while rest and (yield from test(rest)):
            group = yield from _one_group(rest, test)
            groups.append(tuple(group))
            rest = [one for one in rest if one not in group]
    except _Enough:
        return Culprits(Ended.BOUND, tuple(groups), len(asked), tuple(rest))
    return Culprits(Ended.FOUND, tuple(groups), len(asked))


def _one_group(order: list[int], test: _Test) -> _Grouping:
    """The smallest set among these that breaks the page: as if there were one culprit, then by ever smaller groups."""
    left = order
    while len(left) > 1:
        middle = (len(left) + 1) // 2
        left = left[:middle] if (yield from test(left[:middle])) else left[middle:]
    if (yield from test(left)):
        return left
    return (yield from _smallest(order, test))


def _smallest(broken: list[int], test: _Test) -> _Grouping:
    """Delta debugging (Zeller and Hildebrandt): a set of which none can be missed for the page to be broken."""
    parts = 2
    while len(broken) > 1:
        size = ceil(len(broken) / parts)
        groups = [broken[start : start + size] for start in range(0, len(broken), size)]
        for group in groups:
            if (yield from test(group)):
                broken, parts = group, 2
                break
        else:
            for group in groups if len(groups) > 2 else ():
                others = [one for one in broken if one not in group]
                if (yield from test(others)):
                    broken, parts = others, max(2, parts - 1)
                    break
            else:
                if parts >= len(broken):
                    break
                parts = min(len(broken), parts * 2)
    return broken


def resumed(
    order: Sequence[int], most: int, answers: Sequence[bool]
) -> tuple[Search, frozenset[int] | None, Culprits | None]:
    """A search that has had these answers: it, what is to be in for the next test, and what was found where it has ended."""
    running = search(order, most)
    try:
        wanted = next(running)
        for answer in answers:
            wanted = running.send(answer)
    except StopIteration as ended:
        found: Culprits = ended.value
        return running, None, found
    return running, wanted, None
