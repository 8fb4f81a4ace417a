"""Ordered steps for each side of a pair, out of what was decided; and what goes where in all."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.names import free_name, landing_rank
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.differences import Held, _nothing_held
from nailer.core.pairs.rows import Decisions, SyncRow
from nailer.core.pairs.wishes import Doing
from nailer.core.plans.plan import Action, PlanStep, Verdict, is_newer

REMOVED_SHARE = 0.10  # past this share of a side's files a removal needs a typed word


# Why a name of a side may not go; '' where it may.
Kept = Callable[[SideName, RelativePath], str]


def _nothing_kept(_side: SideName, _below: RelativePath) -> str:
    return ""


def removals_share(tree: Tree, removed: int) -> float:
    """The share of a side's files that would be removed, from 0 to 1."""
    return removed / max(1, tree.files)


@dataclass(frozen=True, slots=True)
class SyncSteps:
    """The ordered steps that change each side. `left` are rows that cannot be done as wished, with why."""

    here: list[PlanStep]
    there: list[PlanStep]
    left: list[tuple[RelativePath, str]]

    def on(self, side: SideName) -> list[PlanStep]:
        """The steps that change one side."""
        return self.here if side is SideName.HERE else self.there


def sync_steps(
    rows: Sequence[SyncRow],
    doings: Decisions,
    here: Tree,
    there: Tree,
    held: Held = _nothing_held,
    kept: Kept = _nothing_kept,
) -> SyncSteps:
    """The steps for what was decided, in an order that can always be carried out: what stands in the way of another kind
    goes first, then folders from the top down, renamings, files (pages after what they refer to), and removals at the very
    end, from the bottom up. A folder goes only where everything in it goes, and what is `kept` stays."""
    making = {
        SideName.HERE: _Making(SideName.HERE, here, there, held, kept),
        SideName.THERE: _Making(SideName.THERE, there, here, held, kept),
    }
    for number, row in enumerate(rows):
        doing = doings.each[number]
        partner = doings.goes_with.get(number)
        old = rows[partner].below if partner is not None else row.twin
        match doing:
            case Doing.UPLOAD:
                making[SideName.THERE].transfer(row, row.here, row.there)
            case Doing.DOWNLOAD:
                making[SideName.HERE].transfer(row, row.there, row.here)
            case Doing.REMOVE_THERE:
                making[SideName.THERE].remove(row)
            case Doing.REMOVE_HERE:
                making[SideName.HERE].remove(row)
            case Doing.RENAME_THERE | Doing.RENAME_HERE:
                side = SideName.THERE if doing is Doing.RENAME_THERE else SideName.HERE
                making[side].rename(row, old)
            case Doing.BOTH:
                _keep_both(row, making)
            case Doing.ALONG | Doing.DECIDE | Doing.LEAVE | Doing.STAYS:
                pass
    found = {side: one.steps() for side, one in making.items()}
    return SyncSteps(
        found[SideName.HERE], found[SideName.THERE], making[SideName.HERE].left + making[SideName.THERE].left
    )


def _keep_both(row: SyncRow, making: Mapping[SideName, _Making]) -> None:
    """Both contents end on both sides: ours goes there under a free name first, takes that name here, and theirs comes."""
    if row.here is None or row.there is None:
        return
    near, far = making[SideName.HERE], making[SideName.THERE]
    name = free_name(row.below[-1], near.names(row.below[:-1]) | far.names(row.below[:-1]))
    free = (*row.below[:-1], name)
    far.carries.append(
        PlanStep(Action.TRANSFER, row.below, free, row.here, Verdict.NEW, "our version, saved next to theirs")
    )
    near.moves.append(
        PlanStep(Action.MOVE, row.below, free, row.here, Verdict.NEW, "our version, saved next to theirs")
    )
    near.carries.append(PlanStep(Action.TRANSFER, row.below, row.below, row.there, Verdict.NEW, "theirs"))


class _Making:
    """Collects the steps of one side. `own` is its tree, `other` the tree it becomes like."""

    def __init__(self, side: SideName, own: Tree, other: Tree, held: Held, kept: Kept) -> None:
        self._side, self._own, self._other, self._held, self._kept = side, own, other, held, kept
        self.left: list[tuple[RelativePath, str]] = []
        self.cleared: list[PlanStep] = []
        self.folders: dict[RelativePath, PlanStep] = {}
        self.moves: list[PlanStep] = []
        self.carries: list[PlanStep] = []
        self.removed: list[PlanStep] = []
        self.removed_folders: list[PlanStep] = []
        self._taken: dict[RelativePath, set[bytes]] = {}

    def names(self, folder: RelativePath) -> set[bytes]:
        """What is in a folder of this side, and what was promised a name in it."""
        if folder not in self._taken:
            self._taken[folder] = {entry.name for entry in self._own.folders.get(folder, ())}
        return self._taken[folder]

    def transfer(self, row: SyncRow, source: Entry | None, target: Entry | None) -> None:
        """Carry the row's file or folder to this side."""
        if source is None:
            return
        if target is not None and target.kind is not source.kind:
            if not self._clear(row.below, target):
                return
            target = None
            if source.is_folder:
                self._make(row.below, source, row.reason)
                for below, entry in self._other.under(row.below):
                    self._transfer_inside(below, entry, row.reason)
                return
        if source.is_folder:
            self._make(row.below, source, row.reason)
            return
        self._parents(row.below)
        verdict = Verdict.NEW
        if target is not None:
            verdict = Verdict.REPLACES_NEWER if is_newer(target, source) else Verdict.REPLACES
        self.carries.append(PlanStep(Action.TRANSFER, row.below, row.below, source, verdict, row.reason, target))

    def _transfer_inside(self, below: RelativePath, entry: Entry, reason: str) -> None:
        sides = (None, entry) if self._side is SideName.HERE else (entry, None)
        if self._held(below, *sides) or entry.kind in (Kind.LINK, Kind.OTHER):
            return
        if entry.is_folder:
            self._make(below, entry, reason)
        else:
            self._parents(below)
            self.carries.append(PlanStep(Action.TRANSFER, below, below, entry, Verdict.NEW, reason))

    def remove(self, row: SyncRow) -> None:
        """Remove the row's name from this side; what is in a folder goes before it."""
        entry = row.there if self._side is SideName.THERE else row.here
        if entry is None:
            return
        if why := self._kept(self._side, row.below):
            self.left.append((row.below, why))
            return
        self.names(row.below[:-1]).discard(row.below[-1])
        if entry.is_folder:
            self.removed_folders.append(
                PlanStep(Action.REMOVE_FOLDER, row.below, row.below, entry, Verdict.REMOVES, row.reason, entry)
            )
        else:
            self.removed.append(
                PlanStep(Action.REMOVE, row.below, row.below, entry, Verdict.REMOVES, row.reason, entry)
            )

    def rename(self, row: SyncRow, old: RelativePath | None) -> None:
        """Rename on this side what was renamed on the other."""
        if old is None:
            return
        if why := self._kept(self._side, old):
            self.left.append((row.below, why))
            return
        self._parents(row.below)
        self.moves.append(PlanStep(Action.MOVE, old, row.below, row.entry, Verdict.NEW, "the same under another name"))

    def _make(self, below: RelativePath, entry: Entry, reason: str) -> None:
        self._parents(below)
        self.folders.setdefault(below, PlanStep(Action.MAKE_FOLDER, below, below, entry, Verdict.NEW, reason))

    def _parents(self, below: RelativePath) -> None:
        """The folders above a name that this side does not have yet."""
        for depth in range(1, len(below)):
            above = below[:depth]
            if above not in self._own.folders and above not in self.folders:
                entry = Entry(above[-1], Kind.FOLDER)
                self.folders[above] = PlanStep(
                    Action.MAKE_FOLDER, above, above, entry, Verdict.NEW, "needed for its contents"
                )

    def _clear(self, below: RelativePath, target: Entry) -> bool:
        """Remove what stands in the way of another kind; False where a part of it must stay."""
        if why := self._kept(self._side, below):
            self.left.append((below, f"what is in the way is {why}"))
            return False
        gone = []
        if target.is_folder:
            if not self._own.is_complete_under(below):
                self.left.append((below, "not all of what is in the way could be read"))
                return False
            for inside, entry in self._own.under(below):
                sides = (entry, None) if self._side is SideName.HERE else (None, entry)
                if self._held(inside, *sides) or entry.kind is Kind.OTHER:
                    self.left.append((below, "a sieve holds back a part of what is in the way"))
                    return False
                gone.append((inside, entry))
        gone.append((below, target))
        order = sorted(gone, key=lambda one: (one[1].is_folder, -len(one[0]) if one[1].is_folder else 0, one[0]))
        for inside, entry in order:
            action = Action.REMOVE_FOLDER if entry.is_folder else Action.REMOVE
            self.cleared.append(
                PlanStep(action, inside, inside, entry, Verdict.REMOVES, "replaced by a different kind", entry)
            )
        return True

    def steps(self) -> list[PlanStep]:
        """All steps of this side, in the order in which they are safe."""
        return [
            *self.cleared,
            *sorted(self.folders.values(), key=lambda step: (len(step.target), step.target)),
            *sorted(self.moves, key=lambda step: -len(step.source)),
            *sorted(self.carries, key=lambda step: landing_rank(step.target[-1])),
            *self.removed,
            *self._emptied(),
        ]

    def _emptied(self) -> list[PlanStep]:
        """The removals of folders, from the bottom up: of those out of which everything goes, and into which nothing
        comes."""
        gone = {step.target for step in (*self.cleared, *self.removed)} | {step.source for step in self.moves}
        full = {
            below[:depth]
            for below in (*self.folders, *(step.target for step in (*self.carries, *self.moves)))
            for depth in range(1, len(below))
        }
        goes = []
        for step in sorted(self.removed_folders, key=lambda step: -len(step.target)):
            inside = self._own.folders.get(step.target)
            known = inside is not None and step.target not in self._own.lacks
            emptied = known and all((*step.target, entry.name) in gone for entry in inside or ())
            if emptied and step.target not in full:
                gone.add(step.target)
                goes.append(step)
            else:
                self.left.append((step.target, "contains files that stay"))
        return goes


@dataclass(frozen=True, slots=True)
class Flow:
    """What a plan moves, for the picture and the sentence: files and bytes each way, files removed and renamed."""

    up: int = 0
    up_bytes: int = 0
    down: int = 0
    down_bytes: int = 0
    removed_here: int = 0
    removed_there: int = 0
    renamed: int = 0
    folders: int = 0
    newer_replaced: int = 0

    @property
    def steps(self) -> int:
        """How many steps there are in all."""
        return self.up + self.down + self.removed_here + self.removed_there + self.renamed + self.folders


def flow_of(steps: SyncSteps) -> Flow:
    """The counts of a plan. A removed folder counts as a folder."""
    count: dict[str, int] = defaultdict(int)
    for side, way in ((SideName.THERE, "up"), (SideName.HERE, "down")):
        for step in steps.on(side):
            match step.action:
                case Action.TRANSFER:
                    count[way] += 1
                    count[f"{way}_bytes"] += step.entry.size
                    count["newer_replaced"] += step.verdict is Verdict.REPLACES_NEWER
                case Action.REMOVE:
                    count[f"removed_{side}"] += 1
                case Action.MOVE:
                    count["renamed"] += 1
                case _:
                    count["folders"] += 1
    return Flow(**count)
