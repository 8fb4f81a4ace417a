"""Where typed or pasted text leads in the files view: a folder with its other side, a name to pick, a line to edit."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.sitepath import SitePath, path_of
from nailer.core.files.typed import Meaning, alike, is_web_address, meanings, meant, web_address
from nailer.errors import FileMissing, TransferError
from nailer.services.files.browse import Browse
from nailer.store.sites import Site

_MOST_TRIES = 12
_FIRST_PAGES = (b"index.html", b"index.htm", b"index.php", b"index.shtml")
_PAGE_ENDINGS = (b".html", b".htm", b".php")


@dataclass(frozen=True, slots=True)
class LedTo:
    """What text leads to: a folder of a side, a name in it to pick (b'': none), and a line of that file (0: none)."""

    folder: SitePath
    pick: bytes = b""
    line: int = 0


@dataclass(frozen=True, slots=True)
class Nowhere:
    """There is no such path. `wanted` is what was meant, None for a web address that is not the site's; `why` says what
    the side answered, where that is more than that it is not there."""

    wanted: SitePath | None
    why: str = ""


class Opening:
    def __init__(self, browse: Browse) -> None:
        self._browse = browse

    async def of(self, site: Site, side: SideName, folder: SitePath, typed: str) -> LedTo | Nowhere:
        """Where text leads that was typed on a side, seen from `folder`. A web address leads there, whatever the side.
        Raises InvalidInput, and what connecting raises."""
        if is_web_address(typed):
            return await self._of_address(site, web_address(typed))
        tried = meanings(typed, folder)[:_MOST_TRIES]
        found = await self._first(site, side, tried)
        if found is None:
            # Paths here are shown from the top, without a slash before them.
            return Nowhere(meant(typed, SitePath() if side is SideName.HERE else folder))
        return found

    async def nearest(self, site: Site, side: SideName, wanted: SitePath) -> list[SitePath]:
        """Folders that exist and are nearest to one that does not: those of a like name first, then what is above it."""
        above = wanted.parent
        while True:
            listing = await self._browse.listing(site, side, above, max_age_s=600)
            if listing.problem is None or above.is_root:
                break
            above = above.parent
        rest = (wanted.below(above) or ())[1:]
        missing = (wanted.below(above) or (b"",))[0]
        near: list[SitePath] = []
        for name in alike(missing, [one.name for one in listing.entries if one.opens_as_folder]):
            whole = above.child(name).join(rest)
            near.append(whole if rest and await self._is_folder(site, side, whole) else above.child(name))
        return [*near, above]

    async def _of_address(self, site: Site, address: str) -> LedTo | Nowhere:
        path = path_of(address, site.document_roots)
        if path is None:
            return Nowhere(None, f"{address} does not belong to a web address of this site.")
        tries = [Meaning(path)]
        if not address.endswith("/"):
            tries += [Meaning(path.parent.child(path.name + ending)) for ending in _PAGE_ENDINGS if path.name]
        found = await self._first(site, SideName.THERE, tries)
        if found is None:
            return Nowhere(path)
        if found.pick:
            return found
        listing = await self._browse.listing(site, SideName.THERE, found.folder)
        names = {one.name for one in listing.entries if one.is_file}
        return LedTo(found.folder, next((one for one in _FIRST_PAGES if one in names), b""))

    async def _first(self, site: Site, side: SideName, tries: list[Meaning]) -> LedTo | None:
        """The first reading that stands for something."""
        refused: TransferError | None = None
        for one in tries:
            if one.path.is_root:
                return LedTo(one.path)
            try:
                entry = await self._look(site, side, one.path)
            except FileMissing:
                continue
            except TransferError as error:
                if error.retryable:
                    raise
                refused = refused or error
                continue
            if entry.opens_as_folder:
                return LedTo(one.path)
            return LedTo(one.path.parent, one.path.name, one.line)
        if refused is not None:
            raise refused
        return None

    async def _is_folder(self, site: Site, side: SideName, path: SitePath) -> bool:
        try:
            return (await self._look(site, side, path)).opens_as_folder
        except TransferError:
            return False

    async def _look(self, site: Site, side: SideName, path: SitePath) -> Entry:
        async with self._browse.side(site, side) as looked:
            entry = await looked.stat(path)
            return await looked.stat(await looked.resolve(path)) if entry.kind is Kind.LINK else entry
