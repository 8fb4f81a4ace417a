"""Changes to one name, made at once: a new folder, a rename. Each records what takes it back."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Sequence
from contextlib import aclosing

from nailer.core.files.entry import SideName
from nailer.core.files.names import packing_name
from nailer.core.files.sitepath import SitePath, checked_name
from nailer.errors import FileMissing, InvalidInput
from nailer.services.files.browse import Browse
from nailer.services.files.download import tarred, zipped
from nailer.services.files.keeping import KeepBook
from nailer.sides.side import tolerated
from nailer.store.changes import ChangeStore, NewChange, What
from nailer.store.sites import Site

_PACKERS = (((b".zip",), zipped), ((b".tar.gz", b".tgz"), tarred))


class SingleChange:
    def __init__(self, browse: Browse, changes: ChangeStore, keeping: KeepBook) -> None:
        self._browse = browse
        self._keeping = keeping
        self._changes = changes

    async def make_folder(self, account_id: int, site: Site, side: SideName, folder: SitePath, name: bytes) -> None:
        """A new folder. Raises AlreadyThere, InvalidInput."""
        path = folder.child(checked_name(name))
        async with self._browse.side(site, side) as target:
            await target.make_folder(path)
        await self._changes.add_confirmed(NewChange(site.id, side, path, What.FOLDER_MADE, account_id))
        self._browse.forget(site.id, side, folder)

    async def make_path(self, account_id: int, site: Site, side: SideName, path: SitePath) -> None:
        """A folder with all above it that are not there yet; each is a change of its own. Raises what making one does."""
        for folder in path.ancestors()[1:]:
            async with self._browse.side(site, side) as target:
                try:
                    await target.stat(folder)
                    continue
                except FileMissing:
                    pass  # this is where the new ones begin
            await self.make_folder(account_id, site, side, folder.parent, folder.name)

    async def pack(
        self, account_id: int, site: Site, folder: SitePath, names: Sequence[bytes], name: bytes
    ) -> SitePath:
        """Pack picked names of a folder here into an archive beside them; its ending says which kind.

        Raises InvalidInput for another ending, AlreadyThere where the name is taken.
        """
        pack = next((make for endings, make in _PACKERS if name.lower().endswith(endings)), None)
        if pack is None:
            raise InvalidInput("Give the archive a name that ends in .zip, .tar.gz or .tgz.")
        if not names:
            raise InvalidInput("Select at least one file or folder first.")
        path, part = folder.child(checked_name(name)), folder.child(packing_name(secrets.token_hex(4)))
        async with self._browse.side(site, SideName.HERE) as side:
            try:
                async with aclosing(pack(side, folder, names)) as chunks:
                    await side.land(part, chunks)
                await side.rename(part, path)
            except BaseException:
                await asyncio.shield(tolerated(side.remove_file(part)))
                raise
            made = await side.stat(path)
        await self._changes.add_confirmed(NewChange(site.id, SideName.HERE, path, What.MADE, account_id, after=made))
        self._browse.forget(site.id, SideName.HERE, folder)
        return path

    async def rename(self, account_id: int, site: Site, side: SideName, path: SitePath, name: bytes) -> SitePath:
        """A new name in the same folder; return the new path. Raises AlreadyThere: nothing is ever renamed over."""
        new = path.parent.child(checked_name(name))
        if new == path:
            return path
        async with self._browse.side(site, side) as target:
            before = await target.stat(path)
            await target.rename(path, new)
        change = NewChange(site.id, side, path, What.RENAMED, account_id, before=before, other_path=new)
        await self._changes.add_confirmed(change)
        await self._keeping.renamed(site, side, path, new)
        self._browse.forget(site.id, side, path.parent)
        return new
