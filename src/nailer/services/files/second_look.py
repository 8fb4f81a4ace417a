"""A second look at names that a listing does not show: asked for one by one, where much hangs on their being gone.

Two cases. Where a listing is not known to be whole, each name that the other side has is asked for by itself: what is
found is there, what is known to be missing is gone, the rest stays unknown. Where a listing looks whole, but names have
vanished from it that were there when the pair was level, a few of them are asked for: a server that cuts its listings
without a word is found out by that, and the whole folder is then looked at name by name.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from contextlib import aclosing
from dataclasses import replace

from nailer.core.files.completeness import Incomplete, Lack
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.files.tree import RelativePath, Tree
from nailer.engine.tasks import at_once
from nailer.errors import FileMissing, TransferError, WrongKind
from nailer.sides.side import Side

_AT_ONCE = 32
_MOST_NAMES = 2000
_SAMPLES_A_FOLDER = 6
_MOST_SAMPLES = 240


async def looked_again(
    side: Side, top: SitePath, tree: Tree, other: Tree, level: Mapping[RelativePath, Iterable[bytes]]
) -> Tree:
    """The tree of a side with what a second look at it has shown. `other` is the tree of the other side, `level` the names
    that were in each folder when both were level. Raises what ends the connection."""
    if tree.missing:
        return tree
    lacks = dict(tree.lacks)
    for folder, name in await _found_out(side, top, tree, level):
        if name.startswith(b"."):
            lacks[folder] = Incomplete(Lack.DOTTED)
        else:
            lacks[folder] = Incomplete(
                Lack.DOUBTED, f"{shown_name(name)} is there, though the listing does not show it"
            )
    if not lacks:
        return tree
    wanted = [
        (*folder, name)
        for folder in sorted(lacks, key=len)
        for name in sorted(_missing_from(tree, folder, [*_names(other, folder), *level.get(folder, ())]))
        if lacks[folder].may_hide(name)
    ][:_MOST_NAMES]
    found, gone = await asked_for(side, top, wanted)
    folders = dict(tree.folders)
    problems = dict(tree.problems)
    for below, entry in found.items():
        folders[below[:-1]] = [*folders.get(below[:-1], ()), entry]
        if entry.is_folder:
            problems[below] = "The server does not list it in its folder, so Nailer leaves it alone."
    return replace(tree, folders=folders, problems=problems, lacks=lacks, ruled_out=frozenset(gone))


def _names(tree: Tree, folder: RelativePath) -> list[bytes]:
    return [entry.name for entry in tree.folders.get(folder, ())]


def _missing_from(tree: Tree, folder: RelativePath, names: Iterable[bytes]) -> set[bytes]:
    return set(names) - set(_names(tree, folder))


async def _found_out(
    side: Side, top: SitePath, tree: Tree, level: Mapping[RelativePath, Iterable[bytes]]
) -> list[tuple[RelativePath, bytes]]:
    """Folders whose listing looked whole and is not, each with a name that is there all the same."""
    samples: list[RelativePath] = []
    for folder, names in level.items():
        if folder not in tree.folders or folder in tree.lacks:
            continue
        missing = sorted(_missing_from(tree, folder, names))
        if missing:
            step = max(1, len(missing) // _SAMPLES_A_FOLDER)
            dotted = [name for name in missing if name.startswith(b".")][:2]
            samples += [(*folder, name) for name in dict.fromkeys([*dotted, missing[-1], *missing[::step]])]
    found, _ = await asked_for(side, top, samples[:_MOST_SAMPLES])
    told: dict[RelativePath, bytes] = {}
    for below in found:
        # A name without a dot in front says more of a listing than one that many servers hide.
        if below[:-1] not in told or told[below[:-1]].startswith(b"."):
            told[below[:-1]] = below[-1]
    return list(told.items())


async def asked_for(
    side: Side, top: SitePath, belows: Iterable[RelativePath]
) -> tuple[dict[RelativePath, Entry], set[RelativePath]]:
    """What is there under some names, and which of them are known not to be there."""
    found: dict[RelativePath, Entry] = {}
    gone: set[RelativePath] = set()

    async def _one(below: RelativePath) -> None:
        try:
            found[below] = await side.stat(top.join(below))
        except (FileMissing, WrongKind):
            gone.add(below)
        except TransferError as error:
            if error.retryable:
                raise

    async with aclosing(at_once((_one(below) for below in belows), _AT_ONCE)) as ended:
        async for _ in ended:
            pass
    return found, gone
