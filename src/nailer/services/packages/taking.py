"""Taking all of a folder, of whichever side: between two listings that agree, every file with its hash."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Iterable, Mapping
from contextlib import AbstractAsyncContextManager, aclosing
from dataclasses import dataclass, field

from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.packages.declared import Declared, files_to_read
from nailer.core.packages.manifest import Copied, Manifest, incomplete, manifest_of, names_of, unagreed
from nailer.core.words import count_text
from nailer.engine.kept import KeptStore
from nailer.engine.tasks import at_once
from nailer.errors import Conflict, FileMissing, NailerError
from nailer.services.files import Progress, read_tree
from nailer.services.packages.declaring import declared_by
from nailer.sides.side import Side
from nailer.store.packages.copies import CopyStore

_AT_ONCE = 32
_ROUNDS = 4
_TRIES = 4
_PAUSE_S = 1.0

OpenSide = Callable[[], AbstractAsyncContextManager[Side]]
Contents = dict[RelativePath, tuple[bytes, int]]


@dataclass(slots=True)
class CopyStanding:
    """A copy that is being taken: how many files of those to fetch are here. `known` are those that came before a line was
    cut, as they were then: what did not change since is not fetched again."""

    copy_id: int = 0
    done: int = 0
    of: int = 0
    fetched: int = 0
    known: dict[RelativePath, Copied] = field(default_factory=dict)
    begun_s: float = field(default_factory=time.time)


@dataclass(frozen=True, slots=True)
class Taken:
    """All of a folder, as it was between two listings that agree: every content is kept. `fetched` counts the files that
    were fetched for it, `declared` is what a package in it says."""

    manifest: Manifest
    fetched: int
    declared: Declared | None


async def nothing_known(_: Tree) -> Contents:
    """For a folder of which no file is known before it is read."""
    return {}


class Taker:
    def __init__(self, store: CopyStore, kept: KeptStore) -> None:
        self._store = store
        self._kept = kept

    async def attempts(
        self,
        open_side: OpenSide,
        path: SitePath,
        standing: CopyStanding,
        known: Callable[[Tree], Awaitable[Contents]] = nothing_known,
    ) -> Taken:
        """Take the copy. A line that is cut is dialled anew, and what came already is kept. `known` says which contents need
        not be fetched. Raises Conflict where it does not become whole."""
        for left in reversed(range(_TRIES)):
            try:
                async with open_side() as side:
                    return await self._taken(side, path, standing, known)
            except NailerError as error:
                if not error.retryable or not left:
                    raise
                await asyncio.sleep(_PAUSE_S)
        raise AssertionError("the last try returns or raises")

    async def _taken(
        self, side: Side, path: SitePath, standing: CopyStanding, known: Callable[[Tree], Awaitable[Contents]]
    ) -> Taken:
        tree = await read_tree(side, path, Progress())
        if tree.missing:
            raise FileMissing(f"{path} does not exist.")
        contents = await known(tree)
        await self._hold(standing.copy_id, contents.values())
        wanted = _files(tree) - contents.keys()
        for _ in range(_ROUNDS):
            entries = names_of(tree)
            contents |= await self._fetched(side, path, {below: entries[below] for below in wanted}, standing)
            again = await read_tree(side, path, Progress())
            changed = unagreed(tree, again)
            if not changed:
                break
            tree, wanted = again, changed & _files(again)
            contents = {below: one for below, one in contents.items() if below not in changed}
        else:
            raise Conflict(f"{count_text(len(changed), 'item')} kept changing during the copy ({_ROUNDS} attempts).")
        why = incomplete(tree, contents)
        if why:
            raise Conflict(why)
        manifest = manifest_of(tree, contents)
        return Taken(manifest, standing.fetched, await self.declared(path, manifest))

    async def declared(self, path: SitePath, manifest: Manifest) -> Declared | None:
        """What a folder declares whose content is kept; None where it is no package."""
        top = {one.below[0]: one for one in manifest.names if len(one.below) == 1}
        for name in files_to_read(path.name, [one.entry for one in top.values()]):
            found = await declared_by(name, await self.content(top[name].digest or b""))
            if found is not None:
                return found
        return None

    async def content(self, digest: bytes) -> bytes:
        """A small content that is kept. Raises NotFound."""
        return b"".join([chunk async for chunk in self._kept.read(digest)])

    async def _hold(self, copy_id: int, contents: Iterable[tuple[bytes, int]]) -> None:
        await self._store.hold(copy_id, sorted({digest for digest, _ in contents}))

    async def _fetched(
        self, side: Side, path: SitePath, wanted: Mapping[RelativePath, Entry], standing: CopyStanding
    ) -> Contents:
        """Fetch files, several at a time: the hash and the bytes of each, as it came. What is gone meanwhile is left out."""
        standing.done, standing.of = 0, len(wanted)

        async def _one(below: RelativePath) -> tuple[RelativePath, tuple[bytes, int] | None]:
            try:
                kept = await self._kept.put(side.read(path.join(below)), held_by=standing.copy_id)
            except FileMissing:
                return below, None
            standing.done += 1
            standing.fetched += 1
            standing.known[below] = Copied(below, wanted[below], kept.hash)
            return below, (kept.hash, kept.size)

        fetching = at_once((_one(below) for below in sorted(wanted)), _AT_ONCE)
        async with aclosing(fetching) as found:
            return {below: one async for below, one in found if one is not None}


def _files(tree: Tree) -> set[RelativePath]:
    return {below for below, entry in names_of(tree).items() if entry.is_file}
