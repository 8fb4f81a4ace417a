"""The two ends of a pair: here and there, or two sites of which one plays here."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.services.files.browse import Browse
from nailer.sides.connection import Lane
from nailer.sides.side import Side
from nailer.store.pairs import Pair
from nailer.store.sites import Site, SiteStore


class PairEnds:
    def __init__(self, browse: Browse, sites: SiteStore) -> None:
        self._browse = browse
        self._sites = sites

    async def site(self, pair: Pair, end: SideName) -> Site:
        """The site whose side an end is: of this machine's folders the one that they are paired with."""
        other = pair.other_site_id if end is SideName.HERE else None
        return await self._sites.get(other if other is not None else pair.site_id)

    @asynccontextmanager
    async def side(self, pair: Pair, end: SideName, lane: Lane = Lane.BROWSE) -> AsyncIterator[Side]:
        """An end, connected. Raises what connecting raises."""
        async with self._browse.side(await self.site(pair, end), side_of(pair, end), lane) as side:
            yield side

    def redraw(self, pair: Pair) -> None:
        """The files view shows what was read now."""
        self._browse.redraw(pair.site_id)


def side_of(pair: Pair, end: SideName) -> SideName:
    """On which side of its site an end lies. In a pair of two sites the end called *here* is on a server, too."""
    return SideName.THERE if pair.other_site_id is not None else end


def top_of(pair: Pair, end: SideName) -> SitePath:
    """The folder of a pair's end."""
    return pair.here if end is SideName.HERE else pair.there
