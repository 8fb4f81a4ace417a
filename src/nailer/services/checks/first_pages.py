"""Another first page without a gap: it takes the name of the one that visitors get, in one step, and is looked at."""

from __future__ import annotations

import asyncio

from blake3 import blake3

from nailer.acting import need
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath, address_of, shown_name
from nailer.core.people.rights import Right
from nailer.core.site.first_page import name_to_take
from nailer.core.site.names import is_index
from nailer.errors import InvalidInput
from nailer.services.checks.ground import roots_there
from nailer.services.checks.watching import Watching
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files
from nailer.services.plans import Plans, PreparedFiles, Write
from nailer.store.sites import Site

_THERE = SideName.THERE
_LARGEST_BYTES = 8_000_000


class FirstPages:
    def __init__(self, files: Files, plans: Plans, editing: Editing, watching: Watching) -> None:
        self._browse: Browse = files.browse
        self._prepared: PreparedFiles = plans.prepared
        self._live = editing.live_check
        self._watching = watching

    async def plan(self, account_id: int, site: Site, side: SideName, path: SitePath) -> int:
        """Plan to let a page of either side be what its folder's address serves; return the job. What is served now is
        kept. Raises InvalidInput where the folder is not on the web, or nobody knows what is served."""
        need(Right.CHANGE, site.id)
        folder = path.parent if side is _THERE else site.counterpart(side, path.parent)
        address = address_of(folder, roots_there(site), is_folder=True) if folder is not None else None
        if folder is None or address is None:
            raise InvalidInput(f"{path.parent} is not on the web, so it has no start page.")
        async with self._browse.side(site, side) as own:
            if (await own.stat(path)).size > _LARGEST_BYTES:
                raise InvalidInput(f"{path} is too large for a page.")
            _, content = await own.read_all(path)
        indexes = await self._indexes(site, folder)
        served = await self._live.once(address)
        name = name_to_take(path.name, {name: digest for name, (_, digest) in indexes.items()}, served)
        target = folder.child(name)
        if side is _THERE and target == path:
            raise InvalidInput(f"{path} is already the start page.")
        seen = indexes[name][0] if name in indexes else None
        title = f"{shown_name(path.name)} becomes the first page"
        reason = f"in one step; {shown_name(name)} as it is now is kept" if seen is not None else "there is none yet"
        job_id = await self._prepared.add(account_id, site, _THERE, title, [Write(target, content, seen, reason)])
        await self._watching.watch(site, job_id, [address])
        return job_id

    async def _indexes(self, site: Site, folder: SitePath) -> dict[bytes, tuple[Entry, bytes]]:
        """The first pages of a folder there, each with the hash of its content."""
        async with self._browse.side(site, _THERE) as side:
            names = [one for one in (await side.list(folder)).entries if one.is_file and is_index(one.name)]
            read = await asyncio.gather(*(side.read_all(folder.child(one.name)) for one in names))
        return {one.name: (entry, blake3(data).digest()) for one, (entry, data) in zip(names, read, strict=True)}
