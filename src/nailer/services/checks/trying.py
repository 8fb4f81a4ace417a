"""Files that are put on a server for a moment, to see what it does with them. Each has an owner until it is known to be
gone: what one trial could not remove, the next one does."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass

from nailer.core.files.sitepath import SitePath
from nailer.errors import FileMissing, InvalidInput, NailerError, TransferError
from nailer.sides.side import Side, once
from nailer.store.checks.findings import FindingStore
from nailer.store.sites import Site

_PENDING = "proof files"


@dataclass(frozen=True, slots=True)
class TrialFile:
    """A file that is to lie there for a moment."""

    path: SitePath
    content: bytes
    permissions: int = 0o644


class TrialFiles:
    def __init__(self, facts: FindingStore) -> None:
        self._facts = facts

    @asynccontextmanager
    async def lying(
        self, site: Site, side: Side, files: Sequence[TrialFile]
    ) -> AsyncIterator[Mapping[SitePath, TrialFile]]:
        """Those of the files that could be put there, until the end, whatever happens. Raises TransferError, or
        InvalidInput, where none could be put."""
        # Written down first: whatever ends this, they have an owner until they are known to be gone. What an earlier trial
        # left, because it was cut, goes with them.
        owned = [*(one.path for one in files), *await self._left(site)]
        await self._own(site, owned, "being put there")
        try:
            yield await self._put(side, files)
        finally:
            await asyncio.shield(self._clear(site, side, owned))

    @staticmethod
    async def _put(side: Side, files: Sequence[TrialFile]) -> dict[SitePath, TrialFile]:
        put: dict[SitePath, TrialFile] = {}
        why: NailerError = InvalidInput("There is no folder to put the test file in.")
        for one in files:
            try:
                await side.write(one.path, once(one.content))
            except TransferError as error:
                why = error
                continue
            put[one.path] = one
            with contextlib.suppress(
                TransferError
            ):  # not every server sets permissions; most new files can be read anyway
                await side.set_attributes(one.path, permissions=one.permissions)
        if not put:
            raise why
        return put

    async def _left(self, site: Site) -> list[SitePath]:
        """What an earlier trial could not remove."""
        pending = (await self._facts.facts(site.id)).get(_PENDING)
        return [SitePath.of_token(one) for one in pending.value.splitlines()] if pending is not None else []

    async def _own(self, site: Site, files: Sequence[SitePath], how: str) -> None:
        await self._facts.learn(site.id, _PENDING, "\n".join(one.token for one in files), how)

    async def _clear(self, site: Site, side: Side, files: Sequence[SitePath]) -> None:
        """Remove what was put there; what cannot be removed keeps its owner."""
        left = []
        for file in files:
            try:
                await side.remove_file(file)
            except FileMissing:
                continue
            except TransferError:
                left.append(file)
        await self._own(site, left, "left" if left else "removed")
