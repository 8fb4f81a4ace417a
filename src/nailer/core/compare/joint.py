"""How the two sides of one name stand: the joint, from here (L), there (R) and the baseline (B).

    L vs B      R vs B      joint
    same        same        same
    changed     same        newer here
    same        changed     newer there
    changed     changed     same where equal, else both changed
    gone        same        only there (removed here)
    same        gone        only here (removed there)
    gone        changed     both changed       changed against gone likewise
    new         absent      only here
    absent      new         only there
    no baseline             same where equal, else the newer side by time, marked a guess

A file against a folder of the same name, and a link against anything else, are always both changed: no time can settle
that. Two folders are 'not read' until what is in them has been compared (`rolled_up`).

Equality is by size and time. The tolerance is the coarser of the two precisions, at least two seconds (some file systems
keep even seconds only). A difference of exactly one hour with equal sizes is summer time, and reported as such: between
the sides, and on a side that gives whole seconds or less, since it was level. By content, two files are equal where their
hashes are; the baseline is held to by size and time all the same, as it is only asked whether one side was touched.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.files.entry import NS, Entry, Kind, Stamp

_LEAST_TOLERANCE_NS = 2 * NS
_HOUR_NS = 3600 * NS


class Joint(StrEnum):
    """How one name stands on its two sides."""

    SAME = "same"
    NEWER_HERE = "newer-here"
    NEWER_THERE = "newer-there"
    ONLY_HERE = "only-here"
    ONLY_THERE = "only-there"
    BOTH_CHANGED = "both-changed"
    NOT_READ = "not-read"


JOINT_WORDS = {
    Joint.SAME: "same",
    Joint.NEWER_HERE: "newer here",
    Joint.NEWER_THERE: "newer there",
    Joint.ONLY_HERE: "only here",
    Joint.ONLY_THERE: "only there",
    Joint.BOTH_CHANGED: "both changed",
    Joint.NOT_READ: "not read",
}


class Compare(StrEnum):
    """By what two files are held to be equal."""

    SIZE_AND_TIME = "size-and-time"
    SIZE = "size"
    CONTENT = "content"


@dataclass(frozen=True, slots=True)
class Seen:
    """What the baseline remembers of one side of a file."""

    size: int
    stamp: Stamp | None


@dataclass(frozen=True, slots=True)
class Baseline:
    """What both sides held when this name was last level."""

    here: Seen
    there: Seen
    folder: bool = False
    content_hash: bytes | None = None


@dataclass(frozen=True, slots=True)
class Standing:
    """A joint with its reason. `guess` where only the times speak; `removed` where the other side once had the name."""

    joint: Joint
    reason: str
    guess: bool = False
    removed: bool = False

    @property
    def differs(self) -> bool:
        """True where the sides are known to differ."""
        return self.joint not in (Joint.SAME, Joint.NOT_READ)


def same_time(one: Stamp | None, other: Stamp | None) -> bool:
    """True where two times are equal within what both sides can tell. An unknown time is equal to none."""
    if one is None or other is None:
        return False
    return abs(one.at_ns - other.at_ns) <= max(one.precision_ns, other.precision_ns, _LEAST_TOLERANCE_NS)


def same_content(one: Seen, other: Seen, compare: Compare = Compare.SIZE_AND_TIME) -> bool:
    """True where size, and time if asked for, say that two files are the same."""
    if one.size != other.size:
        return False
    return compare is Compare.SIZE or same_time(one.stamp, other.stamp)


def _untouched(now: Seen, was: Seen, compare: Compare) -> bool:
    """True where a side still holds what it held when level, summer time come or gone."""
    if same_content(now, was, compare):
        return True
    if now.size != was.size or now.stamp is None or was.stamp is None or now.stamp.precision_ns < NS:
        return False
    return _hour_apart(now.stamp, was.stamp)


def _hour_apart(one: Stamp, other: Stamp) -> bool:
    tolerance = max(one.precision_ns, other.precision_ns, _LEAST_TOLERANCE_NS)
    return abs(abs(one.at_ns - other.at_ns) - _HOUR_NS) <= tolerance


def still_as(now: Entry, was: Entry) -> bool:
    """True where two looks at one name on one side say that nobody changed it: kind and size, and the time where the
    side gave one both times.

    >>> still_as(Entry(b"a", Kind.FILE, 3), Entry(b"a", Kind.FILE, 4))
    False
    """
    if now.kind is not was.kind:
        return False
    if not now.is_file:
        return True
    if now.size != was.size:
        return False
    return now.stamp is None or was.stamp is None or same_time(now.stamp, was.stamp)


def seen(entry: Entry) -> Seen:
    """What a later look at an entry is compared with: its size and its time."""
    return Seen(entry.size, entry.stamp)


def joint_of(
    here: Entry | None,
    there: Entry | None,
    baseline: Baseline | None = None,
    *,
    compare: Compare = Compare.SIZE_AND_TIME,
    equal: bool | None = None,
    unsure: str = "",
) -> Standing:
    """How one name stands. `unsure` says why the side that seems to lack it may have it all the same. `equal` is what the
    contents of two files of one size say, None where they were not read.

    Raises ValueError where neither side has it.

    >>> joint_of(Entry(b"a", Kind.FILE, 3), None).joint
    <Joint.ONLY_HERE: 'only-here'>
    """
    if here is None and there is None:
        raise ValueError("a name that neither side has has no joint")
    if (here is None or there is None) and unsure:
        return Standing(Joint.NOT_READ, f"unknown whether it exists {'there' if there is None else 'here'}. {unsure}")
    if here is None or there is None:
        return _one_sided(here, there, baseline, compare)
    if here.kind is not there.kind:
        return Standing(Joint.BOTH_CHANGED, f"a {here.kind} here, a {there.kind} there")
    match here.kind:
        case Kind.FOLDER:
            return Standing(Joint.NOT_READ, "what is in it has not been compared")
        case Kind.LINK:
            if here.target == there.target:
                return Standing(Joint.SAME, "both are links to the same place")
            return Standing(Joint.BOTH_CHANGED, "both are links, to different places")
        case Kind.OTHER:
            return Standing(Joint.NOT_READ, "neither a file nor a folder")
    if baseline is None:
        return _guessed(here, there, compare, equal)
    return _three_way(here, there, baseline, compare, equal)


def _one_sided(here: Entry | None, there: Entry | None, baseline: Baseline | None, compare: Compare) -> Standing:
    present = here or there
    if present is None:
        raise ValueError("one side must hold the name")
    joint, side, other = (Joint.ONLY_HERE, "here", "there") if here is not None else (Joint.ONLY_THERE, "there", "here")
    if baseline is None or present.kind not in (Kind.FILE, Kind.FOLDER):
        return Standing(joint, f"only {side}")
    if present.is_folder is not baseline.folder:
        return Standing(joint, f"only {side}; replaces what was in sync")
    before = baseline.here if here is not None else baseline.there
    if present.is_folder or _untouched(seen(present), before, compare):
        return Standing(joint, f"removed {other} since the last sync", removed=True)
    return Standing(Joint.BOTH_CHANGED, f"changed {side} and removed {other} since the last sync", removed=True)


def _three_way(here: Entry, there: Entry, baseline: Baseline, compare: Compare, equal: bool | None) -> Standing:
    if baseline.folder:
        return _guessed(here, there, compare, equal)
    changed_here = not _untouched(seen(here), baseline.here, compare)
    changed_there = not _untouched(seen(there), baseline.there, compare)
    if changed_here and changed_there:
        if _equal(here, there, compare, equal):
            return Standing(Joint.SAME, "changed on both sides, with the same result")
        return Standing(Joint.BOTH_CHANGED, "changed on both sides since the last sync")
    if compare is Compare.CONTENT and equal is not None and (changed_here or changed_there or not equal):
        if equal:
            return Standing(Joint.SAME, "different time, same content")
        if not changed_here and not changed_there:
            return Standing(Joint.BOTH_CHANGED, "same size and time, but different content")
    if changed_here:
        return Standing(Joint.NEWER_HERE, "changed here since the last sync")
    if changed_there:
        return Standing(Joint.NEWER_THERE, "changed there since the last sync")
    return Standing(Joint.SAME, "unchanged since the last sync")


def _equal(here: Entry, there: Entry, compare: Compare, equal: bool | None) -> bool:
    if compare is Compare.CONTENT and equal is not None:
        return equal
    return same_content(seen(here), seen(there), compare)


def _guessed(here: Entry, there: Entry, compare: Compare, equal: bool | None) -> Standing:
    if compare is Compare.CONTENT and equal is not None and equal:
        return Standing(Joint.SAME, "same content")
    unequal = compare is Compare.CONTENT and equal is False
    if not unequal and same_content(seen(here), seen(there), compare):
        return Standing(Joint.SAME, "same size" if compare is Compare.SIZE else "same size and time")
    if here.stamp is None or there.stamp is None:
        if here.size == there.size and not unequal:
            return Standing(Joint.SAME, "same size; one side gives no time", guess=True)
        return Standing(Joint.BOTH_CHANGED, "different; one side gives no time", guess=True)
    if not unequal and here.size == there.size and _hour_apart(here.stamp, there.stamp):
        return Standing(Joint.SAME, "same size, times differ by exactly one hour (daylight saving time)", guess=True)
    if same_time(here.stamp, there.stamp):
        return Standing(Joint.BOTH_CHANGED, "same time, but different", guess=True)
    if here.stamp.at_ns > there.stamp.at_ns:
        return Standing(Joint.NEWER_HERE, "newer here", guess=True)
    return Standing(Joint.NEWER_THERE, "newer there", guess=True)


def rolled_up(inside: Iterable[Standing], *, complete: bool) -> Standing:
    """A folder's joint from those of everything in it. `complete` is False where a part was not read.

    >>> rolled_up([Standing(Joint.ONLY_HERE, ""), Standing(Joint.SAME, "")], complete=True).joint
    <Joint.NEWER_HERE: 'newer-here'>
    """
    ups = downs = clashes = 0
    for standing in inside:
        match standing.joint:
            case Joint.NEWER_HERE | Joint.ONLY_HERE:
                ups += 1
            case Joint.NEWER_THERE | Joint.ONLY_THERE:
                downs += 1
            case Joint.BOTH_CHANGED:
                clashes += 1
            case Joint.NOT_READ:
                complete = False
    tail = "" if complete else ", as far as it was read"
    if clashes or (ups and downs):
        counts = f"{ups} newer or only here, {downs} newer or only there, {clashes} both changed"
        return Standing(Joint.BOTH_CHANGED, f"inside: {counts}{tail}")
    if ups:
        return Standing(Joint.NEWER_HERE, f"inside: {ups} newer or only here{tail}")
    if downs:
        return Standing(Joint.NEWER_THERE, f"inside: {downs} newer or only there{tail}")
    if complete:
        return Standing(Joint.SAME, "everything inside is the same")
    return Standing(Joint.NOT_READ, "its contents have not all been compared")
