"""Trees of files by path, their baseline, and plans made of them."""

from __future__ import annotations

from collections.abc import Mapping

from nailer.core.compare.joint import Baseline, Seen
from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.differences import trees_compared
from nailer.core.pairs.proposals import bars, decided, proposed
from nailer.core.pairs.steps import SyncSteps, sync_steps
from nailer.core.pairs.wishes import Direction, Doing, Removals, SyncWish
from tests.builders import NOON_S

Files = dict[str, tuple[int, int]]  # path: size, seconds after noon


PUBLISH, FETCH, LEVEL = (SyncWish(way, Removals.FOLLOW) for way in Direction)


def a_tree(files: Mapping[str, tuple[int, int]], *more: tuple[str, Entry], folders: tuple[str, ...] = ()) -> Tree:
    """A tree of files by path; `more` are other entries with the folder they lie in."""
    found: dict[RelativePath, list[Entry]] = {(): []}

    def folder(below: RelativePath) -> list[Entry]:
        if below not in found:
            found[below] = []
            folder(below[:-1]).append(Entry(below[-1], Kind.FOLDER, permissions=0o755))
        return found[below]

    for path in folders:
        folder(tuple(path.encode().split(b"/")))
    for path, (size, at) in files.items():
        *above, name = path.encode().split(b"/")
        folder(tuple(above)).append(Entry(name, Kind.FILE, size, Stamp((NOON_S + at) * NS, NS)))
    for where, entry in more:
        folder(tuple(part for part in where.encode().split(b"/") if part)).append(entry)
    return Tree(found)


def level_at(files: Mapping[str, tuple[int, int]], *folders: str) -> dict[RelativePath, dict[bytes, Baseline]]:
    """The baseline of files that were the same on both sides."""
    known: dict[RelativePath, dict[bytes, Baseline]] = {}
    for path, (size, at) in files.items():
        *above, name = path.encode().split(b"/")
        was = Seen(size, Stamp((NOON_S + at) * NS, NS))
        known.setdefault(tuple(above), {})[name] = Baseline(was, was)
    for path in folders:
        *above, name = path.encode().split(b"/")
        known.setdefault(tuple(above), {})[name] = Baseline(Seen(0, None), Seen(0, None), folder=True)
    return known


def shown(below: RelativePath) -> str:
    return b"/".join(below).decode()


def doings(
    here: Tree, there: Tree, known: dict[RelativePath, dict[bytes, Baseline]], wish: SyncWish
) -> dict[str, Doing]:
    found = trees_compared(here, there, known)
    each = proposed(found.rows, wish, bars(here, there)).each
    return {shown(row.below): doing for row, doing in zip(found.rows, each, strict=True)}


def planned(
    here: Tree,
    there: Tree,
    known: dict[RelativePath, dict[bytes, Baseline]],
    wish: SyncWish,
    chosen: Mapping[str, Doing] | None = None,
) -> SyncSteps:
    found = trees_compared(here, there, known)
    offered = proposed(found.rows, wish, bars(here, there))
    numbers = {shown(row.below): number for number, row in enumerate(found.rows)}
    each = decided(found.rows, offered, {numbers[path]: doing for path, doing in (chosen or {}).items()})
    return sync_steps(found.rows, each, here, there)
