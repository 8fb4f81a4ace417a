"""The packages of a site: folders with a declared version, what is known of each, and the same here."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass

from nailer.acting import reaches
from nailer.core.files.entry import Entry, SideName, Stamp
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.packages.advice import where_to_change
from nailer.core.packages.declared import Declared
from nailer.core.packages.versions import Order, Version, order
from nailer.errors import InvalidInput, NailerError, NotFound
from nailer.services.checks import Checks, SiteLearned, need_whole
from nailer.services.files import Browse, Files
from nailer.services.packages.asides import Asides
from nailer.services.packages.declaring import Found, declared_in, entries_of
from nailer.services.packages.sources import HandEdits, Listed, Offered, VersionSources
from nailer.sides.side import Side
from nailer.store.packages.searches import SetAside
from nailer.store.packages.seen import SeenPackage
from nailer.store.sites import Site
from nailer.store.stores import Stores

_DEEPEST = 3
_MOST_FOLDERS = 400
_AT_ONCE = 12
_THERE = SideName.THERE


@dataclass(frozen=True, slots=True)
class PackageSeen:
    """A package there. `here` is what its counterpart declares (None: nothing, or no counterpart), `order` how that stands
    to it, `offered` what else lies here that may be a version of it. `files`, `size`, `used_by` (how many pages refer to it)
    and `changed` (its newest file) are None where the site was not read yet. `aside`: it is set aside. `edits` are its
    hand edits, as far as they are known."""

    path: SitePath
    name: str
    version: Version
    by: str
    here: Version | None
    order: Order | None
    files: int | None
    size: int | None
    used_by: int | None
    changed: Stamp | None = None
    aside: SetAside | None = None
    offered: tuple[Offered, ...] = ()
    edits: HandEdits | None = None

    @property
    def newer(self) -> Offered | None:
        """What lies here elsewhere and is newer than it: the newest that was found."""
        return next((one for one in self.offered if one.order is Order.NEWER), None)


@dataclass(frozen=True, slots=True)
class FileInPackage:
    """A file that lies in a package. `is_delivered`: it came with it, as far as that is known. `advice` says where a
    change of it lives longer."""

    package: SeenPackage
    is_delivered: bool | None
    advice: str


@dataclass(frozen=True, slots=True)
class PackagesSeen:
    """Every package of a site. `is_whole`: False where there were more folders than are looked into."""

    packages: tuple[PackageSeen, ...]
    is_whole: bool


class PackageBook:
    def __init__(self, stores: Stores, files: Files, checks: Checks, asides: Asides, sources: VersionSources) -> None:
        self._seen = stores.packages_seen
        self._browse: Browse = files.browse
        self._known = checks.known
        self._asides = asides
        self._sources = sources

    async def seen(self, site: Site) -> PackagesSeen:
        """The packages below the document roots. Raises InvalidInput where a site has none, NotAllowed, TransferError."""
        need_whole(site)
        if not site.document_roots:
            raise InvalidInput("First set in the site's settings which folder each web address shows.")
        learned = await self._learned(site)
        aside = {one.aside: one for one in await self._asides.open(site)}
        gate = asyncio.Semaphore(_AT_ONCE)
        left = [_MOST_FOLDERS]
        listed = await self._sources.listed_here(site)
        async with self._browse.side(site, _THERE) as there, self._browse.side(site, SideName.HERE) as here:

            async def _look(folder: SitePath, depth: int) -> list[PackageSeen]:
                left[0] -= 1
                async with gate:
                    entries = await entries_of(there, folder)
                    found = await declared_in(there, folder, entries) if depth else None
                if found is not None:
                    return [await self._package(site, here, folder, found, learned, aside.get(folder), listed)]
                if depth >= _DEEPEST or left[0] <= 0:
                    return []
                below = [folder.child(one.name) for one in entries if one.is_folder and _enters(one, folder, aside)]
                parts = await asyncio.gather(*(_look(one, depth + 1) for one in below[: max(0, left[0])]))
                return [one for part in parts for one in part]

            roots = {root.folder for root in site.document_roots}
            parts = await asyncio.gather(*(_look(root, 0) for root in sorted(roots)))
        seen = {one.path: one for part in parts for one in part}
        packages = tuple(sorted(seen.values(), key=lambda one: (_rank(one), one.path)))
        await self._seen.set(site.id, [SeenPackage(one.path, one.name, one.version.text, one.by) for one in packages])
        return PackagesSeen(packages, left[0] > 0)

    async def known(self, site: Site) -> tuple[SeenPackage, ...]:
        """The packages as they were seen last: nothing is asked for it. Who has a part of the site is told those in it."""
        found = await self._seen.of(site.id)
        return tuple(one for one in found[1] if reaches(site.id, _THERE, one.path)) if found is not None else ()

    async def in_folder(self, site: Site, folder: SitePath) -> dict[bytes, SeenPackage]:
        """The packages right in a folder there, as they were seen last, by their names."""
        return {one.path.name: one for one in await self.known(site) if one.path.parent == folder}

    async def edited(self, site: Site) -> set[SitePath]:
        """The packages with hand edits, as far as they are known."""
        found = set()
        for one in await self.known(site):
            edits = await self._sources.edits(site, one.path, one.version)
            if edits is not None and edits.count:
                found.add(one.path)
        return found

    async def in_use(self, site: Site, folder: SitePath) -> bool | None:
        """Whether pages refer to what is in a package; None where the site was not read yet."""
        learned = await self._learned(site)
        return _used(learned, folder) if learned is not None else None

    async def around(self, site: Site, side: SideName, path: SitePath) -> FileInPackage | None:
        """The package that a file of a side lies in; None where it lies in none, or nobody has looked."""
        there = path if side is _THERE else site.counterpart(side, path)
        if there is None:
            return None
        inside = [one for one in await self.known(site) if there.below(one.path)]
        if not inside:
            return None
        package = max(inside, key=lambda one: len(one.path.names))
        is_delivered = await self._sources.is_delivered(site, package.path, package.version, there)
        return FileInPackage(package, is_delivered, where_to_change(path.name))

    async def _learned(self, site: Site) -> SiteLearned | None:
        try:
            return (await self._known.learned(site))[1]
        except NotFound:
            return None

    async def _package(
        self,
        site: Site,
        here: Side,
        folder: SitePath,
        found: Declared,
        learned: SiteLearned | None,
        aside: SetAside | None,
        listed: Listed,
    ) -> PackageSeen:
        own = aside.path if aside is not None else folder
        version = await self._version_here(site, here, own)
        near = site.counterpart(_THERE, own)
        known = await self._sources.offered_for(site, Found(own, own.name, found), listed)
        offered = tuple(one for one in known if one.path != near and one.order is not Order.SAME)
        files = size = used_by = changed = None
        inside: list[Entry] = []
        if learned is not None:
            # What was set aside when the site was read lies under the other name.
            tops = [own] if aside is None else [own, aside.aside]
            inside = [one for path, one in learned.there.files() if any(path.below(top) is not None for top in tops)]
        if inside:
            files, size = len(inside), sum(entry.size for entry in inside)
            changed = max(
                (one.stamp for one in inside if one.stamp is not None), key=lambda stamp: stamp.at_ns, default=None
            )
        if learned is not None:
            used_by = learned.graph.pages_outside_using(own)
        return PackageSeen(
            own,
            found.name or shown_name(own.name),
            found.version,
            found.by,
            version,
            order(version, found.version) if version is not None else None,
            files,
            size,
            used_by,
            changed,
            aside,
            offered,
            await self._sources.edits(site, own, found.version.text),
        )

    @staticmethod
    async def _version_here(site: Site, here: Side, folder: SitePath) -> Version | None:
        near = site.counterpart(_THERE, folder)
        if near is None:
            return None
        try:
            found = await declared_in(here, near, await entries_of(here, near))
        except NailerError:
            return None
        return found.version if found is not None else None


def _rank(one: PackageSeen) -> int:
    """What somebody may have to do with goes first: set aside, then a newer version here, then hand edits."""
    if one.aside is not None:
        return 0
    if one.order is Order.NEWER or any(other.order is Order.NEWER for other in one.offered):
        return 1
    return 2 if one.edits is not None and one.edits.count else 3


def _used(learned: SiteLearned, folder: SitePath) -> bool:
    return any(path.below(folder) is not None for path in learned.graph.targets_from_outside(folder))


def _enters(entry: Entry, folder: SitePath, aside: dict[SitePath, SetAside]) -> bool:
    """Hidden folders hold no packages but for those that are set aside; what others made for themselves is passed by."""
    path = folder.child(entry.name)
    return path in aside or not (entry.name.startswith(b".") or entry.name in (b"node_modules", b"cgi-bin"))
