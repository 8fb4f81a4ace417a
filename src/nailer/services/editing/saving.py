"""Saving with care: the text is checked, the site's watched pages are fetched before and after, and where one of them breaks
the old content comes back by itself."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, replace

from nailer.bounded import bounded
from nailer.core.check.findings import Finding, Weight, findings
from nailer.core.check.live import Fetched, broke
from nailer.core.check.references import references, target_of
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, address_of, shown_name
from nailer.core.files.text import TextForm, encoded
from nailer.core.jobs.states import ENDED
from nailer.engine.live import LiveJobs
from nailer.errors import InvalidInput, Unreadable
from nailer.services.editing.drafts import Drafts, Saved
from nailer.services.editing.live_check import LiveCheck
from nailer.services.editing.references import roots_of
from nailer.services.files import Browse
from nailer.services.plans import TakeBacks
from nailer.sides.side import is_there
from nailer.store.changes import ChangeStore
from nailer.store.drafts import Draft, DraftStore, Ways
from nailer.store.jobs import JobStore
from nailer.store.sites import Site

_MOST_FOLDERS = 40
_LONGEST_ADDRESS = 2000
_NO_ADDRESS = "A web address begins with http:// or https://."
_BACK_WITHIN_S = 120.0


@dataclass(frozen=True, slots=True)
class Broken:
    """A watched page that broke, why, and the first lines of what the server sent."""

    address: str
    why: str
    begins: str


@dataclass(frozen=True, slots=True)
class Careful:
    """How a save ended. `errors`: nothing was written, the text has these. `broken`: it was written, broke these pages, and
    was taken back (`is_back`) or could not be."""

    saved: Saved
    errors: tuple[Finding, ...] = ()
    broken: tuple[Broken, ...] = ()
    is_back: bool = False


class Saving:
    def __init__(
        self,
        edit: Drafts,
        drafts: DraftStore,
        changes: ChangeStore,
        jobs: JobStore,
        take_backs: TakeBacks,
        check: LiveCheck,
        browse: Browse,
        live: LiveJobs,
    ) -> None:
        self._edit = edit
        self._drafts = drafts
        self._changes = changes
        self._jobs = jobs
        self._take_backs = take_backs
        self._check = check
        self._browse = browse
        self._live = live

    async def ways(self, site_id: int) -> Ways:
        """How a site is edited: what saving does, which pages are watched, how its cache is emptied."""
        return await self._drafts.ways(site_id)

    async def write_ways(self, site_id: int, ways: Ways) -> None:
        """Raises InvalidInput where an address is none that can be fetched."""
        for address in (*ways.watched, *([ways.purge_address] if ways.purge_address else [])):
            if not address.lower().startswith(("http://", "https://")) or len(address) > _LONGEST_ADDRESS:
                raise InvalidInput(f"{address[:80]} cannot be used. {_NO_ADDRESS}")
        await self._drafts.write_ways(site_id, ways)

    async def save(self, draft: Draft, site: Site, *, despite_errors: bool = False) -> Careful:
        """Save a draft as its site wants it saved. Raises InvalidInput."""
        ways = await self._drafts.ways(site.id)
        if draft.side is not SideName.THERE or not ways.guarded_save or draft.text is None:
            return Careful(await self._edit.save(draft, site))
        found = await self.wrong(draft, draft.text)
        errors = tuple(one for one in found if one.weight is Weight.ERROR)
        if errors and not despite_errors:
            return Careful(Saved(), errors)
        watched = _watched(ways, site, draft.path)
        before = await asyncio.gather(*(self._check.once(address) for address in watched))
        saved = await self._edit.save(draft, site)
        if not saved.done or saved.job_id is None:
            return Careful(saved)
        after = await asyncio.gather(*(self._check.once(address) for address in watched))
        broken = tuple(_broken(one, other) for one, other in zip(before, after, strict=True) if broke(one, other))
        if not broken:
            return Careful(saved)
        return Careful(saved, broken=broken, is_back=await self._take_back(draft, site, saved.job_id))

    async def wrong(self, draft: Draft, text: str) -> list[Finding]:
        """What is wrong in a text of a draft, as far as reading it can tell."""
        try:
            return await bounded(findings, shown_name(draft.path.name), text, draft.form)
        except Unreadable as error:
            return [Finding(0, min(1, len(text)), Weight.WARNING, f"This text could not be checked. {error.what}")]

    async def missing(self, site: Site, side: SideName, path: SitePath, text: str, form: TextForm) -> list[Finding]:
        """References of a text that lead to nothing on its side, or only under another case."""
        try:
            data = encoded(text, replace(form, mark=False, line_end="\n"))
        except InvalidInput:
            return []
        roots = roots_of(site, side)
        try:
            listed = await bounded(references, path.name, data)
        except Unreadable:
            return []  # the check of the text itself says so
        targets = [(one, target_of(one.address, path, roots)) for one in listed]
        folders = list(dict.fromkeys(target.parent for _, target in targets if target is not None))[:_MOST_FOLDERS]
        listings = await asyncio.gather(*(self._browse.listing(site, side, one, max_age_s=60) for one in folders))
        known = {
            folder: {one.name for one in listing.entries}
            for folder, listing in zip(folders, listings, strict=True)
            if listing.problem is None or listing.is_missing
        }
        found = []
        for one, target in targets:
            names = known.get(target.parent) if target is not None and not target.is_root else None
            if target is None or names is None or target.name in names or target in {root.folder for root in roots}:
                continue
            start, end = _place(data, one.start, one.end, form)
            alike = next((name for name in names if name.lower() == target.name.lower()), None)
            what = f"{target} is not there"
            if alike is not None:
                what += f", but {shown_name(alike)} is: capitals count on most servers"
            found.append(Finding(start, end, Weight.WARNING, what))
        return found

    async def _take_back(self, draft: Draft, site: Site, job_id: int) -> bool:
        """Put back what the save replaced; the text stays a draft."""
        changes = await self._changes.of_job(job_id)
        back_id = await self._take_backs.take_change_back(draft.account_id, site, changes[0]) if changes else None
        if back_id is None:
            return False
        try:
            async with asyncio.timeout(_BACK_WITHIN_S):
                async for _ in self._live.changes(at_most_every_s=0.05, heartbeat_s=1.0):
                    if (await self._jobs.get(back_id)).state in ENDED:
                        break
        except TimeoutError:
            return False
        async with self._browse.side(site, draft.side) as side:
            if draft.seen is None:
                await self._drafts.rebase(draft.id, b"", None, draft.form, text=draft.text)
                return not await is_there(side, draft.path)
            entry, data = await side.read_all(draft.path)
        await self._drafts.rebase(draft.id, data, entry, draft.form, text=draft.text)
        return data == draft.base


def _watched(ways: Ways, site: Site, path: SitePath) -> list[str]:
    """The pages to watch: as set, else the file's own address and the site's first page."""
    own = address_of(path, site.document_roots)
    usual = [*([own] if own else []), *(root.address for root in site.document_roots[:1])]
    return list(ways.watched or dict.fromkeys(usual))


def _broken(before: Fetched, after: Fetched) -> Broken:
    return Broken(after.address, broke(before, after), after.begins)


def _place(data: bytes, start: int, end: int, form: TextForm) -> tuple[int, int]:
    """Places in bytes as places in the text."""
    begins = len(data[:start].decode(form.encoding, "replace"))
    return begins, begins + len(data[start:end].decode(form.encoding, "replace"))
