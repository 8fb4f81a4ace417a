"""Keep marks as people set them, and the folders that a host owns, guarded when a site is opened first."""

from __future__ import annotations

from datetime import date

from nailer.acting import grant_on, need_place
from nailer.core.files.entry import SideName
from nailer.core.files.guarding import proposed_guards
from nailer.core.files.keeping import KeepMark, Keeps
from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Right
from nailer.errors import InvalidInput
from nailer.services.files.browse import Browse
from nailer.store.database import utc_now
from nailer.store.marks import MarkStore
from nailer.store.sites import Site, SiteStore

_LONGEST_WHY = 200


class KeepBook:
    def __init__(self, browse: Browse, marks: MarkStore, sites: SiteStore) -> None:
        self._browse = browse
        self._marks = marks
        self._sites = sites

    async def of_site(self, site_id: int) -> Keeps:
        """The marks of a site that hold today."""
        return await self._marks.of_site(site_id)

    async def keep(self, account_id: int, site: Site, mark: KeepMark) -> None:
        """Let nothing remove a file or folder. Raises InvalidInput for a day that is over, FileMissing."""
        if mark.until is not None and mark.until < utc_now().date():
            raise InvalidInput("Choose a date in the future.", fields={"until": "Choose a date in the future."})
        if len(mark.why) > _LONGEST_WHY:
            raise InvalidInput(f"Use at most {_LONGEST_WHY} characters.", fields={"why": "This is too long."})
        need_place(Right.CHANGE, site.id, mark.side, mark.path)
        async with self._browse.side(site, mark.side) as side:
            await side.stat(mark.path)
        await self._marks.set(site.id, mark, account_id)
        self._browse.redraw(site.id)

    async def let_go(self, site: Site, side: SideName, path: SitePath) -> None:
        """Take a path's own mark off. Raises NotFound where the path is beyond whoever acts."""
        need_place(Right.CHANGE, site.id, side, path)
        await self._marks.take_off(site.id, side, path)
        self._browse.redraw(site.id)

    async def renamed(self, site: Site, side: SideName, old: SitePath, new: SitePath) -> None:
        """A path was renamed: its marks go with it."""
        await self._marks.follow(site.id, side, old, new)

    async def guard_what_the_host_owns(self, site: Site) -> list[SitePath]:
        """Guard the folders of a site's account that look like the host's, once; return those that were added now.

        Nothing is done where the account's top cannot be read: the next opening asks again.
        """
        grant = grant_on(site.id)
        if site.guards_proposed or (grant is not None and not grant.is_whole):
            return []  # who has one folder sees nothing of the account's top, and must not settle it for all
        top = SitePath()
        listing = await self._browse.listing(site, SideName.THERE, top, max_age_s=600)
        if listing.problem is not None:
            return []
        published = [root.folder for root in site.document_roots] + [site.start_there]
        proposed = proposed_guards(top, listing.entries, published)
        added = [one for one in proposed if one not in site.guarded]
        await self._sites.add_guards(site, added)
        return added


def mark_of(side: SideName, path: SitePath, until: str, why: str) -> KeepMark:
    """A mark as it was typed. Raises InvalidInput for what is no day."""
    try:
        day = date.fromisoformat(until) if until else None
    except ValueError as error:
        raise InvalidInput("This is not a date.", fields={"until": "This is not a date."}) from error
    return KeepMark(side, path, day, " ".join(why.split()))
