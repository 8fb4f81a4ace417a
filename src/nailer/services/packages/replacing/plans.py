"""The plan of a replacement as a person reads it: every name with what becomes of it, and what was decided."""

from __future__ import annotations

import hashlib
from collections import Counter, OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, replace

from nailer.bounded import bounded
from nailer.core.compare.merge import Merged, merged, side_by_side
from nailer.core.files.text import decoded, encoded
from nailer.core.files.tree import RelativePath
from nailer.core.packages.manifest import Copied, Manifest
from nailer.core.packages.replacing import Fate, PackageRow, Take, joined, outcome, undecided, versions_compared
from nailer.core.work.states import ReplacementState
from nailer.engine.kept import KeptStore
from nailer.errors import Conflict, InvalidInput, NotFound
from nailer.services.packages.taking import Taker
from nailer.sides.side import once
from nailer.store.packages.copies import CopyKind, CopyStore, VerifiedCopy
from nailer.store.packages.replacements import Replacement, ReplacementStore
from nailer.unbroken import in_thread

_LARGEST_TEXT = 400_000
_REMEMBERED = 12


@dataclass(frozen=True, slots=True)
class ReplacementPlan:
    """What replacing does. `base`: what the hand edits are told by (None: nobody knows what was delivered). `size` and
    `files` are those of the new version, which lies beside the old one; of a package that goes, its own."""

    one: Replacement
    rows: tuple[PackageRow, ...]
    base: VerifiedCopy | None
    undecided: int
    size: int
    files: int

    @property
    def counts(self) -> Counter[Fate]:
        """How many names meet each fate."""
        return Counter(row.fate for row in self.rows)


class ReplacementPlans:
    def __init__(self, store: ReplacementStore, copies: CopyStore, kept: KeptStore) -> None:
        self._store = store
        self._copies = copies
        self._kept = kept
        self._taker = Taker(copies, kept)
        self._rows: OrderedDict[int, tuple[PackageRow, ...]] = OrderedDict()

    def forget(self, replacement_id: int) -> None:
        """It was read anew: what was known of its rows is not so any more."""
        self._rows.pop(replacement_id, None)

    async def of(self, one: Replacement) -> ReplacementPlan:
        """The plan as it stands."""
        rows = await self.rows(one)
        base = await self._base(one)
        result = await self.result(one) if one.new_copy_id else await self.manifest(one.old_copy_id)
        waiting = len(undecided(rows, one.choices)) if one.new_copy_id else 0
        return ReplacementPlan(one, rows, base, waiting, result.size, len(result.files))

    async def manifest(self, copy_id: int | None) -> Manifest:
        """What a copy holds; nothing where there is none."""
        return await self._copies.manifest(copy_id) if copy_id else Manifest(())

    async def rows(self, one: Replacement) -> tuple[PackageRow, ...]:
        """Every name with what becomes of it; texts that two changed are joined as far as that goes."""
        if one.id in self._rows:
            self._rows.move_to_end(one.id)
            return self._rows[one.id]
        old, new = await self.manifest(one.old_copy_id), await self.manifest(one.new_copy_id)
        copy, then, is_delivered = await self._base(one), None, False
        if copy is not None:
            is_delivered = copy.kind is CopyKind.DELIVERED
            then = await self.manifest(copy.id)
            then = then if is_delivered else then.part(one.path.below(copy.path) or ())
        rows = await in_thread(versions_compared, old, new, then, is_delivered=is_delivered)
        found = tuple([await self._joined(row) for row in rows])
        self._rows[one.id] = found
        while len(self._rows) > _REMEMBERED:
            self._rows.popitem(last=False)
        return found

    async def _base(self, one: Replacement) -> VerifiedCopy | None:
        """What the hand edits are told by; None where there is none, or somebody has forgotten that copy."""
        if one.base_copy_id is None:
            return None
        try:
            return await self._copies.get(one.site_id, one.base_copy_id)
        except NotFound:
            return None

    async def _joined(self, row: PackageRow) -> PackageRow:
        if row.fate is not Fate.CLASH or row.old is None or row.new is None:
            return row
        try:
            _, found, _ = await self._texts(row)
        except InvalidInput:
            return row
        if row.base is None:
            return joined(row, places=max(1, len(found.conflicts)))
        return joined(row, places=len(found.conflicts))

    async def _texts(self, row: PackageRow) -> tuple[str, Merged, str]:
        """The old text, what becomes of it and the new one joined, and the new text. Raises InvalidInput where one of
        them is none."""
        old, new = await self._text(row.old), await self._text(row.new)
        base = await self._text(row.base) if row.base is not None else None
        if old is None or new is None:
            raise InvalidInput("Only text files can be merged.")
        if base is None:
            return old, await bounded(side_by_side, old, new), new
        return old, await bounded(merged, base, old, new), new

    async def _text(self, one: Copied | None) -> str | None:
        if one is None or one.digest is None or one.entry.size > _LARGEST_TEXT:
            return None
        found = decoded(await self._taker.content(one.digest))
        return found[0] if found is not None else None

    async def texts(self, one: Replacement, below: RelativePath) -> tuple[PackageRow, str, Merged, str]:
        """A row with its two texts, and both joined. Raises NotFound, InvalidInput."""
        row = await self.row(one, below)
        return (row, *await self._texts(row))

    async def row(self, one: Replacement, below: RelativePath) -> PackageRow:
        """One name. Raises NotFound."""
        for row in await self.rows(one):
            if row.below == below:
                return row
        raise NotFound("This item is not in the plan.")

    async def hashed(self, digest: bytes, algorithm: str) -> bytes:
        """The hash of a kept content by another algorithm (a name of hashlib)."""
        found = hashlib.new(algorithm)
        async for chunk in self._kept.read(digest):
            found.update(chunk)
        return found.digest()

    async def before_and_after(self, one: Replacement, below: RelativePath) -> tuple[bytes, bytes]:
        """What is there of a file, and what will be where it is joined, else the new version's; nothing for none. Raises
        NotFound, InvalidInput."""
        row = await self.row(one, below)
        if row.taken(one.choices) is Take.JOINED and below not in one.joined:
            old, found, _ = await self._texts(row)
            return old.encode(), found.text.encode()
        digests = [end.digest if end is not None else None for end in (row.old, row.new)]
        if row.taken(one.choices) is Take.JOINED:
            digests[1] = one.joined[below][0]
        if any(end is not None and end.entry.size > _LARGEST_TEXT for end in (row.old, row.new)):
            raise InvalidInput("It is too large to be compared here.")
        old_data, new_data = [await self._taker.content(digest) if digest else b"" for digest in digests]
        return old_data, new_data

    async def choose(self, one: Replacement, wanted: Mapping[RelativePath, Take]) -> Replacement:
        """Take choices into the plan. Raises Conflict where it is no plan any more; what a name does not offer is
        refused."""
        _need_planned(one)
        rows = {row.below: row for row in await self.rows(one)}
        for below, take in wanted.items():
            if below not in rows or take not in rows[below].may:
                raise InvalidInput("This cannot be done with this name.")
            if take is Take.JOINED and rows[below].fate is Fate.CLASH and below not in one.joined:
                raise InvalidInput("Resolve its conflicts first.")
        decided = await self._store.choose(one.id, wanted, one.joined)
        return replace(one, choices=decided.choices, joined=decided.joined)

    async def join(self, one: Replacement, below: RelativePath, text: str) -> Replacement:
        """Take a text that a person joined into the plan."""
        _need_planned(one)
        row = await self.row(one, below)
        if Take.JOINED not in row.may or row.old is None:
            raise InvalidInput("Only text files can be merged.")
        one = replace(one, joined={**one.joined, below: await self._keep(one, row, text)})
        return await self.choose(one, {below: Take.JOINED})

    async def settle(self, one: Replacement) -> Replacement:
        """Keep every text that joins by itself and is wanted so."""
        known = dict(one.joined)
        for row in await self.rows(one):
            if row.taken(one.choices) is Take.JOINED and row.below not in known:
                _, found, _ = await self._texts(row)
                if found.conflicts:
                    raise InvalidInput("Resolve all conflicts first.")
                known[row.below] = await self._keep(one, row, found.text)
        if known != dict(one.joined):
            decided = await self._store.choose(one.id, {}, known)
            if decided.choices != one.choices:
                raise Conflict("Something else was decided in this plan in the meantime. Read it again.")
            one = replace(one, joined=decided.joined)
        return one

    async def _keep(self, one: Replacement, row: PackageRow, text: str) -> tuple[bytes, int]:
        form = decoded(await self._taker.content(row.old.digest or b"")) if row.old is not None else None
        if form is None:
            raise InvalidInput("The file there is not a text file.")
        kept = await self._kept.put(once(encoded(text, form[1])), held_by=one.new_copy_id)
        return kept.hash, kept.size

    async def declares(self, one: Replacement) -> str:
        """The version that the package declares afterwards: that of the file that says so, whichever was taken of it."""
        said = await self._taker.declared(one.path, await self.result(one))
        return said.version.text if said is not None else "no version"

    async def left(self, one: Replacement) -> int:
        """How many names were left in the old one: they go when it is let go."""
        if one.in_place or one.new_copy_id is None:
            return 0
        return sum(row.taken(one.choices) is Take.LEAVE for row in await self.rows(one))

    async def result(self, one: Replacement) -> Manifest:
        """What the package is afterwards. One that is replaced name by name keeps what was to be left."""
        rows = await self.rows(one)
        choices = dict(one.choices)
        if one.in_place:
            rows = tuple(_staying(row, choices) for row in rows)
        old, new = await self.manifest(one.old_copy_id), await self.manifest(one.new_copy_id)
        return outcome(rows, choices, await self._written(one), old, new)

    async def _written(self, one: Replacement) -> Mapping[RelativePath, tuple[bytes, int]]:
        """The texts that are joined; those that join by themselves and are not kept yet count with the size of the new."""
        known = dict(one.joined)
        for row in await self.rows(one):
            if row.taken(one.choices) is Take.JOINED and row.below not in known and row.new is not None:
                known[row.below] = (row.new.digest or b"", row.new.entry.size)
        return known


def _staying(row: PackageRow, choices: dict[RelativePath, Take]) -> PackageRow:
    """A name that is left stays where it is when names are replaced one by one."""
    if row.taken(choices) is Take.LEAVE and row.old is not None and Take.CARRY in row.may:
        choices[row.below] = Take.CARRY
    return row


def _need_planned(one: Replacement) -> None:
    if one.state is not ReplacementState.PLANNED:
        raise Conflict("This plan has already been carried out or discarded.")
