"""The plan of a sync: both trees as they were read, and what a person wants.

It is in memory while a person works with it."""

from __future__ import annotations

import asyncio
import secrets
import time
from dataclasses import dataclass, field
from datetime import datetime

from nailer.core.compare.joint import Compare
from nailer.core.files.entry import SideName
from nailer.core.files.keeping import Keeps
from nailer.core.files.sitepath import shown_name
from nailer.core.files.tree import Below, Tree
from nailer.core.pairs.differences import hardly_the_same
from nailer.core.pairs.proposals import Bars, decided, proposed
from nailer.core.pairs.rows import Comparison, Doings, SyncRow
from nailer.core.pairs.steps import REMOVED_SHARE, Flow, SyncSteps, flow_of, removals_share, sync_steps
from nailer.core.pairs.wishes import Doing, SyncWish
from nailer.core.plans.plan import Action
from nailer.core.plans.room import Fit, need_of
from nailer.core.plans.sieve import Sieves
from nailer.core.words import count_text
from nailer.errors import NailerError
from nailer.services.files import Progress, side_of, top_of
from nailer.store.pairs import Pair


@dataclass(slots=True)
class SyncPlan:
    """The plan of a sync.
    Until it is `ready` only its progress means something; `problem` says why it will never be ready."""

    token: str
    account_id: int
    pair: Pair
    wish: SyncWish
    compare: Compare
    begun_s: float
    progress: dict[SideName, Progress]
    comparing: tuple[int, int] = (0, 0)
    ready: bool = False
    problem: NailerError | None = None
    took_s: float = 0.0
    made_at: datetime | None = None
    here: Tree = field(default_factory=lambda: Tree({}))
    there: Tree = field(default_factory=lambda: Tree({}))
    room: dict[SideName, int | None] = field(default_factory=dict)
    sieves: Sieves = field(default_factory=lambda: Sieves([], 0))
    found: Comparison = field(default_factory=lambda: Comparison([], 0, [], []))
    barred: Bars = Bars()
    hashes: dict[Below, bytes] = field(default_factory=dict)
    line_ends: set[Below] = field(default_factory=set)
    folded: list[tuple[Below, bytes]] = field(default_factory=list)
    offered: Doings = field(default_factory=lambda: Doings([], [], {}))
    chosen: dict[int, Doing] = field(default_factory=dict)
    doings: Doings = field(default_factory=lambda: Doings([], [], {}))
    steps: SyncSteps = field(default_factory=lambda: SyncSteps([], [], []))
    flow: Flow = Flow()
    merged: dict[int, bytes] = field(default_factory=dict)
    recalled: int = 0
    renames_nothing: bool = False
    in_place: bool = False
    keeps: dict[SideName, Keeps] = field(default_factory=dict)
    task: asyncio.Task[None] | None = None

    def _kept(self, end: SideName, below: Below) -> str:
        keeps = self.keeps.get(end)
        return keeps.because(side_of(self.pair, end), top_of(self.pair, end).join(below)) if keeps else ""

    def propose(self) -> None:
        """Work out what the wish does with each row, and all that follows."""
        self.offered = proposed(self.rows, self.wish, self.barred, hashes=self.hashes)
        self.decide()

    def decide(self) -> None:
        """Work out the steps from what is proposed and what was chosen."""
        self.doings = decided(self.rows, self.offered, self.chosen)
        self.steps = sync_steps(self.rows, self.doings, self.here, self.there, self.sieves.held, self._kept)
        self.flow = flow_of(self.steps)

    @property
    def names(self) -> int:
        """How many names it holds in memory."""
        return sum(one.names for one in self.progress.values())

    @property
    def rows(self) -> list[SyncRow]:
        """What differs, row by row."""
        return self.found.rows

    @property
    def left(self) -> dict[Below, str]:
        """Rows that cannot be done as wished, with why."""
        return dict(self.steps.left)

    @property
    def not_read(self) -> int:
        """How many folders of either side could not be read, or not whole: what lies in them was not compared."""
        return sum(len(tree.problems) + len(tree.lacks) for tree in (self.here, self.there))

    @property
    def removes_much(self) -> SideName | None:
        """The end of which so large a share would be removed that a word must be typed for it; there first."""
        for end, tree, count in (
            (SideName.THERE, self.there, self.flow.removed_there),
            (SideName.HERE, self.here, self.flow.removed_here),
        ):
            if count and removals_share(tree, count) > REMOVED_SHARE:
                return end
        return None

    @property
    def word_to_type(self) -> str:
        """What is typed where much is removed: the name of the folder that loses it."""
        end = self.removes_much
        return top_of(self.pair, end).name.decode("utf-8", "replace") if end is not None else ""

    def fit(self, end: SideName) -> tuple[Fit, int]:
        """Whether what comes to an end has room there, and by how many bytes it is short."""
        room = self.room.get(end)
        sizes = [
            (step.entry.size, step.replaces.size if step.replaces else 0)
            for step in self.steps.on(end)
            if step.action is Action.TRANSFER
        ]
        need = need_of(sizes)
        fits = need.fit(room)
        return fits, need.short_by(room) if room is not None and fits is Fit.SHORT else 0

    @property
    def useless_times(self) -> list[str]:
        """Of each side whose times say nothing, that it should be compared by content."""
        if self.compare is not Compare.SIZE_AND_TIME:
            return []
        return [
            f"All files {word} have the same time, so times cannot show what changed. Compare by content instead."
            for tree, word in ((self.here, self.pair.here_word), (self.there, "there"))
            if tree.times_useless
        ]

    @property
    def warnings(self) -> list[str]:
        """What a person should know before anything is carried out."""
        found = []
        if hardly_the_same(self.here, self.there):
            found.append("The two folders have almost no file names in common. Check that this is the right pair.")
        found += self.useless_times
        if self.folded:
            below, listed = self.folded[0]
            found.append(
                "This server treats capital and small letters as the same: it lists "
                f"{shown_name(below[-1])} as {shown_name(listed)}. Nailer treats such names as one."
            )
        if self.line_ends:
            some = count_text(len(self.line_ends), "item")
            are = "is" if len(self.line_ends) == 1 else "are"
            found.append(f"{some} {are} different only in line endings; the text is the same.")
        if self.here.problems or self.there.problems:
            count = len(self.here.problems) + len(self.there.problems)
            found.append(
                f"{count} folder{'s' if count > 1 else ''} could not be read. Nailer changes and removes nothing inside."
            )
        if self.renames_nothing and self.flow.up:
            how = (
                (
                    "Files will be overwritten in place after their old content is kept. Visitors may get an "
                    "incomplete file meanwhile."
                )
                if self.in_place
                else "No file can be replaced until you allow this site to overwrite in place."
            )
            found.append(f"The server cannot rename files. {how}")
        if lacks := [*self.here.lacks.values(), *self.there.lacks.values()]:
            some = count_text(len(lacks), "folder")
            found.append(
                f"{some} may hold more than the server listed: missing files count as unknown, so nothing is "
                f"removed because of them. {lacks[0].sentence}"
            )
        return found


def empty_plan(account_id: int, pair: Pair, wish: SyncWish, compare: Compare) -> SyncPlan:
    """A plan before anything was read."""
    progress = {end: Progress() for end in SideName}
    return SyncPlan(secrets.token_hex(8), account_id, pair, wish, compare, time.monotonic(), progress)
