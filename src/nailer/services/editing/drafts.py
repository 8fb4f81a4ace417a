"""Editing a file where it lies: drafts are kept as they are typed, and nobody's change is overwritten.

What was opened is remembered byte for byte. Before anything is written the file is read again: where it is not what was
opened, the two are merged three ways and a person decides what touches the same lines. Writing is a job of one step, so it
lands whole, what it replaces is kept, and it can be taken back.
"""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, replace

from nailer.bounded import bounded
from nailer.core.compare.merge import Merged, merged
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import names_text
from nailer.core.files.sitepath import SitePath
from nailer.core.files.text import TextForm, decoded, encoded
from nailer.core.jobs.states import ENDED, JobState
from nailer.core.words import size_text
from nailer.engine.live import LiveJobs
from nailer.errors import Conflict, FileMissing, InvalidInput, NotEditable, NotFound
from nailer.services.files import Browse
from nailer.services.plans import PreparedFiles, Write
from nailer.sides.side import Side, is_there
from nailer.store.drafts import Draft, DraftStore, OpenDraft
from nailer.store.jobs import JobStore
from nailer.store.sites import Site

LARGEST_BYTES = 2_000_000
_ENDS_WITHIN_S = 300.0
_LOOK_EVERY_S = 0.04


@dataclass(frozen=True, slots=True)
class Opened:
    """A draft as the editor shows it. `text` is what is in the editor, `base_text` what is on the side; `changed_there`:
    it is not what was opened any more; `gone`: it was removed since."""

    draft: Draft
    text: str
    base_text: str
    changed_there: bool = False
    gone: bool = False


@dataclass(frozen=True, slots=True)
class Saved:
    """How saving ended: landed by a job, already there byte for byte (no job), or `why_not` with the server's words.
    With `merge` somebody changed the file since: nothing was written."""

    job_id: int | None = None
    why_not: str = ""
    server_words: str | None = None
    merge: Merged | None = None
    gone: bool = False

    @property
    def done(self) -> bool:
        """True where the file was saved."""
        return not self.why_not and self.merge is None and not self.gone


class Drafts:
    def __init__(
        self, browse: Browse, drafts: DraftStore, jobs: JobStore, writing: PreparedFiles, live: LiveJobs
    ) -> None:
        self._live = live
        self._browse = browse
        self._drafts = drafts
        self._jobs = jobs
        self._writing = writing

    async def open(self, account_id: int, site: Site, side: SideName, path: SitePath) -> Opened:
        """Open a file, or go on with its draft. Raises NotEditable for what is no text or too large, FileMissing."""
        path = await self._really(site, side, path)
        draft = await self._drafts.of_file(account_id, site.id, side, path)
        now = await self._now(site, side, path)
        if draft is None:
            if now is None:
                raise FileMissing(f"{path} does not exist.")
            entry, data = now
            found = decoded(data)
            if found is None:
                raise NotEditable(f"{path.name.decode('utf-8', 'replace')} is not a text file.")
            draft_id = await self._drafts.add(account_id, site.id, side, path, data, entry, found[1])
            return _opened(await self._drafts.get(draft_id))
        await self._drafts.see(draft.id)
        if now is None:
            return replace(_opened(draft), gone=draft.seen is not None)
        entry, data = now
        if draft.seen is not None and data == draft.base:
            return _opened(draft)
        mine = draft.base if draft.text is None else encoded(draft.text, draft.form)
        found = decoded(data)
        if found is not None and (mine == data or draft.text is None):
            # Nothing of one's own would be lost: the draft vanishes, and what is there is what is open.
            await self._drafts.rebase(draft.id, data, entry, found[1])
            await self._drafts.type(draft.id, None, None)
            return _opened(await self._drafts.get(draft.id))
        return replace(_opened(draft), changed_there=True)

    async def begin_new(self, account_id: int, site: Site, side: SideName, path: SitePath, text: str) -> Draft:
        """A file from nothing or from a template: a draft until it is saved. Raises Conflict where the name is taken."""
        if await self._drafts.of_file(account_id, site.id, side, path) is None:
            async with self._browse.side(site, side) as reached:
                if await is_there(reached, path):
                    raise Conflict(f"{path} already exists. Open it, or choose another name.")
            await self._drafts.add(account_id, site.id, side, path, b"", None, TextForm(), text)
        draft = await self._drafts.of_file(account_id, site.id, side, path)
        if draft is None:
            raise NotFound("This file is no longer open.")
        return draft

    async def own(self, account_id: int, draft_id: int) -> Draft:
        """A draft of this account. Raises NotFound."""
        draft = await self._drafts.get(draft_id)
        if draft.account_id != account_id:
            raise NotFound("This file is no longer open.")
        return draft

    async def type(self, draft: Draft, text: str, history: str | None) -> bool:
        """Remember what was typed; return whether that differs from what was opened."""
        _check_size(len(text))
        # The same letters stored in another form are a change, too.
        stored = decoded(draft.base)
        same = draft.seen is not None and stored == (text, draft.form)
        await self._drafts.type(draft.id, None if same else text, history)
        return not same

    async def count_from(self, draft: Draft, base: str, text: str) -> Draft:
        """A page's text began as `base`, and the file was saved from another page meanwhile: the draft counts from what that
        page began with, so that saving finds the other's change and merges."""
        await self._drafts.rebase(draft.id, encoded(base, draft.form), draft.seen, draft.form, text=text)
        return await self._drafts.get(draft.id)

    async def save(self, draft: Draft, site: Site) -> Saved:
        """Put a draft in its place on its side. Raises InvalidInput where the character set lacks a letter."""
        if draft.text is None:
            return Saved()
        content = encoded(draft.text, draft.form)
        _check_size(len(content))
        now = await self._now(site, draft.side, draft.path)
        if now is None and draft.seen is not None:
            return Saved(gone=True)
        entry, data = now if now is not None else (None, b"")
        if now is not None and data == content:
            await self._level(draft, site, content)
            return Saved()
        if now is not None and data != draft.base:
            return Saved(merge=await self._merged(draft, data))
        return await self._write(draft, site, content, entry)

    async def merge(self, draft: Draft, site: Site) -> tuple[Merged, str]:
        """Merge my text with theirs; return the merged text and theirs.
        Raises FileMissing where it is gone, NotEditable where it is no text."""
        now = await self._now(site, draft.side, draft.path)
        if now is None:
            raise FileMissing(f"{draft.path} was removed since you opened it.")
        return await self._merged(draft, now[1]), (decoded(now[1]) or ("", draft.form))[0]

    async def settle(self, draft: Draft, site: Site, text: str) -> None:
        """Take the merged `text` as the draft. From now on it is based on what is there."""
        now = await self._now(site, draft.side, draft.path)
        if now is None:
            raise FileMissing(f"{draft.path} was removed since you opened it.")
        entry, data = now
        found = decoded(data)
        form = found[1] if found is not None else draft.form
        same = found is not None and found[0] == text
        await self._drafts.rebase(draft.id, data, entry, form, text=None if same else text)

    async def as_new(self, draft: Draft) -> None:
        """Make the draft a new file, as the old one was removed there."""
        text = _opened(draft).text
        await self._drafts.rebase(draft.id, b"", None, draft.form, text=text)

    async def store_as(self, draft: Draft, form: TextForm) -> None:
        """Store the file in another form from the next save on. Raises InvalidInput where a letter is lacking."""
        text = _opened(draft).text
        encoded(text, form)
        await self._drafts.rebase(draft.id, draft.base, draft.seen, form, text=text)

    async def drop(self, draft: Draft) -> None:
        """Close the file. What was typed and not saved is forgotten."""
        await self._drafts.remove(draft.id)

    async def open_files(self, account_id: int) -> list[OpenDraft]:
        """The files that a person has open."""
        return await self._drafts.of_account(account_id)

    async def others(self, draft: Draft) -> list[tuple[str, bool]]:
        """Who else has the file open; this account is seen to have it, too."""
        await self._drafts.see(draft.id)
        return await self._drafts.others(draft)

    async def _write(self, draft: Draft, site: Site, content: bytes, entry: Entry | None) -> Saved:
        title = f"Edit of {names_text([draft.path.name])}"
        write = Write(draft.path, content, entry, "edited" if entry is not None else "new file")
        job_id = await self._writing.add(draft.account_id, site, draft.side, title, [write], at_once=True)
        state = await self._ended(job_id)
        if state is JobState.DONE:
            await self._level(draft, site, content)
            return Saved(job_id)
        failures = await self._jobs.failures(job_id)
        if failures and Conflict.is_named(failures[0].kind) and (now := await self._now(site, draft.side, draft.path)):
            # Somebody was faster by a moment: there is nothing to try again, but two changes to merge.
            await self._jobs.want_stop(job_id)
            return Saved(merge=await self._merged(draft, now[1]))
        job = await self._jobs.get(job_id)
        why = failures[0].what if failures else job.trouble or "The job that saves it has not ended yet."
        return Saved(job_id, why, failures[0].server_words if failures else None)

    async def _level(self, draft: Draft, site: Site, content: bytes) -> None:
        """Record that the editor and the side hold the same content."""
        async with self._browse.side(site, draft.side) as side:
            entry = await side.stat(draft.path)
        # What was typed while it was being saved stays a draft.
        typed = (await self._drafts.get(draft.id)).text
        text = None if typed is None or encoded(typed, draft.form) == content else typed
        await self._drafts.rebase(draft.id, content, entry, draft.form, text=text)
        self._browse.forget(site.id, draft.side, draft.path.parent)

    async def _ended(self, job_id: int) -> JobState:
        try:
            async with asyncio.timeout(_ENDS_WITHIN_S):
                async for _ in self._live.changes(at_most_every_s=_LOOK_EVERY_S, heartbeat_s=1.0):
                    if (job := await self._jobs.get(job_id)).state in ENDED:
                        return job.state
        except TimeoutError:
            return JobState.RUNNING
        return JobState.WAITING

    async def _merged(self, draft: Draft, data: bytes) -> Merged:
        theirs = decoded(data)
        if theirs is None:
            raise NotEditable("The current version there is no longer a text file.")
        opened = _opened(draft)
        return await bounded(merged, opened.base_text, opened.text, theirs[0])

    async def _really(self, site: Site, side: SideName, path: SitePath) -> SitePath:
        """The file that a link leads to, so that saving replaces the file and not the link."""
        async with self._browse.side(site, side) as reached:
            try:
                return await reached.resolve(path)
            except FileMissing:
                return path

    async def _now(self, site: Site, side: SideName, path: SitePath) -> tuple[Entry, bytes] | None:
        """What is there now; None where nothing is. Raises NotEditable where it is too large, or no file."""
        async with self._browse.side(site, side) as reached:
            return await _content(reached, path)


async def _content(side: Side, path: SitePath) -> tuple[Entry, bytes] | None:
    try:
        entry = await side.stat(path)
        if not entry.is_file:
            raise NotEditable(f"{path} is not a file.")
        if entry.size > LARGEST_BYTES:
            raise NotEditable(
                f"{path} has {size_text(entry.size)}; the editor opens files up to {size_text(LARGEST_BYTES)}."
            )
        return await side.read_all(path)
    except FileMissing:
        return None


def _opened(draft: Draft) -> Opened:
    found = decoded(draft.base) if draft.seen is not None else ("", draft.form)
    base_text = found[0] if found else ""
    return Opened(draft, base_text if draft.text is None else draft.text, base_text)


def _check_size(size: int) -> None:
    if size > LARGEST_BYTES:
        raise InvalidInput(f"The editor saves files up to {size_text(LARGEST_BYTES)}.")
