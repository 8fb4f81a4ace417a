"""What Nailer changed, on either side: looked up, and the contents that were kept of it."""

from __future__ import annotations

from datetime import timedelta

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.engine.kept import KeptStore
from nailer.errors import NotFound
from nailer.store.changes import Change, ChangeStore
from nailer.store.database import utc_now

_LATELY = timedelta(minutes=15)


class ChangeLog:
    """Changes as they were written down, newest first."""

    def __init__(self, store: ChangeStore, kept: KeptStore) -> None:
        self._store = store
        self._kept = kept

    async def get(self, change_id: int) -> Change:
        """Raises NotFound."""
        return await self._store.get(change_id)

    async def of_site(self, site_id: int, change_id: int) -> Change:
        """A change of this site. Raises NotFound where it is another site's."""
        change = await self._store.get(change_id)
        if change.site_id != site_id:
            raise NotFound("This copy belongs to another site.")
        return change

    async def of_path(self, site_id: int, side: SideName, path: SitePath, limit: int = 20) -> list[Change]:
        """What happened to one name."""
        return await self._store.of_path(site_id, side, path, limit)

    async def place_of(self, change: Change) -> SitePath:
        """Where what was changed is now: it, or a folder above it, may have been renamed since."""
        return (await self._store.moves(change.site_id, change.side)).now(change.path, change.at)

    async def of_job(self, job_id: int) -> list[Change]:
        """What a job changed and nobody has taken back."""
        return await self._store.of_job(job_id)

    async def latest(self, site_id: int, *, before: int, side: str, wanted: str, limit: int) -> list[Change]:
        """Changes numbered below `before`, of one side where one is named, with `wanted` in their path."""
        return await self._store.latest(site_id, before=before, side=side, wanted=wanted, limit=limit)

    async def lately_in(self, site_id: int, side: SideName, folder: SitePath) -> dict[bytes, Change]:
        """What was changed directly in a folder within the last quarter of an hour and can be taken back, by name."""
        return await self._store.lately_in(site_id, side, folder, utc_now() - _LATELY)

    async def removed_in(self, site_id: int, side: SideName, folder: SitePath, limit: int) -> list[Change]:
        """Removals below a folder that can be taken back."""
        return await self._store.removed_in(site_id, side, folder, limit)

    async def kept_room(self) -> tuple[int, int]:
        """How many contents are kept, and the bytes that they take on the disk."""
        return await self._store.kept_room()

    async def keeping(self) -> tuple[int | None, int | None]:
        """For how many days, and up to how many bytes, contents are kept; None: no limit."""
        return await self._store.keeping()

    async def content(self, content_hash: bytes) -> bytes:
        """A kept content, whole. Raises FileMissing where it is not kept any more."""
        return b"".join([chunk async for chunk in self._kept.read(content_hash)])
