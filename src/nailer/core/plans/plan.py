"""What carrying or removing picked names would do: ordered steps, each with its reason. Reading a plan changes nothing.

Order: folders first, parents before children; then files, those that pages refer to before the pages, the index last;
removals children first. A plan is void where a side has changed since: every step therefore remembers what it saw at
its source and its target, and the engine looks again before it acts.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from enum import StrEnum

from nailer.core.compare.joint import Joint, same_content, same_time, seen
from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.names import free_name, landing_rank
from nailer.core.files.tree import RelativePath
from nailer.core.words import count_text


class Action(StrEnum):
    """What one step does to the side that changes."""

    MAKE_FOLDER = "make-folder"
    TRANSFER = "transfer"
    REMOVE = "remove"
    REMOVE_FOLDER = "remove-folder"
    RESTORE = "restore"
    MOVE = "move"
    SET_PERMISSIONS = "set-permissions"


class Verdict(StrEnum):
    """What is at the target of one name, and so what carrying it would do."""

    NEW = "new"
    REPLACES = "replaces"
    REPLACES_NEWER = "replaces-newer"
    BOTH_CHANGED = "both-changed"
    SAME = "same"
    REMOVES = "removes"
    SETS = "sets"
    LEFT = "left"


IDLE = frozenset({Verdict.LEFT, Verdict.SAME, Verdict.BOTH_CHANGED})
"""The verdicts under which nothing is changed; a file that both sides have changed waits for a decision."""


class Choice(StrEnum):
    """An answer for a file whose target exists."""

    REPLACE = "replace"
    ONLY_NEWER = "only-newer"
    KEEP_BOTH = "keep-both"
    LEAVE = "leave"


@dataclass(frozen=True, slots=True)
class Answers:
    """What a person decided of a plan: `every` for files whose target exists, `clashes` for those that both sides have
    changed (None: nothing yet), and `rows` for single ones, by the numbers of their items."""

    every: Choice = Choice.REPLACE
    clashes: Choice | None = None
    rows: Mapping[int, Choice] = field(default_factory=dict)

    def of(self, step: PlanStep, number: int) -> Choice | None:
        """The answer for one step; None where there is none to give, or none was given."""
        if step.action is not Action.TRANSFER:
            return None
        if step.verdict is Verdict.BOTH_CHANGED:
            return self.rows.get(number, self.clashes)
        if step.verdict in (Verdict.REPLACES, Verdict.REPLACES_NEWER):
            return self.rows.get(number, self.every)
        return None

    @property
    def keeps_both(self) -> bool:
        """True where some file needs a free name."""
        return Choice.KEEP_BOTH in (self.every, self.clashes, *self.rows.values())


@dataclass(frozen=True, slots=True)
class FoundFile:
    """One entry of the source tree: the names from the picked folder down to it, and what it is there.

    `problem` is set where a folder could not be read: what is in it is unknown. `doubt` says of one that was read why it
    may hold more.
    """

    below: RelativePath
    entry: Entry
    problem: str | None = None
    doubt: str = ""


@dataclass(frozen=True, slots=True)
class PlanStep:
    """One step of a plan.

    `source` is where the bytes come from and `target` where they land, both as names below the two folders of the plan.
    `entry` is what was seen at the source, `replaces` what was seen at the target (None: nothing there).
    A step whose verdict is one of IDLE is not carried out; its reason says why.
    """

    action: Action
    source: RelativePath
    target: RelativePath
    entry: Entry
    verdict: Verdict
    reason: str
    replaces: Entry | None = None

    @property
    def acts(self) -> bool:
        """True where the step changes something."""
        return self.verdict not in IDLE

    @property
    def bytes_to_transfer(self) -> int:
        """Bytes that must go over the line for this step."""
        return self.entry.size if self.acts and self.action is Action.TRANSFER else 0


@dataclass(frozen=True, slots=True)
class Summary:
    """The counts that are said before a plan is carried out. Files unless named otherwise."""

    new: int
    replaced: int
    replaced_newer: int
    same: int
    left: int
    removed: int
    set: int
    folders: int
    bytes_to_transfer: int
    both_changed: int = 0

    @property
    def acts(self) -> int:
        """How many files are changed in all."""
        return self.new + self.replaced + self.replaced_newer + self.removed + self.set

    def __add__(self, other: Summary) -> Summary:
        """The counts of two parts of a plan together."""
        return Summary(*(getattr(self, one.name) + getattr(other, one.name) for one in fields(self)))


@dataclass(frozen=True, slots=True)
class KnownOfBoth:
    """What is known of names on both sides beside their listings: how each stands against the baseline, and the names whose
    contents were compared and are equal."""

    joints: Mapping[RelativePath, Joint] = field(default_factory=dict)
    equal: Collection[RelativePath] = frozenset()


def transfer_plan(
    found: Iterable[FoundFile],
    there: Mapping[RelativePath, Entry],
    *,
    resend_same: bool = False,
    known: KnownOfBoth | None = None,
) -> list[PlanStep]:
    """The steps that carry what was found into a folder, as if every file is to be replaced; `chosen` narrows them.

    `there` holds what the target side has at the same names below. With `resend_same` files that look equal go too. What
    both sides have changed is not carried before somebody has decided it.
    """
    known = known or KnownOfBoth()
    folders: list[PlanStep] = []
    files: list[PlanStep] = []
    blocked: set[RelativePath] = set()
    for one in sorted(found, key=lambda one: len(one.below)):
        if any(one.below[:depth] in blocked for depth in range(1, len(one.below))):
            files.append(_left(one, "its folder cannot be created"))
            continue
        step = _transfer_step(one, there.get(one.below), resend_same, known)
        if one.entry.is_folder:
            folders.append(step)
            if step.verdict is Verdict.LEFT:
                blocked.add(one.below)
            elif one.doubt:
                folders.append(
                    _left(one, f"may contain more files than listed; those are not transferred. {one.doubt}")
                )
        else:
            files.append(step)
    folders.sort(key=lambda step: len(step.target))
    files.sort(key=lambda step: landing_rank(step.target[-1]))
    return folders + files


def _transfer_step(one: FoundFile, there: Entry | None, resend_same: bool, known: KnownOfBoth) -> PlanStep:
    entry = one.entry
    if one.problem is not None:
        return _left(one, one.problem)
    if entry.kind is Kind.LINK:
        return _left(one, "a symbolic link is not followed")
    if entry.kind is Kind.OTHER:
        return _left(one, "neither a file nor a folder")
    if entry.is_folder:
        return _folder_step(one, there)
    if there is None:
        return PlanStep(Action.TRANSFER, one.below, one.below, entry, Verdict.NEW, "new")
    if not there.is_file:
        return _left(one, f"a {there.kind} with the same name already exists", there)
    if same_content(seen(entry), seen(there)):
        verdict = Verdict.REPLACES if resend_same else Verdict.SAME
        return PlanStep(Action.TRANSFER, one.below, one.below, entry, verdict, "same size and time", there)
    if one.below in known.equal:
        verdict = Verdict.REPLACES if resend_same else Verdict.SAME
        return PlanStep(Action.TRANSFER, one.below, one.below, entry, verdict, "same content, different time", there)
    if known.joints.get(one.below) is Joint.BOTH_CHANGED:
        reason = "changed on both sides since the last sync"
        return PlanStep(Action.TRANSFER, one.below, one.below, entry, Verdict.BOTH_CHANGED, reason, there)
    if is_newer(there, entry):
        return PlanStep(
            Action.TRANSFER, one.below, one.below, entry, Verdict.REPLACES_NEWER, "replaces a newer file", there
        )
    return PlanStep(Action.TRANSFER, one.below, one.below, entry, Verdict.REPLACES, "replaces", there)


def _folder_step(one: FoundFile, there: Entry | None) -> PlanStep:
    if there is None:
        return PlanStep(Action.MAKE_FOLDER, one.below, one.below, one.entry, Verdict.NEW, "new folder")
    if there.opens_as_folder:
        return PlanStep(Action.MAKE_FOLDER, one.below, one.below, one.entry, Verdict.SAME, "already exists", there)
    return _left(one, f"a {there.kind} with the same name already exists", there)


def _left(one: FoundFile, reason: str, there: Entry | None = None) -> PlanStep:
    action = Action.MAKE_FOLDER if one.entry.is_folder else Action.TRANSFER
    return PlanStep(action, one.below, one.below, one.entry, Verdict.LEFT, reason, there)


def is_newer(one: Entry, other: Entry) -> bool:
    """True where both times are known and `one` is later by more than the sides can confuse."""
    if one.stamp is None or other.stamp is None or same_time(one.stamp, other.stamp):
        return False
    return one.stamp.at_ns > other.stamp.at_ns


class Narrowing:
    """Applies what was decided to the steps of a plan, window by window: first all are `seen`, then each is `decided`.

    `taken` holds, for each target folder (its names below), the names in it: keeping both needs free ones.
    """

    def __init__(self, taken: Mapping[RelativePath, frozenset[bytes]]) -> None:
        self._used: dict[RelativePath, set[bytes]] = {folder: set(names) for folder, names in taken.items()}

    def seen(self, steps: Iterable[PlanStep]) -> None:
        """Take in names that the plan itself makes."""
        for step in steps:
            self._used.setdefault(step.target[:-1], set()).add(step.target[-1])

    def decided(self, step: PlanStep, choice: Choice | None) -> PlanStep:
        """A step as it was decided; None changes nothing."""
        return step if choice is None else _under(step, choice, self._used)


def chosen(
    steps: Sequence[PlanStep], choices: Sequence[Choice | None], taken: Mapping[RelativePath, frozenset[bytes]]
) -> list[PlanStep]:
    """Apply to each step what was decided of it, as `Narrowing` does."""
    narrowing = Narrowing(taken)
    narrowing.seen(steps)
    return [narrowing.decided(step, choice) for step, choice in zip(steps, choices, strict=True)]


def _under(step: PlanStep, choice: Choice, used: dict[RelativePath, set[bytes]]) -> PlanStep:
    is_clash = step.verdict is Verdict.BOTH_CHANGED
    if choice is Choice.REPLACE:
        return replace(step, verdict=Verdict.REPLACES, reason="replaces, as you decided") if is_clash else step
    if choice is Choice.LEAVE:
        why = "changed on both sides" if is_clash else "there already"
        return replace(step, verdict=Verdict.LEFT, reason=f"skipped: {why}")
    if choice is Choice.ONLY_NEWER:
        if step.replaces is not None and is_newer(step.entry, step.replaces):
            return replace(step, verdict=Verdict.REPLACES) if is_clash else step
        return replace(step, verdict=Verdict.LEFT, reason="skipped: not older there")
    folder = step.target[:-1]
    name = free_name(step.target[-1], used[folder])
    used[folder].add(name)
    return replace(step, target=(*folder, name), verdict=Verdict.NEW, replaces=None, reason="saved under a new name")


def move_plan(found: Iterable[FoundFile], there: Mapping[RelativePath, Entry]) -> list[PlanStep]:
    """The steps that move picked names, each whole, into another folder of the same side. A taken name stays in the way:
    moving replaces nothing."""
    steps = []
    for one in found:
        met = there.get(one.below)
        if met is not None:
            steps.append(
                PlanStep(
                    Action.MOVE,
                    one.below,
                    one.below,
                    one.entry,
                    Verdict.LEFT,
                    f"a {met.kind} with the same name already exists",
                    met,
                )
            )
        else:
            steps.append(PlanStep(Action.MOVE, one.below, one.below, one.entry, Verdict.NEW, "is moved"))
    return steps


def removal_plan(found: Sequence[FoundFile], kept: Callable[[RelativePath], str] = lambda _: "") -> list[PlanStep]:
    """The steps that remove what was found, children before parents. A folder that could not be read bars its parents.

    Links are removed as links; what they point to stays. `kept` says why a name stays; '' where it may go.
    """
    unread = {one.below for one in found if one.problem is not None or one.doubt}
    steps = []
    for one in sorted(found, key=lambda one: (one.entry.is_folder, -len(one.below))):
        action = Action.REMOVE_FOLDER if one.entry.is_folder else Action.REMOVE
        barred = any(other[: len(one.below)] == one.below for other in unread) if one.entry.is_folder else False
        verdict, reason = (
            (Verdict.LEFT, "its contents are not fully known") if barred else (Verdict.REMOVES, "is removed")
        )
        if one.entry.kind is Kind.OTHER:
            verdict, reason = Verdict.LEFT, "neither a file nor a folder"
        elif why := kept(one.below):
            verdict, reason = Verdict.LEFT, why
        steps.append(PlanStep(action, one.below, one.below, one.entry, verdict, reason, one.entry))
    return steps


def summary(steps: Iterable[PlanStep]) -> Summary:
    """The counts of a plan; folders that are there already count nowhere."""
    count = dict.fromkeys(Verdict, 0)
    folders = carried = 0
    for step in steps:
        if step.action in (Action.MAKE_FOLDER, Action.REMOVE_FOLDER):
            folders += step.acts
            if step.verdict is Verdict.LEFT:
                count[Verdict.LEFT] += 1
            continue
        count[step.verdict] += 1
        carried += step.bytes_to_transfer
    return Summary(
        new=count[Verdict.NEW],
        replaced=count[Verdict.REPLACES],
        replaced_newer=count[Verdict.REPLACES_NEWER],
        same=count[Verdict.SAME],
        left=count[Verdict.LEFT],
        removed=count[Verdict.REMOVES],
        set=count[Verdict.SETS],
        folders=folders,
        bytes_to_transfer=carried,
        both_changed=count[Verdict.BOTH_CHANGED],
    )


def summary_sentence(found: Summary, to_side: SideName) -> str:
    """What a plan would do, in one line: `3 new, 2 replaced (1 of them newer there), 12 left as they are`."""
    parts = []
    if found.both_changed:
        parts.append(f"{found.both_changed} changed on both sides")
    if found.new:
        parts.append(f"{found.new} new")
    replaced = found.replaced + found.replaced_newer
    if replaced:
        newer = f" ({found.replaced_newer} of them newer {to_side})" if found.replaced_newer else ""
        parts.append(f"{replaced} replaced{newer}")
    if found.removed:
        parts.append(f"{found.removed} removed {to_side}")
    if found.set:
        parts.append(f"{count_text(found.set, 'item')} with new permissions")
    if found.folders:
        parts.append(count_text(found.folders, "folder"))
    if found.same:
        parts.append(f"{found.same} already the same")
    if found.left:
        parts.append(f"{found.left} skipped")
    return ", ".join(parts) or "nothing to do"
