"""Manifests of verified copies: every name of a folder with hash, permissions, time and links; when a copy is whole, and
what restoring it does."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.tree import RelativePath, Tree


@dataclass(frozen=True, slots=True)
class Copied:
    """One name of a copy. `digest` is the BLAKE3 hash of a file's content, None for a folder or a link."""

    below: RelativePath
    entry: Entry
    digest: bytes | None = None


@dataclass(frozen=True, slots=True)
class Manifest:
    """Every name of a folder as it was, parents before children."""

    names: tuple[Copied, ...]

    @property
    def files(self) -> tuple[Copied, ...]:
        """The files alone."""
        return tuple(one for one in self.names if one.entry.is_file)

    @property
    def size(self) -> int:
        """The bytes of all files."""
        return sum(one.entry.size for one in self.files)

    def part(self, top: RelativePath) -> Manifest:
        """What lies below one of its folders, as a manifest of that folder."""
        depth = len(top)
        inside = (one for one in self.names if len(one.below) > depth and one.below[:depth] == top)
        return Manifest(tuple(replace(one, below=one.below[depth:]) for one in inside))

    @property
    def data(self) -> list[list[Any]]:
        """As it is stored: bytes as Latin-1 text."""
        return [_row(one) for one in self.names]

    @classmethod
    def of(cls, data: Sequence[Sequence[Any]]) -> Manifest:
        """A manifest out of what was stored."""
        return cls(tuple(_copied(row) for row in data))


def _row(one: Copied) -> list[Any]:
    entry = one.entry
    stamp = [entry.stamp.at_ns, entry.stamp.precision_ns] if entry.stamp is not None else None
    target = entry.target.decode("latin-1") if entry.target is not None else None
    below = [name.decode("latin-1") for name in one.below]
    return [
        below,
        entry.kind.value,
        entry.size,
        stamp,
        entry.permissions,
        target,
        one.digest.hex() if one.digest else None,
    ]


def _copied(row: Sequence[Any]) -> Copied:
    below, kind, size, stamp, permissions, target, digest = row
    names = tuple(name.encode("latin-1") for name in below)
    entry = Entry(
        names[-1],
        Kind(kind),
        size,
        Stamp(*stamp) if stamp else None,
        permissions,
        target=target.encode("latin-1") if target is not None else None,
    )
    return Copied(names, entry, bytes.fromhex(digest) if digest else None)


def names_of(tree: Tree) -> dict[RelativePath, Entry]:
    """Everything in a tree by its names below the top."""
    return {(*folder, entry.name): entry for folder, entries in tree.folders.items() for entry in entries}


def tree_of(manifest: Manifest) -> Tree:
    """The tree that a manifest is of."""
    folders: dict[RelativePath, list[Entry]] = {(): []}
    for one in manifest.names:
        folders.setdefault(one.below[:-1], []).append(one.entry)
        if one.entry.is_folder:
            folders.setdefault(one.below, [])
    return Tree(folders)


def unagreed(first: Tree, second: Tree) -> set[RelativePath]:
    """The names in which two listings differ: what changed while the copy was taken."""
    before, after = names_of(first), names_of(second)
    return {below for below in before.keys() | after.keys() if not _same(before.get(below), after.get(below))}


def _same(one: Entry | None, other: Entry | None) -> bool:
    if one is None or other is None or one.kind is not other.kind:
        return False
    if one.is_file:
        return (one.size, one.stamp, one.permissions) == (other.size, other.stamp, other.permissions)
    return (one.target, one.permissions) == (other.target, other.permissions)


def still_known(entry: Entry, copied: Copied | None, read_at_s: float) -> bytes | None:
    """The hash of a file that is known not to have changed since an earlier copy read it at `read_at_s`; None where its time
    cannot tell."""
    if copied is None or copied.digest is None or entry.stamp is None or copied.entry.stamp is None:
        return None
    if (entry.size, entry.stamp.at_ns) != (copied.entry.size, copied.entry.stamp.at_ns):
        return None
    return copied.digest if _tells(entry, read_at_s) else None


def incomplete(tree: Tree, contents: Mapping[RelativePath, tuple[bytes, int]]) -> str:
    """Why what was taken is no whole copy of a tree; '' where count and bytes say it is. `contents` are the hash and the
    bytes of each file as it was fetched."""
    for below, why in tree.problems.items():
        return f"{_shown(below)} could not be read: {why}"
    for below, lack in tree.lacks.items():
        return f"{_shown(below)} may hold more than its listing: {lack.sentence}"
    files = {below: entry for below, entry in names_of(tree).items() if entry.is_file}
    if lacking := files.keys() - contents.keys():
        return f"{_shown(min(lacking))} is not in the copy."
    for below, entry in files.items():
        if contents[below][1] != entry.size:
            return f"{_shown(below)} has {entry.size} bytes there, but {contents[below][1]} were received."
    return ""


def manifest_of(tree: Tree, contents: Mapping[RelativePath, tuple[bytes, int]]) -> Manifest:
    """The manifest of a tree whose files have these contents."""
    names = sorted(names_of(tree).items(), key=lambda one: (len(one[0]), one[0]))
    return Manifest(
        tuple(Copied(below, entry, contents[below][0] if entry.is_file else None) for below, entry in names)
    )


@dataclass(frozen=True, slots=True)
class RestoreStep:
    """One name that restoring changes: `now` is what is there."""

    copied: Copied
    now: Entry | None
    permissions_only: bool = False


class Difference(StrEnum):
    """How a name stands to its copy: as it was, changed, with other permissions, gone, or come since; or of the same size,
    with a time that cannot tell whether it changed."""

    SAME = "as it was"
    CHANGED = "changed since"
    PERMISSIONS = "has different permissions"
    GONE = "removed since"
    CAME = "added since"
    UNSURE = "unclear from its time"


def difference(then: Entry | None, now: Entry | None, read_at_s: float) -> Difference:
    """How what is there now stands to what was copied, by a copy that was begun at `read_at_s`. A file of the same size and
    time is the same where a change after that would have shown in its time; of a folder only whether it is there, and its
    permissions."""
    if then is None or now is None:
        return Difference.CAME if then is None else Difference.GONE
    if now.kind is not then.kind:
        return Difference.CHANGED
    if then.kind is Kind.LINK:
        return Difference.SAME if now.target == then.target else Difference.CHANGED
    if then.is_file:
        if now.size != then.size or _at(now) != _at(then):
            return Difference.CHANGED
        if not _tells(now, read_at_s):
            return Difference.UNSURE
    is_same = then.permissions is None or now.permissions in (None, then.permissions)
    return Difference.SAME if is_same else Difference.PERMISSIONS


def _tells(entry: Entry, read_at_s: float) -> bool:
    """True where a file that was changed after it was read has another time than this."""
    return entry.stamp is not None and read_at_s > entry.stamp.at_s + max(2.0, entry.stamp.precision_ns / NS)


def differences(manifest: Manifest, now: Tree, read_at_s: float) -> Iterator[tuple[RelativePath, Difference]]:
    """Every name that is not known to be as it was copied, and every name that came since; by their names."""
    then, there = {one.below: one.entry for one in manifest.names}, names_of(now)
    for below in sorted(then.keys() | there.keys()):
        found = difference(then.get(below), there.get(below), read_at_s)
        if found is not Difference.SAME:
            yield below, found


def restore_steps(manifest: Manifest, now: Tree, found: Mapping[RelativePath, Difference]) -> Iterator[RestoreStep]:
    """What must be done for every name of a copy to be as it was, where it is not (`found`); what is there beside it
    stays."""
    there = names_of(now)
    for one in manifest.names:
        match found.get(one.below):
            case Difference.GONE | Difference.CHANGED | Difference.UNSURE:
                yield RestoreStep(one, there.get(one.below))
            case Difference.PERMISSIONS:
                yield RestoreStep(one, there.get(one.below), permissions_only=True)


def _at(entry: Entry) -> int | None:
    return entry.stamp.at_ns if entry.stamp is not None else None


def _shown(below: RelativePath) -> str:
    return b"/".join(below).decode("utf-8", "replace") or "The folder"
