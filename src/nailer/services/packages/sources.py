"""Where a version comes from: an archive that somebody drops, a folder or an archive here, or another site."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from datetime import datetime

from nailer.acting import need
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.packages.identity import Likeness, likeness, without_version
from nailer.core.packages.replacing import hand_edits
from nailer.core.packages.versions import Order, order, version_of
from nailer.core.people.rights import Right
from nailer.core.work.states import CopyState
from nailer.engine.engine import Engine
from nailer.errors import Conflict, FileMissing, InvalidInput, NailerError
from nailer.services.files import Browse, Files
from nailer.services.packages.declaring import Found, declared_in, entries_of, find_package
from nailer.services.packages.taking import CopyStanding, OpenSide, Taker
from nailer.services.plans import Archives, Unpacked, is_archive
from nailer.sides.side import Side
from nailer.store.packages.copies import CopyKind, CopyStore, VerifiedCopy
from nailer.store.sites import Site
from nailer.store.stores import Stores

_MOST_PLACES = 20
_MOST_LARGER = 12
_FIRST = (Order.NEWER, Order.SAME, Order.OLDER, Order.UNKNOWN)
Listed = dict[SitePath, Sequence[Entry]]
"""Folders here with what is in them, as they were listed."""
_ENDINGS = (b".zip", b".tgz", b".txz", b".tar", b".tar.gz", b".tar.xz", b".tar.zst", b".tar.bz2")


@dataclass(frozen=True, slots=True)
class VersionSource:
    """A package that is offered: how its side is opened, what it is, in words where it comes from, and what of an archive
    was left aside, with why. `spooled` is what an archive was unpacked into, to be forgotten."""

    open_side: OpenSide
    found: Found
    words: str
    left: tuple[str, ...] = ()
    spooled: SitePath | None = None


@dataclass(frozen=True, slots=True)
class Offered:
    """A folder or an archive here that may be a version of a package, with the version it declares, or has in its name;
    `order` says how that stands to the package's."""

    path: SitePath
    version: str
    is_archive: bool
    order: Order = Order.UNKNOWN


@dataclass(frozen=True, slots=True)
class HandEdits:
    """How many files of a package differ from what was delivered, as they were when it was copied last."""

    count: int
    at: datetime


class VersionSources:
    def __init__(self, stores: Stores, engine: Engine, files: Files, archives: Archives) -> None:
        self._browse: Browse = files.browse
        self._archives = archives
        self._spool = engine.spool
        self._sites = stores.sites
        self._copies: CopyStore = stores.copies
        self._taker = Taker(stores.copies, engine.kept)

    async def dropped(self, name: str, content: AsyncIterator[bytes], like: Found | None) -> VersionSource:
        """An archive that somebody sends. Raises InvalidInput where it is none, or holds no package."""
        return await self._of_archive(name, await self._archives.take(name, content), like)

    async def here(self, site: Site, path: SitePath, like: Found | None) -> VersionSource:
        """A folder or an archive of this machine. Raises InvalidInput, FileMissing."""
        async with self._browse.side(site, SideName.HERE) as side:
            entry = await side.stat(path)
            name = shown_name(path.name)
            if entry.is_file and is_archive(name):
                return await self._of_archive(name, await self._archives.take(name, side.read(path)), like)
            found = await find_package(side, path, path.name, like)
        return VersionSource(lambda: self._browse.side(site, SideName.HERE), found, f"{path} here")

    async def elsewhere(self, site_id: int, path: SitePath, like: Found | None) -> VersionSource:
        """A folder of another site. Raises NotFound where nobody may know of it, NotAllowed, InvalidInput."""
        other = await self._sites.get(site_id)
        need(Right.DOWNLOAD, other.id)
        async with self._browse.side(other, SideName.THERE) as side:
            found = await find_package(side, path, path.name, like)
        return VersionSource(lambda: self._browse.side(other, SideName.THERE), found, f"{path} of {other.name}")

    async def edits(self, site: Site, path: SitePath, version: str) -> HandEdits | None:
        """The hand edits of a package, by its newest copy; None where nobody knows what was delivered, or it was not
        copied."""
        known = await self._copies.originals(site.id, path, version) if version else []
        delivered = next((one for one in known if one.kind is CopyKind.DELIVERED), None)
        copies = [one for one in known if one.kind is CopyKind.COPY]
        if delivered is None or not copies:
            return None
        now, base = await self._copies.manifest(copies[-1].id), await self._copies.manifest(delivered.id)
        return HandEdits(len(hand_edits(now, base)), copies[-1].begun_at)

    async def is_delivered(self, site: Site, path: SitePath, version: str, file: SitePath) -> bool | None:
        """Whether a file came with a version of the package at `path`; None where nobody knows what was delivered."""
        original = await self.original(site, path, version)
        if original is None or original.kind is not CopyKind.DELIVERED:
            return None
        below = file.below(path)
        return any(one.below == below for one in (await self._copies.manifest(original.id)).names)

    async def listed_here(self, site: Site) -> Listed:
        """The folders here in which versions of any package may lie, listed once for all of them."""
        listed: Listed = {}
        async with self._browse.side(site, SideName.HERE) as side:
            for folder in await _places(side, site, None, listed):
                await _listed(side, folder, listed)
        return listed

    async def offered(self, site: Site, path: SitePath, listed: Listed | None = None) -> tuple[Offered, ...]:
        """What lies here that may be a version of the package at `path`: its own folder, and folders and archives whose
        names are the package's with a version behind, beside it or in a folder beside the site's."""
        near = site.counterpart(SideName.THERE, path)
        listed = listed if listed is not None else {}
        found: dict[SitePath, Offered] = {}
        async with self._browse.side(site, SideName.HERE) as side:
            for folder in await _places(side, site, near, listed):
                for one in await _listed(side, folder, listed):
                    offered = await _offer(side, folder.child(one.name), one, path.name)
                    if offered is not None:
                        found[offered.path] = offered
        return tuple(found[place] for place in sorted(found))

    async def offered_for(self, site: Site, old: Found, listed: Listed | None = None) -> tuple[Offered, ...]:
        """As `offered`, the newer ones first. Who asks for many packages gives the same `listed` each time."""
        found = [
            replace(one, order=order(version_of(one.version), old.declared.version))
            for one in await self.offered(site, old.folder, listed)
        ]
        return tuple(sorted(found, key=lambda one: _FIRST.index(one.order)))

    async def _of_archive(self, name: str, unpacked: Unpacked, like: Found | None) -> VersionSource:
        place = self._archives.place(unpacked.token)
        own = _without_ending(name.encode("utf-8", "surrogateescape"))
        try:
            found = await find_package(self._spool, place, own, like)
        except InvalidInput:
            await self._archives.forget(place)
            raise
        return VersionSource(lambda: _Open(self._spool), found, name, unpacked.left, place)

    @asynccontextmanager
    async def forgotten_on_error(self, source: VersionSource) -> AsyncIterator[None]:
        """Where it is refused, what an archive was unpacked into is forgotten."""
        try:
            yield
        except NailerError:
            await self.forget(source)
            raise

    async def forget(self, source: VersionSource) -> None:
        """Forget what an archive was unpacked into."""
        if source.spooled is not None:
            await self._archives.forget(source.spooled)

    async def start(self) -> None:
        """What was being taken in, and nobody can be at any more, is not whole."""
        await self._copies.fail_old()

    async def take_in(self, account_id: int, site: Site, path: SitePath, source: VersionSource) -> VerifiedCopy:
        """Keep what is offered as it was delivered, for the package at `path`. Raises InvalidInput where it cannot be read
        as a whole."""
        title = source.found.text
        copy_id = await self._copies.begin(site.id, account_id, path, title)
        why = "It could not be read."
        try:
            taken = await self._taker.attempts(source.open_side, source.found.folder, CopyStanding(copy_id))
            await self._copies.verified(copy_id, taken.manifest, taken.fetched, taken.declared)
            why = ""
        except (Conflict, FileMissing) as error:
            why = error.what
            raise InvalidInput(f"{source.words} could not be read: {why}") from error
        finally:
            if why:
                await self._copies.fail(copy_id, why)
            await self.forget(source)
        return await self._copies.get(site.id, copy_id)

    async def let_go(self, site: Site, copy_id: int | None) -> None:
        """Forget what was delivered for a plan that was given up, unless another one needs it."""
        if copy_id is not None:
            await self._copies.drop_unneeded(site.id, copy_id)

    async def original(
        self, site: Site, path: SitePath, version: str, *, but: int | None = None
    ) -> VerifiedCopy | None:
        """What one version of a package was before anybody changed it, as far as it is known: as it was delivered, else as
        it was first copied, `but` for one copy. None where nobody knows."""
        if not version:
            return None
        known = await self._copies.originals(site.id, path, version)
        found = next((one for one in known if one.id != but), None)
        return found or await self._in_larger_copy(site, path, version)

    async def _in_larger_copy(self, site: Site, path: SitePath, version: str) -> VerifiedCopy | None:
        """The oldest copies of folders above: one may hold the package in this version."""
        copies = [one for one in await self._copies.of(site.id) if one.state is CopyState.VERIFIED]
        for one in [one for one in reversed(copies) if path.below(one.path)][:_MOST_LARGER]:
            part = (await self._copies.manifest(one.id)).part(path.below(one.path) or ())
            said = await self._taker.declared(path, part)
            if said is not None and said.version.text == version:
                return one
        return None


def check_alike(old: Found, new: Found) -> str:
    """What to say of a package that goes by another name; '' where it is a version of the same. Raises InvalidInput where it
    is another package."""
    match likeness(old.declared, old.name, new.declared, new.name):
        case Likeness.SAME:
            return ""
        case Likeness.RENAMED:
            return f"The new version is called {new.declared.name}, the current one {old.declared.name}."
        case _:
            raise InvalidInput(f"This is {new.text}; what is there is {old.text}. Nothing was changed.")


async def _listed(side: Side, folder: SitePath, listed: Listed) -> Sequence[Entry]:
    if folder not in listed:
        listed[folder] = await entries_of(side, folder)
    return listed[folder]


async def _places(side: Side, site: Site, near: SitePath | None, listed: Listed) -> list[SitePath]:
    """Where versions of a package may lie here."""
    places = [near.parent] if near is not None and not near.is_root else []
    if not site.start_here.is_root and not site.start_here.parent.is_root:
        beside = site.start_here.parent
        folders = [one.name for one in await _listed(side, beside, listed) if one.is_folder and one.name[:1] != b"."]
        others = [beside.child(name) for name in folders if name != site.start_here.name]
        places += [beside, *others[:_MOST_PLACES]]
    return list(dict.fromkeys(places))


async def _offer(side: Side, place: SitePath, entry: Entry, name: bytes) -> Offered | None:
    if not (entry.is_folder or (entry.is_file and is_archive(shown_name(entry.name)))):
        return None
    stem = _without_ending(entry.name) if entry.is_file else entry.name
    if without_version(stem).lower() != name.lower():
        return None
    if entry.is_folder:
        said = await declared_in(side, place, await entries_of(side, place), name)
        return Offered(place, said.version.text, False) if said is not None else None
    version = stem[len(without_version(stem)) :].strip(b"-_. v").decode("utf-8", "replace")
    return Offered(place, version, True) if version else None


def check_same_version(old: Found, new: Found) -> None:
    """Raises InvalidInput where `new` is another package than `old`, or another version of it."""
    check_alike(old, new)
    if order(new.declared.version, old.declared.version) is not Order.SAME:
        raise InvalidInput(
            f"This is {new.text}; what is there is {old.text}. Upload exactly the version that is installed there."
        )


class _Open:
    """A side that needs no opening."""

    def __init__(self, side: Side) -> None:
        self._side = side

    async def __aenter__(self) -> Side:
        return self._side

    async def __aexit__(self, *_: object) -> None:
        return None


def _without_ending(name: bytes) -> bytes:
    lower = name.lower()
    ending = next((one for one in sorted(_ENDINGS, key=len, reverse=True) if lower.endswith(one)), b"")
    return name[: len(name) - len(ending)] or name
