"""What a wish does with each row, what else each row offers, and what was decided."""

from __future__ import annotations

import hashlib
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nailer.core.compare.joint import Joint
from nailer.core.files.entry import NS, Entry, Kind, SideName
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.pairs.rows import Decisions, SyncRow
from nailer.core.pairs.wishes import Direction, Doing, Removals, SyncWish


@dataclass(frozen=True, slots=True)
class RemovalBlock:
    """Why nothing is removed on a side; '' where removals are allowed."""

    here: str = ""
    there: str = ""


def bars(here: Tree, there: Tree) -> RemovalBlock:
    """Removals are barred on the side across from one that was found empty: a disk that is not mounted, or a folder that
    was exchanged, looks the same as all files removed."""
    return RemovalBlock(
        here="the folder there is empty, so nothing is removed here" if there.is_empty else "",
        there="the folder here is empty, so nothing is removed there" if here.is_empty else "",
    )


def proposed(
    rows: Sequence[SyncRow],
    wish: SyncWish,
    barred: RemovalBlock = RemovalBlock(),
    *,
    hashes: Mapping[RelativePath, bytes] | None = None,
) -> Decisions:
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
    return Decisions(each, why, goes_with | {old: new for new, old in goes_with.items()})


def _proposal(row: SyncRow, wish: SyncWish, barred: RemovalBlock) -> tuple[Doing, str]:
    standing, level = row.standing, wish.direction is Direction.LEVEL
    if row.held:
        return Doing.STAYS, row.held
    if standing.joint is Joint.NOT_READ:
        return Doing.LEAVE, "" if row.below else "the top folders of the pair could not be compared"
    kinds = {entry.kind for entry in (row.here, row.there) if entry is not None}
    if kinds & {Kind.OTHER} or kinds == {Kind.LINK}:
        return Doing.LEAVE, "links are not transferred" if kinds == {Kind.LINK} else "neither a file nor a folder"
    if row.twin is not None:
        return Doing.DECIDE, "the other side has the same name with different spelling; many systems cannot store both"
    match standing.joint:
        case Joint.BOTH_CHANGED:
            return _clash(row, wish.direction)
        case Joint.NEWER_HERE | Joint.NEWER_THERE:
            if level and standing.guess:
                return Doing.DECIDE, "never in sync before: which version do you want?"
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


def _one_sided(row: SyncRow, wish: SyncWish, barred: RemovalBlock) -> tuple[Doing, str]:
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
            return Doing.LEAVE, "removals are turned off"
        case Removals.ASK:
            return Doing.DECIDE, "remove it, or bring it back?" if removed else "remove it, or keep it?"
        case Removals.FOLLOW:
            return (Doing.REMOVE_HERE if on_here else Doing.REMOVE_THERE), ""


def _renamings(rows: Sequence[SyncRow], each: Sequence[Doing], hashes: Mapping[RelativePath, bytes]) -> dict[int, int]:
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
    rows: Sequence[SyncRow], new: Sequence[int], old: Sequence[int], hashes: Mapping[RelativePath, bytes]
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


def decided(rows: Sequence[SyncRow], offered: Decisions, chosen: Mapping[int, Doing]) -> Decisions:
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
    return Decisions(each, why, offered.goes_with)
