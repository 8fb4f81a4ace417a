"""The plan of a sync: both trees as they were read, and what a person wants.

What was read does not change; each decision makes a new value of what is wanted and what follows from it, with a number.
The plan is in memory while a person works with it."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from nailer.core.compare.joint import Compare
from nailer.core.files.entry import SideName
from nailer.core.files.keeping import Keeps
from nailer.core.files.sitepath import shown_name
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.differences import hardly_the_same
from nailer.core.pairs.proposals import RemovalBlock, decided, proposed
from nailer.core.pairs.rows import Comparison, Decisions, SyncRow
from nailer.core.pairs.steps import REMOVED_SHARE, Flow, SyncSteps, flow_of, removals_share, sync_steps
from nailer.core.pairs.wishes import Doing, SyncWish
from nailer.core.plans.plan import Action
from nailer.core.plans.room import Fit, need_of
from nailer.core.plans.sieve import Sieves
from nailer.core.words import count_text
from nailer.errors import NailerError
from nailer.services.files import Progress, side_of, top_of
from nailer.store.pairs import Pair


@dataclass(frozen=True, slots=True)
class SyncWanted:
    """What a person wants of a reading: the wish, choices by the numbers of their rows, texts that were merged for rows, and
    how many of the choices were made at an earlier reading."""

    wish: SyncWish
    chosen: Mapping[int, Doing] = field(default_factory=dict)
    merged: Mapping[int, bytes] = field(default_factory=dict)
    recalled: int = 0


@dataclass(frozen=True, slots=True)
class Decided:
    """What is wanted, and all that follows: what is proposed, what is done with each row, the steps. `number` grows with
    each decision, so that a page that shows an older one can be told."""

    wanted: SyncWanted
    number: int = 0
    offered: Decisions = field(default_factory=lambda: Decisions([], [], {}))
    doings: Decisions = field(default_factory=lambda: Decisions([], [], {}))
    steps: SyncSteps = field(default_factory=lambda: SyncSteps([], [], []))
    flow: Flow = Flow()


@dataclass(slots=True)
class SyncPlan:
    """The plan of a sync. Until it is `ready` only its progress means something; `problem` says why it will never be ready.
    `decided` changes only by `Deciding`, one decision after another; nothing is decided once it `is_carried_out`."""

    token: str
    account_id: int
    pair: Pair
    decided: Decided
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
    barred: RemovalBlock = RemovalBlock()
    hashes: dict[RelativePath, bytes] = field(default_factory=dict)
    line_ends: set[RelativePath] = field(default_factory=set)
    folded: list[tuple[RelativePath, bytes]] = field(default_factory=list)
    renames_nothing: bool = False
    in_place: bool = False
    keeps: dict[SideName, Keeps] = field(default_factory=dict)
    deciding: asyncio.Lock = field(default_factory=asyncio.Lock)
    is_carried_out: bool = False

    def _kept(self, end: SideName, below: RelativePath) -> str:
        keeps = self.keeps.get(end)
        return keeps.because(side_of(self.pair, end), top_of(self.pair, end).join(below)) if keeps else ""

    def proposed(self, wish: SyncWish) -> Decisions:
        """What a wish does with each row."""
        return proposed(self.rows, wish, self.barred, hashes=self.hashes)

    def worked_out(self, wanted: SyncWanted, offered: Decisions | None = None) -> Decided:
        """What follows from what is wanted; `offered` where its wish was proposed already. Changes nothing: it may be asked
        in a thread."""
        if offered is None:
            offered = self.proposed(wanted.wish) if wanted.wish != self.wish else self.offered
        doings = decided(self.rows, offered, wanted.chosen)
        steps = sync_steps(self.rows, doings, self.here, self.there, self.sieves.held, self._kept)
        return Decided(wanted, self.decided.number + 1, offered, doings, steps, flow_of(steps))

    @property
    def wish(self) -> SyncWish:
        """What is wished of all rows."""
        return self.decided.wanted.wish

    @property
    def chosen(self) -> Mapping[int, Doing]:
        """What was chosen for single rows, by their numbers."""
        return self.decided.wanted.chosen

    @property
    def merged(self) -> Mapping[int, bytes]:
        """Texts that were merged for rows."""
        return self.decided.wanted.merged

    @property
    def recalled(self) -> int:
        """How many choices were made at an earlier reading."""
        return self.decided.wanted.recalled

    @property
    def offered(self) -> Decisions:
        """What is proposed for each row."""
        return self.decided.offered

    @property
    def doings(self) -> Decisions:
        """What is done with each row."""
        return self.decided.doings

    @property
    def steps(self) -> SyncSteps:
        """What is done, step by step."""
        return self.decided.steps

    @property
    def flow(self) -> Flow:
        """How much goes where."""
        return self.decided.flow

    @property
    def names(self) -> int:
        """How many names it holds in memory."""
        return sum(one.names for one in self.progress.values())

    @property
    def rows(self) -> list[SyncRow]:
        """What differs, row by row."""
        return self.found.rows

    @property
    def left(self) -> dict[RelativePath, str]:
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
    return SyncPlan(
        secrets.token_hex(8), account_id, pair, Decided(SyncWanted(wish)), compare, time.monotonic(), progress
    )
