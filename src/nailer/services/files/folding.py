"""Servers that do not tell capital letters from small ones: a name that was sent comes back in another spelling.

A listing alone cannot show it: `A.html` and `a.html` may be two files. Only where the server gives the very entry that it
lists under one spelling when it is asked for the other are the two taken for one, under the name that the other side has.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import replace

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath, spelled
from nailer.core.files.tree import RelativePath, Tree
from nailer.services.files.second_look import asked_for
from nailer.sides.side import Side


async def folded(
    side: Side, top: SitePath, tree: Tree, other: Tree, level: Mapping[RelativePath, Iterable[bytes]]
) -> tuple[Tree, list[tuple[RelativePath, bytes]]]:
    """The tree of a side under the names that the `other` has or had when both were level, and which of them the server
    lists in another spelling, with that. Raises what ends the connection."""
    renamed: list[tuple[RelativePath, bytes]] = []
    waiting: list[RelativePath] = [()]
    while waiting:
        folder = waiting.pop()
        wanted = [*(one.name for one in other.folders.get(folder, ())), *level.get(folder, ())]
        # A list that may have been cut may lack the very name that is asked for.
        likely = _candidates(tree.folders.get(folder, ()), wanted) if folder not in tree.lacks else []
        if likely:
            found, _ = await asked_for(side, top, [(*folder, name) for _, name in likely])
            names = {
                one.name: name
                for one, name in likely
                if (met := found.get((*folder, name))) is not None and still_as(met, one)
            }
            tree = _under(tree, folder, names)
            renamed += [((*folder, name), listed) for listed, name in names.items()]
        waiting += [
            (*folder, one.name)
            for one in tree.folders.get(folder, ())
            if one.is_folder and (*folder, one.name) in other.folders
        ]
    return tree, renamed


def respelled(tree: Tree, other: Tree) -> bool:
    """True where a name at the top of a tree differs from one of the other in spelling alone."""
    return bool(_candidates(tree.folders.get((), ()), [one.name for one in other.folders.get((), ())]))


def _candidates(entries: Iterable[Entry], wanted: Iterable[bytes]) -> list[tuple[Entry, bytes]]:
    """Entries that nobody calls so on the other side, each with the one name there that differs in spelling alone."""
    ours = {one.name: one for one in entries}
    names = set(wanted)
    alone: dict[str, set[bytes]] = defaultdict(set)
    for name in names - ours.keys():
        alone[spelled(name)].add(name)
    if not alone:
        return []
    return [
        (one, next(iter(found)))
        for one in ours.values()
        if one.name not in names and len(found := alone.get(spelled(one.name), set())) == 1
    ]


def _under(tree: Tree, folder: RelativePath, names: Mapping[bytes, bytes]) -> Tree:
    """The tree with some names of a folder, and all that is below them, under other ones."""
    deep = len(folder)

    def _moved(below: RelativePath) -> RelativePath:
        if len(below) > deep and below[:deep] == folder and below[deep] in names:
            return (*folder, names[below[deep]], *below[deep + 1 :])
        return below

    folders = {_moved(below): entries for below, entries in tree.folders.items()}
    folders[folder] = [replace(one, name=names.get(one.name, one.name)) for one in folders[folder]]
    return replace(
        tree,
        folders=folders,
        problems={_moved(below): why for below, why in tree.problems.items()},
        lacks={_moved(below): lack for below, lack in tree.lacks.items()},
    )
