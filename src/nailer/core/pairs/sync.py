"""Keeping two trees in sync: what differs between them and their baseline, and what will be done about it.

Two steps, so that a person can change their mind without anything being read again: `compared` lays the trees side by side
and finds what differs (`joint.py` says how each name stands); `proposed` says for one wish (publish, fetch, level) what
will be done with each row, which a person may change row by row; `sync_steps` turns that into ordered steps for each side.

                         level                 publish                        fetch
    newer here           upload                upload                         download, and said
    newer there          download              upload, and said               download
    only here, new       upload                upload                         removal here
    only here, removed   removal here          upload                         removal here
    only there           as only here, with the sides exchanged
    both changed         decide                decide                         decide
    a guess              decide                upload                         download

A removal follows, is left, or is asked for, as the person wishes. Where a tree was read empty nothing is removed because
of it; below a folder that could not be read nothing is known, and nothing done. What a sieve holds back is neither carried
nor removed on the other side. Links and devices are never carried; what differs only in how its name is spelled (capitals,
composed letters) waits for a decision, because many servers cannot hold both.
"""

from __future__ import annotations

import hashlib
import unicodedata
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from nailer.core.compare.joint import Baseline, Compare, Joint, Standing, joint_of
from nailer.core.files.entry import NS, Entry, Kind, SideName
from nailer.core.files.names import free_name, landing_rank
from nailer.core.files.tree import Below, Tree
from nailer.core.plans.plan import Action, PlanStep, Verdict, is_newer

REMOVED_SHARE = 0.10  # past this share of a side's files a removal needs a typed word

Baselines = Mapping[Below, Mapping[bytes, Baseline]]
Held = Callable[[Below, Entry | None, Entry | None], str]


class Direction(StrEnum):
    """Which way a pair is brought into sync."""

    PUBLISH = "publish"
    FETCH = "fetch"
    LEVEL = "level"


class Removals(StrEnum):
    """What becomes of a name that one side has lost."""

    FOLLOW = "follow"
    KEEP = "keep"
    ASK = "ask"


class Doing(StrEnum):
    """What will be done with one row. `DECIDE` waits for a person; `STAYS` is held back by a sieve; `ALONG` goes with the
    renaming of another row."""

    UPLOAD = "upload"
    DOWNLOAD = "download"
    REMOVE_THERE = "remove-there"
    REMOVE_HERE = "remove-here"
    RENAME_THERE = "rename-there"
    RENAME_HERE = "rename-here"
    BOTH = "both"
    DECIDE = "decide"
    LEAVE = "leave"
    STAYS = "stays"
    ALONG = "along"


ACTING = frozenset(
    {
        Doing.UPLOAD,
        Doing.DOWNLOAD,
        Doing.REMOVE_THERE,
        Doing.REMOVE_HERE,
        Doing.RENAME_THERE,
        Doing.RENAME_HERE,
        Doing.BOTH,
    }
)


@dataclass(frozen=True, slots=True)
class SyncWish:
    direction: Direction = Direction.LEVEL
    removals: Removals = Removals.ASK


@dataclass(frozen=True, slots=True)
class SyncRow:
    """A name that differs, or of which not everything is known. `held` is the sieve that holds it back, `twin` another
    name in its folder that is the same but for its spelling; `below` are its names from the top of the pair."""

    below: Below
    here: Entry | None
    there: Entry | None
    standing: Standing
    baseline: Baseline | None = None
    held: str = ""
    twin: Below | None = None

    @property
    def entry(self) -> Entry:
        """What a side has under this name, there first."""
        found = self.there or self.here
        if found is None:
            raise ValueError("a row without sides")
        return found

    @property
    def is_folder(self) -> bool:
        return all(side is None or side.is_folder for side in (self.here, self.there))

    @property
    def kinds_differ(self) -> bool:
        return self.here is not None and self.there is not None and self.here.kind is not self.there.kind

    @property
    def reason(self) -> str:
        return self.standing.reason


@dataclass(frozen=True, slots=True)
class Comparison:
    """What comparing two trees found. `same` counts files; `level` are names that are the same and whose baseline does not
    say so yet; `gone` are names in the baseline that neither side has any more."""

    rows: list[SyncRow]
    same: int
    level: list[Below]
    gone: list[Below]


@dataclass(frozen=True, slots=True)
class Doings:
    """What will be done, row by row. `why` adds to a row's own reason; `goes_with` names the row that a renaming is about,
    both ways."""

    each: list[Doing]
    why: list[str]
    goes_with: dict[int, int]

    @property
    def undecided(self) -> int:
        return sum(doing is Doing.DECIDE for doing in self.each)


def _nothing_held(_: Below, __: Entry | None, ___: Entry | None) -> str:
    return ""


def compared(
    here: Tree,
    there: Tree,
    baselines: Baselines,
    *,
    compare: Compare = Compare.SIZE_AND_TIME,
    equal: Mapping[Below, bool] | None = None,
    held: Held = _nothing_held,
) -> Comparison:
    """Lay two trees side by side. `equal` says of files of one size whether their contents are the same, where they were
    read; `held` names the sieve that holds a name back, with what each side has of it ('' for none)."""
    rows: list[SyncRow] = []
    level: list[Below] = []
    gone: list[Below] = []
    same = 0
    contents = equal or {}
    nothing: Mapping[bytes, Baseline] = {}
    file = Kind.FILE
    waiting: list[Below] = [()]
    while waiting:
        folder = waiting.pop()
        known = baselines.get(folder, nothing)
        trouble = here.problems.get(folder) or there.problems.get(folder)
        if trouble is not None:
            rows.append(SyncRow(folder, None, None, Standing(Joint.NOT_READ, trouble)))
            continue
        others = {entry.name: entry for entry in there.folders.get(folder, ())}
        met = 0
        slow: list[tuple[bytes, Entry | None, Entry | None]] = []
        for one in here.folders.get(folder, ()):
            name = one.name
            other = others.pop(name, None)
            before = known.get(name)
            if before is not None:
                met += 1
                if other is not None and one.kind is file and other.kind is file and not contents:
                    # Nearly every name goes this way: nothing is made for it.
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
        if met < len(known):
            names = {entry.name for tree in (here, there) for entry in tree.folders.get(folder, ())}
            gone += [
                (*folder, name)
                for name in known
                if name not in names and not any(tree.may_hide((*folder, name)) for tree in (here, there))
            ]
        found: list[SyncRow] = []
        for name, near, far in slow:
            below = (*folder, name)
            why = held(below, near, far)
            before = known.get(name)
            both_folders = near is not None and far is not None and near.is_folder and far.is_folder
            problem = here.problems.get(below) or there.problems.get(below)
            if problem is not None and not why:
                found.append(SyncRow(below, near, far, Standing(Joint.NOT_READ, problem), before))
                continue
            if both_folders:
                if not why:
                    waiting.append(below)
                    if before is None or not before.folder:
                        level.append(below)
                continue
            unsure = here.may_hide(below) if near is None else there.may_hide(below) if far is None else ""
            standing = joint_of(near, far, before, compare=compare, equal=contents.get(below), unsure=unsure)
            if standing.joint is Joint.SAME:
                same += near is not None and near.is_file
                if not why and near is not None and near.is_file:
                    level.append(below)
                continue
            found.append(SyncRow(below, near, far, standing, before, why))
            if not why and not unsure and all(side is None or side.is_folder for side in (near, far)):
                waiting.append(below)
        rows += _with_twins(found)
    rows.sort(key=lambda row: row.below)
    return Comparison(_with_held_folders(rows), same, level, gone)


def _with_held_folders(rows: list[SyncRow]) -> list[SyncRow]:
    """A folder of one side stays behind with its content, where all of that is held back: it would be empty."""
    if not any(row.held for row in rows):
        return rows
    held: dict[Below, str] = {}
    free: set[Below] = set()
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
            alone[_spelled(row.below[-1])].append(row)
    twins = {}
    for group in alone.values():
        if len(group) == 2 and (group[0].here is None) is not (group[1].here is None):
            one, other = group
            if one.entry.kind is other.entry.kind:
                twins[one.below], twins[other.below] = other.below, one.below
    return [replace(row, twin=twins[row.below]) if row.below in twins else row for row in rows] if twins else rows


def _spelled(name: bytes) -> str:
    """A name without what many systems do not tell apart: capitals, and how letters are composed."""
    return unicodedata.normalize("NFC", name.decode("utf-8", "surrogateescape")).casefold()


def same_sized(here: Tree, there: Tree, held: Held = _nothing_held) -> Iterator[tuple[Below, Entry, Entry]]:
    """Files of one size on both sides: those whose contents must be compared where size and time are not to be trusted."""
    for folder, entries in here.folders.items():
        others = {entry.name: entry for entry in there.folders.get(folder, ())}
        for one in entries:
            other = others.get(one.name)
            if other is not None and one.is_file and other.is_file and one.size == other.size:
                below = (*folder, one.name)
                if not held(below, one, other):
                    yield below, one, other


@dataclass(frozen=True, slots=True)
class Bars:
    """Why nothing is removed on a side; '' where removals are allowed."""

    here: str = ""
    there: str = ""


def bars(here: Tree, there: Tree) -> Bars:
    """Removals are barred on the side across from one that was found empty: a disk that is not mounted, or a folder that
    was exchanged, looks the same as all files removed."""
    return Bars(
        here="there is nothing there at all, so nothing is removed here" if there.is_empty else "",
        there="there is nothing here at all, so nothing is removed there" if here.is_empty else "",
    )


def proposed(
    rows: Sequence[SyncRow], wish: SyncWish, barred: Bars = Bars(), *, hashes: Mapping[Below, bytes] | None = None
) -> Doings:
    """What a wish does with each row, before anybody has decided anything. `hashes` are those of files that may have been
    renamed, where they are known: a renaming needs the same content."""
    each: list[Doing] = []
    why: list[str] = []
    for row in rows:
        doing, reason = _proposal(row, wish, barred)
        each.append(doing)
        why.append(reason)
    goes_with = _renamings(rows, each, hashes or {})
    for new, old in goes_with.items():
        if each[old] in (Doing.REMOVE_THERE, Doing.REMOVE_HERE):
            each[new] = Doing.RENAME_THERE if each[old] is Doing.REMOVE_THERE else Doing.RENAME_HERE
            each[old] = Doing.ALONG
            why[new], why[old] = "the same content under another name", "renamed with it"
    return Doings(each, why, goes_with | {old: new for new, old in goes_with.items()})


def _proposal(row: SyncRow, wish: SyncWish, barred: Bars) -> tuple[Doing, str]:
    standing, level = row.standing, wish.direction is Direction.LEVEL
    if row.held:
        return Doing.STAYS, row.held
    if standing.joint is Joint.NOT_READ:
        return Doing.LEAVE, "" if row.below else "nothing can be said of the whole pair"
    kinds = {entry.kind for entry in (row.here, row.there) if entry is not None}
    if kinds & {Kind.OTHER} or kinds == {Kind.LINK}:
        return Doing.LEAVE, "links are not carried" if kinds == {Kind.LINK} else "neither a file nor a folder"
    if row.twin is not None:
        return Doing.DECIDE, "the other side spells it another way: many systems cannot hold both"
    match standing.joint:
        case Joint.BOTH_CHANGED:
            return _clash(row, wish.direction)
        case Joint.NEWER_HERE | Joint.NEWER_THERE:
            if level and standing.guess:
                return Doing.DECIDE, "never level before: which one counts?"
            newer_here = standing.joint is Joint.NEWER_HERE
            if level:
                return (Doing.UPLOAD if newer_here else Doing.DOWNLOAD), ""
            doing = Doing.UPLOAD if wish.direction is Direction.PUBLISH else Doing.DOWNLOAD
            loses = newer_here is not (doing is Doing.UPLOAD)
            return doing, "replaces the newer one" if loses else ""
        case _:
            return _one_sided(row, wish, barred)


def _clash(row: SyncRow, direction: Direction) -> tuple[Doing, str]:
    if row.here is not None and row.there is None and direction is Direction.PUBLISH:
        return Doing.UPLOAD, ""
    if row.there is not None and row.here is None and direction is Direction.FETCH:
        return Doing.DOWNLOAD, ""
    return Doing.DECIDE, ""


def _one_sided(row: SyncRow, wish: SyncWish, barred: Bars) -> tuple[Doing, str]:
    on_here = row.here is not None
    removed = row.standing.removed
    leads = (wish.direction is Direction.PUBLISH) if on_here else (wish.direction is Direction.FETCH)
    if leads or (wish.direction is Direction.LEVEL and not removed):
        return (Doing.UPLOAD if on_here else Doing.DOWNLOAD), ""
    bar = barred.here if on_here else barred.there
    if bar:
        return Doing.LEAVE, bar
    match wish.removals:
        case Removals.KEEP:
            return Doing.LEAVE, "removals are not wanted"
        case Removals.ASK:
            return Doing.DECIDE, "remove it, or bring it back?" if removed else "remove it, or keep it?"
        case Removals.FOLLOW:
            return (Doing.REMOVE_HERE if on_here else Doing.REMOVE_THERE), ""


def _renamings(rows: Sequence[SyncRow], each: Sequence[Doing], hashes: Mapping[Below, bytes]) -> dict[int, int]:
    """Rows of new names that are old ones under another name, by number: new to old. The content is the same where size
    and exact time are what the baseline says of the old name, and its hash too where that is known."""
    found: dict[int, int] = {}
    for near, gone_doing, new_doing in (
        (SideName.HERE, Doing.REMOVE_THERE, Doing.UPLOAD),
        (SideName.THERE, Doing.REMOVE_HERE, Doing.DOWNLOAD),
    ):
        old: dict[tuple[int, int], list[int]] = defaultdict(list)
        for number, row in enumerate(rows):
            if each[number] is gone_doing and row.baseline is not None and row.standing.removed and row.entry.is_file:
                was = row.baseline.here if near is SideName.HERE else row.baseline.there
                if was.stamp is not None and was.size:
                    old[was.size, was.stamp.at_ns].append(number)
        if not old:
            continue
        new: dict[tuple[int, int], list[int]] = defaultdict(list)
        for number, row in enumerate(rows):
            if each[number] is new_doing and (row.here is None) is not (row.there is None) and row.entry.is_file:
                stamp = row.entry.stamp
                if stamp is not None and stamp.precision_ns <= NS and (key := (row.entry.size, stamp.at_ns)) in old:
                    new[key].append(number)
        for key, numbers in new.items():
            found |= _matched(rows, numbers, old[key], hashes)
    return found


def _matched(
    rows: Sequence[SyncRow], new: Sequence[int], old: Sequence[int], hashes: Mapping[Below, bytes]
) -> dict[int, int]:
    """Names of one size and time paired off: the only ones, or those that kept their last name in another folder."""
    pairs = {}
    left = list(old)
    for number in new:
        fitting = [one for one in left if _same_hash(rows[one], hashes.get(rows[number].below))]
        named = [one for one in fitting if rows[one].below[-1] == rows[number].below[-1]]
        pick = named if len(named) == 1 else fitting if len(fitting) == len(new) == 1 else []
        if pick:
            pairs[number] = pick[0]
            left.remove(pick[0])
    return pairs


def _same_hash(row: SyncRow, now: bytes | None) -> bool:
    was = row.baseline.content_hash if row.baseline else None
    return was is None or now is None or was == now


def choices_of(row: SyncRow, doing: Doing) -> tuple[Doing, ...]:
    """What a person may choose for a row; `doing` is what was proposed."""
    if row.held or row.standing.joint is Joint.NOT_READ or not row.below:
        return ()
    kinds = {entry.kind for entry in (row.here, row.there) if entry is not None}
    if Kind.OTHER in kinds or kinds == {Kind.LINK}:
        return ()
    found: list[Doing] = [doing] if doing in (Doing.RENAME_THERE, Doing.RENAME_HERE) else []
    if row.twin is not None and row.entry.is_file:
        found += [Doing.RENAME_THERE if row.here is not None else Doing.RENAME_HERE]
    if row.here is not None and row.here.kind is not Kind.LINK:
        found.append(Doing.UPLOAD)
    if row.there is not None and row.there.kind is not Kind.LINK:
        found.append(Doing.DOWNLOAD)
    if row.here is not None and row.there is not None:
        both_files = row.here.is_file and row.there.is_file
        found += [Doing.BOTH] if both_files else []
    elif row.here is not None:
        found.append(Doing.REMOVE_HERE)
    else:
        found.append(Doing.REMOVE_THERE)
    return (*dict.fromkeys(found), Doing.LEAVE)


def ends_of(row: SyncRow) -> bytes:
    """Sixteen bytes that tell how both ends of a row stand: a choice holds while they do. Access has no part in it, as
    nothing is carried for it."""
    return hashlib.sha256(repr((_stands(row.here), _stands(row.there))).encode()).digest()[:16]


def _stands(entry: Entry | None) -> tuple[object, ...] | None:
    if entry is None:
        return None
    return entry.kind.value, entry.size, entry.stamp and entry.stamp.at_ns, entry.target


def decided(rows: Sequence[SyncRow], offered: Doings, chosen: Mapping[int, Doing]) -> Doings:
    """The proposals with what a person chose instead, by number of row. Where a renaming is not wanted the other name of it
    is on its own again. Choices that a row does not offer are passed over."""
    each, why = list(offered.each), list(offered.why)
    for number, doing in chosen.items():
        if not 0 <= number < len(each) or doing not in choices_of(rows[number], offered.each[number]):
            continue
        was = each[number]
        each[number], why[number] = doing, "chosen by you" if doing is not offered.each[number] else why[number]
        partner = offered.goes_with.get(number)
        alone = partner is not None and partner not in chosen
        if was in (Doing.RENAME_THERE, Doing.RENAME_HERE) and doing is not was and partner is not None and alone:
            each[partner] = Doing.REMOVE_THERE if was is Doing.RENAME_THERE else Doing.REMOVE_HERE
            why[partner] = ""
    renamings = (Doing.RENAME_THERE, Doing.RENAME_HERE)
    twins = [number for number, row in enumerate(rows) if row.twin is not None and each[number] in renamings]
    numbers = {row.below: number for number, row in enumerate(rows)} if twins else {}
    for number in twins:
        other = numbers.get(rows[number].twin or ())
        if other is not None and each[number] in renamings:
            each[other], why[other] = Doing.ALONG, "renamed with it"
    return Doings(each, why, offered.goes_with)


def removals_share(tree: Tree, removed: int) -> float:
    """Which part of a side's files would be removed."""
    return removed / max(1, tree.files)


def hardly_the_same(here: Tree, there: Tree) -> bool:
    """True where two trees share hardly a name at their top although both hold some: perhaps this is the wrong pair."""
    ours = {entry.name for entry in here.folders.get((), ())}
    theirs = {entry.name for entry in there.folders.get((), ())}
    return min(len(ours), len(theirs)) >= 4 and len(ours & theirs) / min(len(ours), len(theirs)) < 0.1


@dataclass(frozen=True, slots=True)
class SyncSteps:
    """The ordered steps that change each side. `left` are rows that cannot be done as wished, with why."""

    here: list[PlanStep]
    there: list[PlanStep]
    left: list[tuple[Below, str]]

    def on(self, side: SideName) -> list[PlanStep]:
        return self.here if side is SideName.HERE else self.there


def sync_steps(
    rows: Sequence[SyncRow], doings: Doings, here: Tree, there: Tree, held: Held = _nothing_held
) -> SyncSteps:
    """The steps for what was decided, in an order that can always be carried out: what stands in the way of another kind
    goes first, then folders from the top down, renamings, files (pages after what they refer to), and removals at the very
    end, from the bottom up. A folder goes only where everything in it goes."""
    making = {
        SideName.HERE: _Making(SideName.HERE, here, there, held),
        SideName.THERE: _Making(SideName.THERE, there, here, held),
    }
    for number, row in enumerate(rows):
        doing = doings.each[number]
        partner = doings.goes_with.get(number)
        old = rows[partner].below if partner is not None else row.twin
        match doing:
            case Doing.UPLOAD:
                making[SideName.THERE].carry(row, row.here, row.there)
            case Doing.DOWNLOAD:
                making[SideName.HERE].carry(row, row.there, row.here)
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
    far.carries.append(PlanStep(Action.CARRY, row.below, free, row.here, Verdict.NEW, "ours, kept beside theirs"))
    near.moves.append(PlanStep(Action.MOVE, row.below, free, row.here, Verdict.NEW, "ours, kept beside theirs"))
    near.carries.append(PlanStep(Action.CARRY, row.below, row.below, row.there, Verdict.NEW, "theirs"))


class _Making:
    """Collects the steps of one side. `own` is its tree, `other` the tree it becomes like."""

    def __init__(self, side: SideName, own: Tree, other: Tree, held: Held) -> None:
        self._side, self._own, self._other, self._held = side, own, other, held
        self.left: list[tuple[Below, str]] = []
        self.cleared: list[PlanStep] = []
        self.folders: dict[Below, PlanStep] = {}
        self.moves: list[PlanStep] = []
        self.carries: list[PlanStep] = []
        self.removed: list[PlanStep] = []
        self.removed_folders: list[PlanStep] = []
        self._taken: dict[Below, set[bytes]] = {}

    def names(self, folder: Below) -> set[bytes]:
        """What is in a folder of this side, and what was promised a name in it."""
        if folder not in self._taken:
            self._taken[folder] = {entry.name for entry in self._own.folders.get(folder, ())}
        return self._taken[folder]

    def carry(self, row: SyncRow, source: Entry | None, target: Entry | None) -> None:
        if source is None:
            return
        if target is not None and target.kind is not source.kind:
            if not self._clear(row.below, target):
                return
            target = None
            if source.is_folder:
                self._make(row.below, source, row.reason)
                for below, entry in self._other.under(row.below):
                    self._carry_inside(below, entry, row.reason)
                return
        if source.is_folder:
            self._make(row.below, source, row.reason)
            return
        self._parents(row.below)
        verdict = Verdict.NEW
        if target is not None:
            verdict = Verdict.REPLACES_NEWER if is_newer(target, source) else Verdict.REPLACES
        self.carries.append(PlanStep(Action.CARRY, row.below, row.below, source, verdict, row.reason, target))

    def _carry_inside(self, below: Below, entry: Entry, reason: str) -> None:
        sides = (None, entry) if self._side is SideName.HERE else (entry, None)
        if self._held(below, *sides) or entry.kind in (Kind.LINK, Kind.OTHER):
            return
        if entry.is_folder:
            self._make(below, entry, reason)
        else:
            self._parents(below)
            self.carries.append(PlanStep(Action.CARRY, below, below, entry, Verdict.NEW, reason))

    def remove(self, row: SyncRow) -> None:
        entry = row.there if self._side is SideName.THERE else row.here
        if entry is None:
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

    def rename(self, row: SyncRow, old: Below | None) -> None:
        if old is None:
            return
        self._parents(row.below)
        self.moves.append(PlanStep(Action.MOVE, old, row.below, row.entry, Verdict.NEW, "the same under another name"))

    def _make(self, below: Below, entry: Entry, reason: str) -> None:
        self._parents(below)
        self.folders.setdefault(below, PlanStep(Action.MAKE_FOLDER, below, below, entry, Verdict.NEW, reason))

    def _parents(self, below: Below) -> None:
        """The folders above a name that this side does not have yet."""
        for depth in range(1, len(below)):
            above = below[:depth]
            if above not in self._own.folders and above not in self.folders:
                entry = Entry(above[-1], Kind.FOLDER)
                self.folders[above] = PlanStep(
                    Action.MAKE_FOLDER, above, above, entry, Verdict.NEW, "for what is in it"
                )

    def _clear(self, below: Below, target: Entry) -> bool:
        """Remove what stands in the way of another kind; False where a part of it must stay."""
        gone = []
        if target.is_folder:
            if not self._own.whole_under(below):
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
                PlanStep(action, inside, inside, entry, Verdict.REMOVES, "makes way for another kind", entry)
            )
        return True

    def steps(self) -> list[PlanStep]:
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
                self.left.append((step.target, "holds what stays"))
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
        return self.up + self.down + self.removed_here + self.removed_there + self.renamed + self.folders


def flow_of(steps: SyncSteps) -> Flow:
    """The counts of a plan. A removed folder counts as a folder."""
    count: dict[str, int] = defaultdict(int)
    for side, way in ((SideName.THERE, "up"), (SideName.HERE, "down")):
        for step in steps.on(side):
            match step.action:
                case Action.CARRY:
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


@dataclass(frozen=True, slots=True)
class Rolled:
    """What stands below one folder: how many names go each way, clash, or are not known."""

    ups: int = 0
    downs: int = 0
    clashes: int = 0
    unread: int = 0


def rolled(rows: Iterable[SyncRow]) -> dict[Below, Rolled]:
    """The joints below each folder that holds a difference, the top `()` among them; what a sieve holds back is left out."""
    counts: dict[Below, list[int]] = defaultdict(lambda: [0, 0, 0, 0])
    place = {
        Joint.NEWER_HERE: 0,
        Joint.ONLY_HERE: 0,
        Joint.NEWER_THERE: 1,
        Joint.ONLY_THERE: 1,
        Joint.BOTH_CHANGED: 2,
        Joint.NOT_READ: 3,
    }
    for row in rows:
        if row.held or row.standing.joint not in place:
            continue
        for depth in range(len(row.below) or 1):
            counts[row.below[:depth]][place[row.standing.joint]] += 1
    return {below: Rolled(*numbers) for below, numbers in counts.items()}


def last_standing(found: Rolled | None, when: str) -> Standing:
    """A folder's joint from what stood below it at the last reading, and how old that is; None: nothing differed.

    >>> last_standing(Rolled(ups=2), "today 10:42").reason
    'inside: 2 newer or only here, as it was read today 10:42'
    """
    if found is None:
        return Standing(Joint.SAME, f"everything inside was the same when it was read {when}")
    parts = [
        f"{number} {words}"
        for number, words in (
            (found.ups, "newer or only here"),
            (found.downs, "newer or only there"),
            (found.clashes, "both changed"),
            (found.unread, "not read"),
        )
        if number
    ]
    reason = f"inside: {', '.join(parts)}, as it was read {when}"
    if found.clashes or (found.ups and found.downs):
        return Standing(Joint.BOTH_CHANGED, reason)
    if found.ups or found.downs:
        return Standing(Joint.NEWER_HERE if found.ups else Joint.NEWER_THERE, reason)
    return Standing(Joint.NOT_READ, reason)
