"""Where the room went: sizes of folders, and a map of them whose areas are their bytes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nailer.core.files.entry import Entry
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.tree import RelativePath, Tree


@dataclass(frozen=True, slots=True)
class RoomTaken:
    """What lies in a folder and below it: bytes of files, names of every kind, and whether all of it was read."""

    size: int = 0
    names: int = 0
    complete: bool = True


@dataclass(frozen=True, slots=True)
class Tile:
    """One name in a folder with all that lies below it. `kind` is that of a file, or of most bytes in a folder; `newest_ns`
    is the time of the newest file in it, None where nobody says. `rest` counts the names that one tile stands for."""

    name: bytes
    is_folder: bool
    weight: RoomTaken
    kind: FileKind | None = None
    newest_ns: int | None = None
    rest: int = 0


@dataclass(frozen=True, slots=True)
class Box:
    """A place on the map, from its upper left corner."""

    x: float
    y: float
    width: float
    height: float


def weights(tree: Tree) -> dict[RelativePath, RoomTaken]:
    """Every folder of a tree with what lies in it and below; links count as names and are not followed.

    >>> from nailer.core.files.entry import Kind
    >>> file = Entry(b"a", Kind.FILE, 7)
    >>> found = weights(Tree({(): [Entry(b"d", Kind.FOLDER), file], (b"d",): [file]}))
    >>> found[()].size, found[()].names, found[(b"d",)].size
    (14, 3, 7)
    """
    found: dict[RelativePath, RoomTaken] = {}
    for folder in sorted(tree.folders, key=len, reverse=True):
        size = names = 0
        whole = folder not in tree.lacks
        for one in tree.folders[folder]:
            names += 1
            if one.is_file:
                size += one.size
            elif one.is_folder:
                inside = found.get((*folder, one.name), RoomTaken(complete=False))
                size, names, whole = size + inside.size, names + inside.names, whole and inside.complete
        found[folder] = RoomTaken(size, names, whole)
    return found


def tiles(tree: Tree, folder: RelativePath, found: Mapping[RelativePath, RoomTaken], *, most: int = 24) -> list[Tile]:
    """What lies in a folder, the largest first; what is beyond `most` is one tile at the end."""
    all_tiles = sorted((_tile(tree, folder, one, found) for one in tree.folders.get(folder, ())), key=_by_size)
    shown, rest = all_tiles[:most], all_tiles[most:]
    if rest:
        weight = RoomTaken(
            sum(one.weight.size for one in rest),
            sum(one.weight.names for one in rest),
            all(one.weight.complete for one in rest),
        )
        shown.append(Tile(b"", False, weight, rest=len(rest)))
    return shown


def _by_size(one: Tile) -> tuple[int, bytes]:
    return -one.weight.size, one.name


def _tile(tree: Tree, folder: RelativePath, entry: Entry, found: Mapping[RelativePath, RoomTaken]) -> Tile:
    if not entry.is_folder:
        size = entry.size if entry.is_file else 0
        stamp = entry.stamp.at_ns if entry.stamp else None
        return Tile(entry.name, False, RoomTaken(size, 1), kind_by_name(entry.name), stamp)
    below = (*folder, entry.name)
    weight = found.get(below, RoomTaken(complete=False))
    sizes: dict[FileKind | None, int] = {}
    newest: int | None = None
    for _, one in tree.under(below):
        if one.is_file:
            kind = kind_by_name(one.name)
            sizes[kind] = sizes.get(kind, 0) + one.size
            if one.stamp is not None:
                newest = max(newest or 0, one.stamp.at_ns)
    kind = max(sizes, key=lambda one: sizes[one]) if sizes else None
    return Tile(entry.name, True, RoomTaken(weight.size, weight.names + 1, weight.complete), kind, newest)


def squarified(sizes: Sequence[int], box: Box) -> list[Box]:
    """Boxes whose areas stand to each other as the sizes, as near to squares as rows of them allow (Bruls, Huizing and
    van Wijk, Squarified Treemaps, 2000). `sizes` are bytes in falling order; what is 0 gets a box without area.

    >>> [round(one.width * one.height) for one in squarified([6, 3, 1], Box(0, 0, 20, 5))]
    [60, 30, 10]
    """
    total = sum(one for one in sizes if one > 0)
    if total <= 0 or box.width <= 0 or box.height <= 0:
        return [Box(box.x, box.y, 0, 0) for _ in sizes]
    scale = box.width * box.height / total
    areas = [max(0, one) * scale for one in sizes]
    placed: list[Box] = []
    left, at = box, 0
    while at < len(areas):
        row = [areas[at]]
        side = min(left.width, left.height)
        while at + len(row) < len(areas) and _worst([*row, areas[at + len(row)]], side) <= _worst(row, side):
            row.append(areas[at + len(row)])
        boxes, left = _laid(row, left)
        placed += boxes
        at += len(row)
    return placed


def _worst(row: Sequence[float], side: float) -> float:
    """How far from a square the worst box of a row would be."""
    total, most, least = sum(row), max(row), min(row)
    if least <= 0 or side <= 0:
        return float("inf") if total > 0 else 0.0
    return max(side * side * most / (total * total), total * total / (side * side * least))


def _laid(row: Sequence[float], box: Box) -> tuple[list[Box], Box]:
    total = sum(row)
    if total <= 0:
        return [Box(box.x, box.y, 0, 0) for _ in row], box
    boxes = []
    if box.width >= box.height:
        depth, at = total / box.height if box.height else 0, box.y
        for area in row:
            length = area / depth if depth else 0
            boxes.append(Box(box.x, at, depth, length))
            at += length
        return boxes, Box(box.x + depth, box.y, max(0.0, box.width - depth), box.height)
    depth, at = total / box.width if box.width else 0, box.x
    for area in row:
        length = area / depth if depth else 0
        boxes.append(Box(at, box.y, length, depth))
        at += length
    return boxes, Box(box.x, box.y + depth, box.width, max(0.0, box.height - depth))


def grown(
    before: Mapping[RelativePath, RoomTaken], now: Mapping[RelativePath, RoomTaken], *, most: int = 5
) -> list[tuple[RelativePath, int]]:
    """The folders that grew or shrank most between two scans, each with its bytes. Of a folder and the only one below it
    that changed as much, the deeper one is named. What was not read whole both times is left out.

    >>> grown({(): RoomTaken(5), (b"a",): RoomTaken(5)}, {(): RoomTaken(9), (b"a",): RoomTaken(9)})
    [((b'a',), 4)]
    """
    changes = {
        folder: weight.size - before[folder].size if folder in before else weight.size
        for folder, weight in now.items()
        if weight.complete and (folder not in before or before[folder].complete)
    }
    changes |= {folder: -weight.size for folder, weight in before.items() if folder not in now and weight.complete}
    told = {
        folder: change
        for folder, change in changes.items()
        if change and not any(_explains(other, folder, changes) for other in changes)
    }
    return sorted(told.items(), key=lambda one: (-abs(one[1]), one[0]))[:most]


def _explains(other: RelativePath, folder: RelativePath, changes: Mapping[RelativePath, int]) -> bool:
    return len(other) == len(folder) + 1 and other[: len(folder)] == folder and changes[other] == changes[folder]
