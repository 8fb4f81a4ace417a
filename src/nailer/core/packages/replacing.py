"""What putting a new version in the place of an old one does to each name, and what the folder is afterwards.

Three manifests meet: what lies there (old), what the old version was when it was delivered (base; None: nobody knows), and
what is delivered now (new). Contents are compared by their hashes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from nailer.core.files.entry import Entry, Kind
from nailer.core.files.tree import RelativePath
from nailer.core.packages.manifest import Copied, Manifest


class Fate(StrEnum):
    """What becomes of one name."""

    ADDED = "added"
    CHANGED = "changed"
    SAME = "same"
    EDITED = "edited"
    MERGED = "merged"
    CLASH = "clash"
    OWN = "own"
    LEFTOVER = "leftover"
    UNSURE = "unsure"


class Take(StrEnum):
    """What a person may want of a name: the new version's, the old one as it is, both joined; and of a name that only the
    old has: carried over into the new, left in the old that is kept, or dropped with it."""

    NEW = "new"
    OLD = "old"
    JOINED = "joined"
    CARRY = "carry"
    LEAVE = "leave"
    DROP = "drop"


ONLY_OLD = (Take.CARRY, Take.LEAVE, Take.DROP)
_STAYS_OUT = (Take.LEAVE, Take.DROP)
_PROGRAMS = (
    b".php",
    b".phtml",
    b".inc",
    b".js",
    b".mjs",
    b".css",
    b".html",
    b".htm",
    b".tpl",
    b".twig",
    b".pl",
    b".cgi",
    b".py",
)


@dataclass(frozen=True, slots=True)
class PackageRow:
    """One name with its three ends. `may` is what can be wanted of it, `advised` what is done unless a person wants another
    (None: a person must decide)."""

    below: RelativePath
    fate: Fate
    old: Copied | None
    base: Copied | None
    new: Copied | None
    may: tuple[Take, ...]
    advised: Take | None
    reason: str

    def taken(self, choices: Mapping[RelativePath, Take]) -> Take | None:
        """What is done with it; None where that is not decided yet. A choice that it does not offer counts for nothing."""
        wanted = choices.get(self.below, self.advised)
        return wanted if wanted in self.may else self.advised


def versions_compared(
    old: Manifest, new: Manifest, base: Manifest | None, *, is_delivered: bool = True
) -> tuple[PackageRow, ...]:
    """Every name that is no folder, and each folder that is empty in the old alone; by their names. `is_delivered`: False
    where the base is only how the old one was found first, so that nobody knows of a name in it who put it there."""
    theirs, then = _named(old), _named(base) if base is not None else None
    ours = _named(new)
    full = {one.below[:-1] for one in old.names}
    rows = []
    for below in sorted(theirs.keys() | ours.keys()):
        was, is_new = theirs.get(below), ours.get(below)
        if was is not None and was.entry.is_folder and (below in full or is_new is not None):
            was = None
        if is_new is not None and is_new.entry.kind not in (Kind.FILE, Kind.LINK):
            is_new = None
        if was is None and is_new is None:
            continue
        origin = then.get(below) if then is not None else None
        if was is None:
            rows.append(_brought(below, origin, is_new))
        elif is_new is None:
            weak = origin is not None and not is_delivered and same_content(was, origin)
            origin, is_known = (None, False) if weak else (origin, then is not None)
            rows.append(_only_old(below, was, origin, is_known=is_known, ours=ours))
        else:
            rows.append(_both(below, was, origin, is_new, is_known=then is not None))
    return tuple(rows)


def _named(manifest: Manifest) -> dict[RelativePath, Copied]:
    return {one.below: one for one in manifest.names}


def _brought(below: RelativePath, base: Copied | None, new: Copied | None) -> PackageRow:
    if base is None:
        return PackageRow(below, Fate.ADDED, None, None, new, (Take.NEW,), Take.NEW, "comes with the new version")
    reason = "was removed by hand; the new version adds it again"
    return PackageRow(below, Fate.ADDED, None, base, new, (Take.NEW, Take.LEAVE), Take.NEW, reason)


def _only_old(
    below: RelativePath, old: Copied, base: Copied | None, *, is_known: bool, ours: Mapping[RelativePath, Copied]
) -> PackageRow:
    def _row(fate: Fate, advised: Take | None, reason: str, may: tuple[Take, ...] = ONLY_OLD) -> PackageRow:
        return PackageRow(below, fate, old, base, None, may, advised, reason)

    if old.entry.kind is Kind.OTHER:
        return _row(Fate.UNSURE, Take.LEAVE, "cannot be transferred: it is not a file, a folder or a link", _STAYS_OUT)
    if below in ours or any(
        below[:depth] in ours and not ours[below[:depth]].entry.is_folder for depth in range(1, len(below))
    ):
        reason = "cannot be kept: in the new version this name is a different kind"
        return _row(Fate.OWN if base is None and is_known else Fate.UNSURE, Take.LEAVE, reason, _STAYS_OUT)
    if base is not None:
        if same_content(old, base):
            return _row(Fate.LEFTOVER, Take.DROP, "came with the old version; the new one does not have it")
        return _row(Fate.CLASH, None, "was edited by hand; the new version no longer has this file")
    if is_known:
        return _row(Fate.OWN, Take.CARRY, "was added by hand")
    if old.entry.is_file and below[-1].lower().endswith(_PROGRAMS):
        return _row(Fate.UNSURE, None, "may belong to the old version or have been added by hand: unknown")
    return _row(Fate.UNSURE, Take.CARRY, "may belong to the old version or have been added by hand: unknown")


def _both(below: RelativePath, old: Copied, base: Copied | None, new: Copied, *, is_known: bool) -> PackageRow:
    def _row(fate: Fate, advised: Take | None, reason: str, may: tuple[Take, ...] = (Take.NEW, Take.OLD)) -> PackageRow:
        return PackageRow(below, fate, old, base, new, may, advised, reason)

    if old.entry.kind is Kind.OTHER:
        return _row(
            Fate.CLASH, Take.NEW, "is not a file, a folder or a link in the old version", (Take.NEW, Take.LEAVE)
        )
    if old.entry.kind is not new.entry.kind:
        return _row(Fate.CLASH, None, "is of another kind in the new version")
    if same_content(old, new):
        return _row(Fate.SAME, Take.OLD, "is the same in both", (Take.OLD,))
    if not is_known:
        return _row(Fate.CHANGED, Take.NEW, "differs; whether it was edited by hand is not known")
    if base is None:
        return _row(Fate.CLASH, None, "was added by hand; the new version has a file of this name, too")
    if same_content(old, base):
        return _row(Fate.CHANGED, Take.NEW, "unchanged by you, newer in the new version")
    if same_content(new, base):
        return _row(Fate.EDITED, Take.OLD, "was edited by hand; the new version did not change this file")
    return _row(Fate.CLASH, None, "was edited by hand, and the new version changed it, too")


def same_content(one: Copied, other: Copied) -> bool:
    """True where two names hold the same: content for files, target for links."""
    if one.entry.kind is not other.entry.kind:
        return False
    if one.entry.is_file:
        return one.digest == other.digest
    return one.entry.target == other.entry.target


def joined(row: PackageRow, *, places: int) -> PackageRow:
    """A row whose two texts were joined three ways; `places` are those that a person must decide."""
    may = tuple(dict.fromkeys((Take.JOINED, *row.may)))
    if places:
        return replace(row, may=may, reason=f"{row.reason}: {places} {'place' if places == 1 else 'places'} to decide")
    reason = "was edited by hand; your edits are merged with the new version"
    return replace(row, fate=Fate.MERGED, may=may, advised=Take.JOINED, reason=reason)


def undecided(rows: Iterable[PackageRow], choices: Mapping[RelativePath, Take]) -> list[PackageRow]:
    """What a person must decide before the new version can come."""
    return [row for row in rows if row.taken(choices) is None]


def hand_edits(manifest: Manifest, base: Manifest) -> list[RelativePath]:
    """The files that differ from what was delivered."""
    then = _named(base)
    return [one.below for one in manifest.names if one.below in then and not same_content(one, then[one.below])]


def outcome(
    rows: Sequence[PackageRow],
    choices: Mapping[RelativePath, Take],
    written: Mapping[RelativePath, tuple[bytes, int]],
    old: Manifest,
    new: Manifest,
) -> Manifest:
    """What the folder is afterwards. `written` are the hash and the bytes of each text that was joined. What stays out of it
    is as it was in the old one, which is kept. A file that was there keeps its permissions, a folder too."""
    before = _named(old)
    names: dict[RelativePath, Copied] = {}
    for row in rows:
        one = _one(row, row.taken(choices), written)
        if one is not None:
            names[row.below] = one
    folders = {one.below for one in new.names if one.entry.is_folder}
    folders |= {below[:depth] for below in names for depth in range(1, len(below))}
    ours = _named(new)
    for below in folders - names.keys():
        was = before.get(below)
        here = was if was is not None and was.entry.is_folder else ours.get(below)
        names[below] = here if here is not None else Copied(below, Entry(below[-1], Kind.FOLDER))
    return Manifest(tuple(names[below] for below in sorted(names, key=lambda one: (len(one), one))))


def _one(row: PackageRow, taken: Take | None, written: Mapping[RelativePath, tuple[bytes, int]]) -> Copied | None:
    match taken:
        case Take.NEW if row.new is not None:
            return _with_permissions_of(row.old, row.new)
        case Take.OLD | Take.CARRY:
            return row.old
        case Take.JOINED if row.below in written and row.old is not None:
            digest, size = written[row.below]
            return Copied(row.below, replace(row.old.entry, size=size, stamp=None), digest)
        case _:
            return None


def _with_permissions_of(old: Copied | None, new: Copied) -> Copied:
    if old is None or old.entry.kind is not new.entry.kind or old.entry.permissions is None:
        return new
    return replace(new, entry=replace(new.entry, permissions=old.entry.permissions))
