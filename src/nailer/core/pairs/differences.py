"""What differs between two trees and their baseline, laid side by side."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace

from nailer.core.compare.joint import Baseline, Compare, Joint, Standing, joint_of
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import spelled
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.rows import Comparison, SyncRow

Baselines = Mapping[RelativePath, Mapping[bytes, Baseline]]


Held = Callable[[RelativePath, Entry | None, Entry | None], str]


def _nothing_held(_: RelativePath, __: Entry | None, ___: Entry | None) -> str:
    return ""


def trees_compared(
    here: Tree,
    there: Tree,
    baselines: Baselines,
    *,
    compare: Compare = Compare.SIZE_AND_TIME,
    equal: Mapping[RelativePath, bool] | None = None,
    held: Held = _nothing_held,
) -> Comparison:
    """Lay two trees side by side. `equal` says of files of one size whether their contents are the same, where they were
    read; `held` names the sieve that holds a name back, with what each side has of it ('' for none)."""
    walk = _Comparing(here, there, baselines, compare, equal or {}, held)
    while walk.waiting:
        walk.folder(walk.waiting.pop())
    walk.rows.sort(key=lambda row: row.below)
    return Comparison(_with_held_folders(walk.rows), walk.same, walk.level, walk.gone)


class _Comparing:
    """One walk over both trees. `waiting` are folders still to be laid side by side."""

    def __init__(
        self,
        here: Tree,
        there: Tree,
        baselines: Baselines,
        compare: Compare,
        equal: Mapping[RelativePath, bool],
        held: Held,
    ) -> None:
        self.here, self.there, self.baselines = here, there, baselines
        self.compare, self.equal, self.held = compare, equal, held
        self.rows: list[SyncRow] = []
        self.level: list[RelativePath] = []
        self.gone: list[RelativePath] = []
        self.same = 0
        self.waiting: list[RelativePath] = [()]

    def folder(self, folder: RelativePath) -> None:
        """Lay the names of one folder side by side; folders in it wait for their turn."""
        trouble = self.here.problems.get(folder) or self.there.problems.get(folder)
        if trouble is not None:
            self.rows.append(SyncRow(folder, None, None, Standing(Joint.NOT_READ, trouble)))
            return
        known = self.baselines.get(folder, {})
        slow, met = self._not_as_before(folder, known)
        if met < len(known):
            self._note_gone(folder, known)
        found = [row for name, near, far in slow if (row := self._name(folder, name, near, far, known.get(name)))]
        self.rows += _with_twins(found)

    def _not_as_before(
        self, folder: RelativePath, known: Mapping[bytes, Baseline]
    ) -> tuple[list[tuple[bytes, Entry | None, Entry | None]], int]:
        """The names of a folder that are not both as they were when level, and how many names the baseline knows.

        Nearly every name of a pair ends here, so nothing is made for one that is as it was.
        """
        slow: list[tuple[bytes, Entry | None, Entry | None]] = []
        others = {entry.name: entry for entry in self.there.folders.get(folder, ())}
        met, same, contents_count, file = 0, 0, bool(self.equal), Kind.FILE
        for one in self.here.folders.get(folder, ()):
            name = one.name
            other = others.pop(name, None)
            before = known.get(name)
            if before is not None:
                met += 1
                if other is not None and one.kind is file and other.kind is file and not contents_count:
                    was_here, was_there, now_here, now_there = before.here, before.there, one.stamp, other.stamp
                    if (
                        one.size == was_here.size
                        and other.size == was_there.size
                        and now_here is not None
                        and now_there is not None
                        and was_here.stamp is not None
                        and was_there.stamp is not None
                        and now_here.at_ns == was_here.stamp.at_ns
                        and now_there.at_ns == was_there.stamp.at_ns
                        and not before.folder
                    ):
                        same += 1
                        continue
            slow.append((name, one, other))
        slow += [(name, None, alone) for name, alone in others.items()]
        met += sum(name in known for name in others) if known else 0
        self.same += same
        return slow, met

    def _note_gone(self, folder: RelativePath, known: Mapping[bytes, Baseline]) -> None:
        """Names of the baseline that neither side has. Where a listing may hide one, it is not known to be gone."""
        trees = (self.here, self.there)
        names = {entry.name for tree in trees for entry in tree.folders.get(folder, ())}
        self.gone += [
            (*folder, name)
            for name in known
            if name not in names and not any(tree.may_hide((*folder, name)) for tree in trees)
        ]

    def _name(
        self, folder: RelativePath, name: bytes, near: Entry | None, far: Entry | None, before: Baseline | None
    ) -> SyncRow | None:
        """The row of a name, or None where there is nothing to say of it."""
        below = (*folder, name)
        why = self.held(below, near, far)
        problem = self.here.problems.get(below) or self.there.problems.get(below)
        if problem is not None and not why:
            return SyncRow(below, near, far, Standing(Joint.NOT_READ, problem), before)
        if near is not None and far is not None and near.is_folder and far.is_folder:
            if not why:
                self.waiting.append(below)
                if before is None or not before.folder:
                    self.level.append(below)
            return None
        unsure = self._unsure(below, near, far)
        equal = self.equal.get(below)
        standing = joint_of(near, far, before, compare=self.compare, equal=equal, unsure=unsure)
        if standing.joint is Joint.SAME:
            is_file = near is not None and near.is_file
            self.same += is_file
            if is_file and not why:
                self.level.append(below)
            return None
        if not why and not unsure and all(side is None or side.is_folder for side in (near, far)):
            self.waiting.append(below)
        return SyncRow(below, near, far, standing, before, why)

    def _unsure(self, below: RelativePath, near: Entry | None, far: Entry | None) -> str:
        """Why a name that one side does not show may be there all the same; '' where it is known not to be."""
        if near is None:
            return self.here.may_hide(below)
        return self.there.may_hide(below) if far is None else ""


def _with_held_folders(rows: list[SyncRow]) -> list[SyncRow]:
    """A folder of one side stays behind with its content, where all of that is held back: it would be empty."""
    if not any(row.held for row in rows):
        return rows
    held: dict[RelativePath, str] = {}
    free: set[RelativePath] = set()
    found = list(rows)
    for number in range(len(rows) - 1, -1, -1):
        row = rows[number]
        if not row.below:
            continue
        one_sided = row.is_folder and (row.here is None) is not (row.there is None)
        why = row.held or (held.get(row.below, "") if one_sided and row.below not in free else "")
        if why and not row.held:
            found[number] = replace(row, held=why)
        if why:
            held.setdefault(row.below[:-1], why)
        else:
            free.add(row.below[:-1])
    return found


def _with_twins(rows: list[SyncRow]) -> list[SyncRow]:
    """Rows of one folder; those that differ only in spelling from a name of the other side know each other."""
    alone: dict[str, list[SyncRow]] = defaultdict(list)
    for row in rows:
        if (row.here is None) is not (row.there is None):
            alone[spelled(row.below[-1])].append(row)
    twins = {}
    for group in alone.values():
        if len(group) == 2 and (group[0].here is None) is not (group[1].here is None):
            one, other = group
            if one.entry.kind is other.entry.kind:
                twins[one.below], twins[other.below] = other.below, one.below
    return [replace(row, twin=twins[row.below]) if row.below in twins else row for row in rows] if twins else rows


def same_sized(here: Tree, there: Tree, held: Held = _nothing_held) -> Iterator[tuple[RelativePath, Entry, Entry]]:
    """Files of one size on both sides: those whose contents must be compared where size and time are not to be trusted."""
    for folder, entries in here.folders.items():
        others = {entry.name: entry for entry in there.folders.get(folder, ())}
        for one in entries:
            other = others.get(one.name)
            if other is not None and one.is_file and other.is_file and one.size == other.size:
                below = (*folder, one.name)
                if not held(below, one, other):
                    yield below, one, other


def hardly_the_same(here: Tree, there: Tree) -> bool:
    """True where two trees share hardly a name at their top although both hold some: perhaps this is the wrong pair."""
    ours = {entry.name for entry in here.folders.get((), ())}
    theirs = {entry.name for entry in there.folders.get((), ())}
    return min(len(ours), len(theirs)) >= 4 and len(ours & theirs) / min(len(ours), len(theirs)) < 0.1
