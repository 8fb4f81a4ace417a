"""Reading whole trees: many folders at a time, with progress, and without what a sieve holds back as a whole."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import aclosing
from dataclasses import dataclass

from nailer.core.files.completeness import Incomplete
from nailer.core.files.entry import Entry
from nailer.core.files.kinds import HEAD_BYTES, FileKind, kind_by_head, kind_by_name
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.errors import FileMissing, InvalidInput, TransferError
from nailer.sides.side import Side, walk

_MOST_NAMES = 3_000_000
_MOST_HEADS = 4000


@dataclass(slots=True)
class Progress:
    """How far the reading of one tree is."""

    folders: int = 0
    names: int = 0
    ended: bool = False


async def read_tree(
    side: Side, top: SitePath, progress: Progress, *, enter: Callable[[RelativePath, Entry], bool] | None = None
) -> Tree:
    """Everything below a folder. A folder that cannot be read is a problem of the tree; one that is not there at all makes
    it `missing`. `enter` says whether a folder is read. Raises what ends the connection, and InvalidInput past three
    million names."""
    folders: dict[RelativePath, list[Entry]] = {}
    problems: dict[RelativePath, str] = {}
    lacks: dict[RelativePath, Incomplete] = {}
    reading = walk(side, top, careful=True) if enter is None else walk(side, top, careful=True, enter=enter)
    async with aclosing(reading) as readings:
        async for one in readings:
            if one.problem is None:
                folders[one.below] = one.entries
                if one.lack is not None:
                    lacks[one.below] = one.lack
            elif one.problem.retryable:
                raise one.problem
            elif not one.below and isinstance(one.problem, FileMissing):
                progress.ended = True
                return Tree({(): ()}, missing=True)
            else:
                problems[one.below] = one.problem.what
            progress.folders += 1
            progress.names += len(one.entries)
            if progress.names > _MOST_NAMES:
                raise InvalidInput("This folder contains more than 3 million files. Use smaller folders for the pair.")
    progress.ended = True
    return Tree(folders, problems, lacks)


async def kinds_by_content(side: Side, top: SitePath, tree: Tree) -> dict[RelativePath, FileKind]:
    """Kinds of files whose names say nothing, by their first bytes. Reads at most a few thousand, for a near side."""
    found: dict[RelativePath, FileKind] = {}
    heads = 0
    for folder, entries in tree.folders.items():
        for entry in entries:
            if not entry.is_file or not entry.size or kind_by_name(entry.name) is not None:
                continue
            heads += 1
            if heads > _MOST_HEADS:
                return found
            below = (*folder, entry.name)
            kind = kind_by_head(await _head(side, top.join(below)))
            if kind is not None:
                found[below] = kind
    return found


async def _head(side: Side, path: SitePath) -> bytes:
    try:
        async with aclosing(side.read(path, ahead=HEAD_BYTES)) as chunks:
            async for chunk in chunks:
                return chunk[:HEAD_BYTES]
    except TransferError:
        return b""
    return b""
