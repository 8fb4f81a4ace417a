"""Sieves at work: which hold for a pair or a site, and what one catches on the real trees of a pair."""

from __future__ import annotations

import asyncio
import re
import time
from collections import OrderedDict
from collections.abc import Sequence
from contextlib import aclosing
from dataclasses import dataclass, replace

from nailer.bounded import bounded
from nailer.core.check.references import references, refers, target_of
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.kinds import FileKind
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.plans.advice import Doubt
from nailer.core.plans.sieve import CountedAs, Match, Name, RuleGroup, Sieve, Sieves, Test, Tried, name_of, tried
from nailer.errors import NailerError, TransferError, Unreadable
from nailer.services.files.pair_ends import PairEnds, top_of
from nailer.services.files.trees import Progress, kinds_by_content, read_tree
from nailer.sides.connection import Lane
from nailer.sides.side import Side
from nailer.store.pairs import Pair, PairStore
from nailer.store.sieves import SieveStore, StoredSieve
from nailer.store.sites import Site

_KEPT_S = 120.0
_MOST_KEPT = 4
_MOST_PAGES = 2000
_LARGEST_PAGE_BYTES = 1_000_000


@dataclass(frozen=True, slots=True)
class OnPair:
    """A sieve tried on both trees of a pair; `problem` where one of them could not be read."""

    pair: Pair
    here: int
    there: int
    tried: Tried
    problem: str


@dataclass(frozen=True, slots=True)
class _Trees:
    names: list[Name]
    here: int
    there: int
    used: dict[RelativePath, RelativePath]
    problem: str
    read_at_s: float


class SieveBook:
    """The stored sieves, what holds where, and what one catches on real trees."""

    def __init__(self, store: SieveStore, pairs: PairStore, ends: PairEnds) -> None:
        self._store = store
        self._pairs = pairs
        self._ends = ends
        self._trees: OrderedDict[int, _Trees] = OrderedDict()

    async def all(self) -> list[StoredSieve]:
        """All sieves, in their order."""
        return await self._store.all()

    async def get(self, sieve_id: int) -> StoredSieve:
        """Raises NotFound."""
        return await self._store.get(sieve_id)

    async def add(self, sieve: Sieve) -> int:
        """Store a new sieve; return its number."""
        return await self._store.add(sieve)

    async def write(self, sieve_id: int, sieve: Sieve) -> None:
        """Change a stored sieve. Raises NotFound."""
        await self._store.get(sieve_id)
        await self._store.write(replace(sieve, id=sieve_id))

    async def order(self, sieve_ids: Sequence[int]) -> None:
        """Put sieves in this order; those that are not named keep theirs behind."""
        await self._store.order(sieve_ids)

    async def switch(self, sieve_id: int, *, on: bool) -> None:
        """Switch a sieve on or off without losing it. Raises NotFound."""
        await self._store.switch((await self._store.get(sieve_id)).sieve.id, on=on)

    async def remove(self, sieve_id: int) -> None:
        """Raises NotFound."""
        await self._store.remove((await self._store.get(sieve_id)).sieve.id)

    async def begin(self) -> None:
        """A Nailer without any sieve and any pair begins with those of the house."""
        await self._store.begin_with_house()

    async def of_pair(self, pair: Pair) -> list[Sieve]:
        """The sieves that hold for a pair, in their order."""
        return await self._store.of_pair(pair.id)

    async def of_site(self, site: Site) -> Sieves:
        """What holds for the pair of a site's start folders, ready for use."""
        pair = await self.pair_of_site(site)
        sieves = await (self._store.of_pair(pair.id) if pair else self._store.everywhere())
        return Sieves(sieves, time.time_ns())

    async def off_of_site(self, site: Site) -> dict[str, Sieves]:
        """The sieves of the same pair that are switched off, each ready for use as if it were on, by its name."""
        pair = await self.pair_of_site(site)
        sieves = await (self._store.of_pair(pair.id) if pair else self._store.everywhere())
        now_ns = time.time_ns()
        return {one.name: Sieves([replace(one, on=True)], now_ns) for one in sieves if not one.on and one.stays}

    async def off_that_would_hold(
        self, site: Site, below: RelativePath, here: Entry | None, there: Entry | None
    ) -> list[str]:
        """The names of sieves that are switched off and would hold a name of the pair of a site's start folders back."""
        off = await self.off_of_site(site)
        return [name for name, sieves in off.items() if sieves.effects(below, here, there)[0]]

    async def pair_of_site(self, site: Site) -> Pair | None:
        """The pair of a site's start folders, where there is one already."""
        for pair in await self._pairs.of_site(site.id):
            if (pair.here, pair.there, pair.other_site_id) == (site.start_here, site.start_there, None):
                return pair
        return None

    async def hold_back(self, site: Site, folder: SitePath, doubts: Sequence[Doubt]) -> None:
        """A sieve for the pair of a site's start folders that holds these names back from now on; `folder` is where they
        were to go."""
        pair = await self.pair_of_site(site) or await self._pairs.add(
            site.id, site.start_here, site.start_there, site.start_there.shown or "/"
        )
        top = folder.below(site.start_there) or ()
        parts = tuple(Match(Test.PATTERN, _pattern((*top, *one.below))) for one in doubts)
        sieve = Sieve(f"Not for {site.name}", RuleGroup(CountedAs.ANY, parts))
        sieve_id = await self._store.add(sieve)
        await self._pairs.pick_sieves(pair.id, [*await self._pairs.sieves(pair.id), sieve_id])

    async def try_on(self, sieve: Sieve, pair: Pair) -> OnPair:
        """What a sieve catches in a pair. The trees are read once and remembered for a while."""
        trees = self._trees.get(pair.id)
        if trees is None or time.monotonic() - trees.read_at_s > _KEPT_S:
            trees = await self._read(pair)
            self._trees[pair.id] = trees
            if len(self._trees) > _MOST_KEPT:
                self._trees.popitem(last=False)
        found = await asyncio.to_thread(tried, sieve, trees.names, time.time_ns(), trees.used)
        return OnPair(pair, trees.here, trees.there, found, trees.problem)

    async def _read(self, pair: Pair) -> _Trees:
        here, there = await asyncio.gather(self._tree(pair, SideName.HERE), self._tree(pair, SideName.THERE))
        kinds: dict[RelativePath, FileKind] = {}
        used: dict[RelativePath, RelativePath] = {}
        site = await self._ends.site(pair, SideName.THERE)
        async with self._ends.side(pair, SideName.HERE) as side:
            if pair.other_site_id is None:
                kinds = await kinds_by_content(side, pair.here, here[0])
                used = await _used(side, pair, site, here[0])
        names: dict[RelativePath, Name] = {}
        for tree in (there[0], here[0]):
            for folder, entries in tree.folders.items():
                for entry in entries:
                    if entry.is_file:
                        names[(*folder, entry.name)] = name_of((*folder, entry.name), entry, kinds)
        return _Trees(list(names.values()), here[0].files, there[0].files, used, here[1] or there[1], time.monotonic())

    async def _tree(self, pair: Pair, end: SideName) -> tuple[Tree, str]:
        try:
            async with self._ends.side(pair, end, Lane.TRANSFER) as side:
                tree = await read_tree(side, top_of(pair, end), Progress())
        except NailerError as error:
            return Tree({}), error.what
        return tree, next(iter((*tree.problems.values(), *(one.sentence for one in tree.lacks.values()))), "")


def _pattern(below: RelativePath) -> str:
    """A name as a pattern that matches it and nothing else: what patterns mean something by is taken as it is."""
    text = "/".join(name.decode("utf-8", "surrogateescape") for name in below)
    return "/" + re.sub(r"([*?\[\]\\!# ])", r"\\\1", text)


async def _used(side: Side, pair: Pair, site: Site, tree: Tree) -> dict[RelativePath, RelativePath]:
    """Files here that a page or style here refers to, with one that does."""
    roots = _roots(site, pair)
    pages = [
        (*folder, entry.name)
        for folder, entries in tree.folders.items()
        for entry in entries
        if entry.is_file and refers(entry.name) and entry.size <= _LARGEST_PAGE_BYTES
    ]
    used: dict[RelativePath, RelativePath] = {}
    for page in pages[:_MOST_PAGES]:
        path = pair.here.join(page)
        try:
            listed = await bounded(references, page[-1], await _content(side, path))
        except Unreadable:
            continue
        for one in listed:
            target = target_of(one.address, path, roots)
            below = target.below(pair.here) if target is not None else None
            if below:
                used.setdefault(below, page)
    return used


def _roots(site: Site, pair: Pair) -> tuple[DocumentRoot, ...]:
    """The web addresses of the folder here: those of what lies there, moved across."""
    found = []
    for root in site.document_roots:
        below = root.folder.below(pair.there)
        if below is not None:
            found.append(DocumentRoot(pair.here.join(below), root.address))
    return tuple(found)


async def _content(side: Side, path: SitePath) -> bytes:
    try:
        async with aclosing(side.read(path)) as chunks:
            return b"".join([chunk async for chunk in chunks])
    except TransferError:
        return b""
