"""Reading both versions of a package: the new one is taken in as it is delivered, the old one is copied and proved."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass, replace

from nailer.core.files.entry import Kind, SideName
from nailer.core.files.sitepath import shown_name
from nailer.core.packages.declared import Declared
from nailer.core.packages.versions import Order, order, version_of
from nailer.core.words import size_text
from nailer.core.work.kinds import CutShort, WorkKind
from nailer.core.work.states import CopyState, ReplacementState
from nailer.engine.engine import Engine
from nailer.engine.swap import tries_renaming
from nailer.engine.work import RunningWork, Supplied
from nailer.errors import Conflict, InvalidInput, NotFound
from nailer.services.files import Browse, Files
from nailer.services.packages.copies import VerifiedCopies
from nailer.services.packages.declaring import Found
from nailer.services.packages.replacing.plans import ReplacementPlans
from nailer.services.packages.sources import VersionSource, VersionSources, check_same_version
from nailer.services.plans import room_at
from nailer.sides.side import Side
from nailer.store.database import Work
from nailer.store.packages.copies import CopyKind, VerifiedCopy
from nailer.store.packages.replacements import Replacement, ReplacementKind, ReplacementStore
from nailer.store.running.works import Change, StoredWork
from nailer.store.sites import Site
from nailer.store.stores import Stores

_Kind, _State = ReplacementKind, ReplacementState


@dataclass(frozen=True, slots=True)
class VersionsToRead:
    """What is read for a replacement: the version that is offered (None: none is), the package that is there (None:
    none), and what is to be said of both."""

    source: VersionSource | None
    old: Found | None
    notes: tuple[str, ...] = ()


@dataclass(slots=True)
class ReadingProgress:
    """A replacement whose versions are being read: what is read now, and what there is to read."""

    words: str
    wish: VersionsToRead | None


class ReplacementReading:
    def __init__(
        self,
        stores: Stores,
        engine: Engine,
        files: Files,
        copies: VerifiedCopies,
        sources: VersionSources,
        plans: ReplacementPlans,
    ) -> None:
        self._store: ReplacementStore = stores.replacements
        self._all_copies = stores.copies
        self._sites = stores.sites
        self._browse: Browse = files.browse
        self._copies = copies
        self.sources = sources
        self._plans = plans
        self._work = engine.work
        engine.work.supply(WorkKind.VERSIONS, Supplied(self._steps, self._broken))

    async def begin(
        self, site: Site, account_id: int, adding: Callable[[Work], int], wish: VersionsToRead | None
    ) -> int:
        """Begin to read; without a wish what was read before is read again. `adding` stores what it is read for, and returns
        its number, which is returned."""
        progress = ReadingProgress("Reading both versions", wish)
        return await self._work.begin(WorkKind.VERSIONS, site.id, account_id, adding, progress)

    def words(self, number: int) -> str:
        """What is read of a replacement now; '' for nothing."""
        progress = self._work.progress(WorkKind.VERSIONS, number, ReadingProgress)
        return progress.words if progress is not None else ""

    async def wait(self, number: int) -> None:
        """Until the versions are read."""
        await self._work.ended(WorkKind.VERSIONS, number)

    async def end(self, number: int) -> None:
        """End reading one."""
        await self._work.end(WorkKind.VERSIONS, number)

    async def _steps(self, work: RunningWork) -> Change:
        wish = work.progress.wish if isinstance(work.progress, ReadingProgress) else None
        one = await self._store.get(work.row.site_id, work.row.subject_id)
        if one is None:
            raise NotFound("This replacement no longer exists.")
        site = await self._sites.get(one.site_id)
        return self._store.planning(await self._read(replace(one, account_id=work.row.account_id), site, wish))

    def _broken(self, row: StoredWork, broken: CutShort) -> Change:
        return self._store.not_read(row.subject_id, f"{broken.words} Nothing was changed.")

    def _say(self, number: int, words: str) -> None:
        progress = self._work.progress(WorkKind.VERSIONS, number, ReadingProgress)
        if progress is not None:
            progress.words = words

    async def _read(self, one: Replacement, site: Site, wish: VersionsToRead | None) -> Replacement:
        """Take both versions in, and make the plan of them."""
        self._plans.forget(one.id)
        if wish is not None:
            one = await self._of_wish(one, site, wish)
        if one.kind is not _Kind.INSTALL:
            self._say(one.id, f"Copying {one.title} as it is there")
            one = replace(one, old_copy_id=await self._verified_copy(one, site))
            base = await self._original(one, site)
            one = replace(one, base_copy_id=base.id if base is not None else one.base_copy_id)
        self._say(one.id, "Comparing the two")
        async with self._browse.side(site, SideName.THERE) as side:
            return await self._on_this_server(one, site, side)

    async def _original(self, one: Replacement, site: Site) -> VerifiedCopy | None:
        """What the old version was when it was delivered: as it is kept, else as it lies here, else as it was first
        copied."""
        known = await self.sources.original(site, one.path, one.old_version, but=one.old_copy_id)
        if (known is not None and known.kind is CopyKind.DELIVERED) or one.kind is not _Kind.REPLACE:
            return known
        old = Found(one.path, one.path.name, Declared(one.title, version_of(one.old_version), ""))
        near = site.counterpart(SideName.THERE, one.path)
        for offered in await self.sources.offered(site, one.path):
            # The folder that is worked in may be edited; what goes by its version is as it came.
            if offered.path == near or order(version_of(offered.version), old.declared.version) is not Order.SAME:
                continue
            with contextlib.suppress(InvalidInput):  # its name may say one version, its files another
                source = await self.sources.here(site, offered.path, old)
                async with self.sources.forgotten_on_error(source):
                    check_same_version(old, source.found)
                return await self.sources.take_in(one.account_id or 0, site, one.path, source)
        return known

    async def _of_wish(self, one: Replacement, site: Site, wish: VersionsToRead) -> Replacement:
        named = wish.old or (wish.source.found if wish.source is not None else None)
        title = named.declared.name if named is not None else ""
        one = replace(one, title=title or shown_name(one.path.name), notes=wish.notes)
        if wish.old is not None:
            one = replace(one, old_version=wish.old.declared.version.text)
        if wish.source is not None:
            self._say(one.id, f"Taking in {wish.source.words}")
            new = await self.sources.take_in(one.account_id or 0, site, one.path, wish.source)
            one = replace(one, new_copy_id=new.id, new_version=wish.source.found.declared.version.text)
        return one

    async def _verified_copy(self, one: Replacement, site: Site) -> int:
        """A whole copy of what is there: what it is compared by, and what brings it back whatever happens."""
        title = f"{one.title} {one.old_version}".strip()
        copy = await self._copies.taken(one.account_id or 0, site, one.path, title)
        if copy.state is not CopyState.VERIFIED:
            raise Conflict(f"{one.path} could not be copied: {copy.problem}")
        return copy.id

    async def _on_this_server(self, one: Replacement, site: Site, side: Side) -> Replacement:
        """How it can be done here: whether folders are renamed, whether there is room for both versions."""
        notes, in_place = list(one.notes), False
        if one.kind is _Kind.REPLACE:
            result = await self._plans.result(one)
            room = await room_at(side, one.path.parent)
            if await tries_renaming(side, one.path.parent) is False:
                if not site.in_place:
                    setting = "Allow in the site's settings that files are overwritten in place first."
                    raise Conflict(f"This server renames nothing. {setting}")
                in_place = True
                notes.append(
                    "This server cannot rename files. They are replaced one by one, and visitors may get a mix "
                    "of both versions meanwhile."
                )
            elif any(name.entry.kind is Kind.LINK for name in result.names) and not site.protocol.traits.makes_links:
                in_place = True
                notes.append(
                    "The package contains symbolic links, which this server cannot create. Files are replaced one "
                    "by one."
                )
            elif room is not None and room < result.size:
                in_place = True
                short = f"the new one needs {size_text(result.size)} beside the old one, and {size_text(room)} are free"
                notes.append(f"Both versions do not fit: {short}. Files are replaced one by one.")
        return replace(one, notes=tuple(dict.fromkeys(notes)), in_place=in_place)
