"""Carrying a replacement out: built beside the old one and proved, two renames, read back, its pages looked at; put back by
itself where a page got worse. Each step is written down first, so that whoever comes after a cut goes on from there."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Callable, Sequence
from dataclasses import replace

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import ENDED, JobState
from nailer.core.packages.manifest import tree_of, unagreed
from nailer.core.plans.plan import Answers
from nailer.core.words import count_text
from nailer.core.work.kinds import CutShort, WorkKind
from nailer.core.work.states import ReplacementState
from nailer.engine.engine import Engine
from nailer.engine.work import RunningWork, Supplied
from nailer.errors import Conflict, NailerError, NotFound
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files, Progress, read_tree
from nailer.services.packages.replacing.building import clear, leftovers, other_content, unlike
from nailer.services.packages.replacing.exchange import Exchange, exchange, takes_hidden_names
from nailer.services.packages.replacing.pages import ReplacementPages
from nailer.services.packages.replacing.patience import Patience
from nailer.services.packages.replacing.plans import ReplacementPlans
from nailer.services.plans import Plans
from nailer.sides.side import Side, is_there
from nailer.store.changes import NewChange, What
from nailer.store.database import Work
from nailer.store.jobs import Job, NewItem, NewJob
from nailer.store.packages.replacements import Replacement, ReplacementKind, ReplacementStore
from nailer.store.packages.seen import SeenPackage
from nailer.store.running.works import Change, StoredWork
from nailer.store.sites import Site
from nailer.store.stores import Stores

_THERE = SideName.THERE
_LOOK_EVERY_S = 0.1
_TRIES = 3


class ReplacementRuns:
    def __init__(
        self, stores: Stores, engine: Engine, files: Files, plans: Plans, editing: Editing, read: ReplacementPlans
    ) -> None:
        self._store: ReplacementStore = stores.replacements
        self._sites = stores.sites
        self._jobs = stores.jobs
        self._changes = stores.changes
        self._seen = stores.packages_seen
        self._engine = engine
        self._browse: Browse = files.browse
        self._take_backs = plans.take_back
        self._make = plans.make
        self._notices = plans.notices
        self._plans = read
        self._patience = Patience(files.browse)
        self.pages = ReplacementPages(editing, read, self._patience)
        self._work = engine.work
        engine.work.supply(WorkKind.REPLACEMENT, Supplied(self._run, self._broken))

    def busy(self, site_id: int) -> bool:
        """True while one is under way on a site."""
        return self._work.is_on(WorkKind.REPLACEMENT, site_id)

    async def go(self, site_id: int, account_id: int, adding: Callable[[Work], int]) -> None:
        """Carry on from the state that `adding` writes down; it returns the number. Raises UnderWay."""
        await self._work.begin(WorkKind.REPLACEMENT, site_id, account_id, adding)
        self._engine.runner.wake()

    async def wait(self, site_id: int) -> None:
        """Until what is under way on a site has ended."""
        await self._work.ended_on(WorkKind.REPLACEMENT, site_id)

    def adding_job(
        self, account_id: int, site: Site, title: str, folder: SitePath, items: Sequence[NewItem], kind: JobKind
    ) -> Callable[[Work], int]:
        """What stores a job that begins at once, and returns its number."""
        job = NewJob(account_id, site.id, kind, title, _THERE, folder, folder)
        return self._jobs.adding(job, items, JobState.WAITING)

    async def _run(self, work: RunningWork) -> Change:
        one = await self._store.get(work.row.site_id, work.row.subject_id)
        if one is None:
            raise NotFound("This replacement no longer exists.")
        one = replace(one, account_id=work.row.account_id)
        state, words = await self._steps(one, await self._sites.get(one.site_id), work)
        return self._store.stepping(one.id, state, words)

    def _broken(self, row: StoredWork, broken: CutShort) -> Change:
        return self._store.stepping(row.subject_id, ReplacementState.FAILED, broken.words)

    async def _steps(self, one: Replacement, site: Site, work: RunningWork) -> tuple[ReplacementState, str]:
        """Carry on from the state that is written down; return how it ended."""
        worse = ""
        if one.state is ReplacementState.BUILDING:
            worse = await self._built(one, site)
            await self._store.set_state(one.id, ReplacementState.SWAPPING)
        work.hold()
        if one.state in (ReplacementState.BUILDING, ReplacementState.SWAPPING) and not one.in_place:
            await self._patience.do(site, lambda side: exchange(side, _forward(one)))
            await self._noted(site, one, _forward(one))
        if one.state is ReplacementState.RESTORING:
            words = f"{one.words} The old version is back in place.".strip()
        else:
            await self._store.set_state(one.id, ReplacementState.LOOKING)
            try:
                worse = worse or await self.pages.worse(one, site)
            except NailerError as error:
                return ReplacementState.IN_PLACE, f"It could not be looked at afterwards: {error.what}"
            if not worse:
                await self._seen_now(one)
                return ReplacementState.IN_PLACE, await self.pages.caches(one, site)
            await self._store.set_state(one.id, ReplacementState.RESTORING, f"The change made a page worse: {worse}.")
            words = f"The change made a page worse: {worse}. The old version was restored automatically."
            await self._notices.write(one.account_id or 0, f"{site.name}: {one.title} put back", [words])
        work.hold()
        try:
            words += await self._backed(one, site)
        except NailerError as error:
            return ReplacementState.IN_PLACE, f"It could not be put back: {error.what}"
        await self._seen_now(one, is_back=True)
        return ReplacementState.BACK, words

    async def _seen_now(self, one: Replacement, *, is_back: bool = False) -> None:
        """Other pages say of the package what it is now."""
        seen = await self._seen.of(one.site_id)
        if seen is None:
            return
        others = [each for each in seen[1] if each.path != one.path]
        before = next((each for each in seen[1] if each.path == one.path), None)
        is_there = one.kind is not (ReplacementKind.INSTALL if is_back else ReplacementKind.REMOVE)
        if is_there:
            version = one.old_version if is_back else await self._plans.declares(one)
            by = before.by if before is not None else ""
            others.append(SeenPackage(one.path, one.title, version, by))
        await self._seen.set(one.site_id, others)

    async def takes_hidden_names(self, site: Site, folder: SitePath) -> bool:
        """Whether names that begin with a dot can be used beside a package; a cut line is dialled anew a few times."""
        token = secrets.token_hex(8)
        for left in reversed(range(_TRIES)):
            try:
                async with self._browse.side(site, _THERE) as side:
                    return await takes_hidden_names(side, folder, token)
            except NailerError as error:
                if not error.retryable or not left:
                    raise
        return True

    async def _built(self, one: Replacement, site: Site) -> str:
        """Until what was wanted is built, and proved. Raises Conflict where it is not, with nothing replaced; where files
        are replaced one by one, returns why that cannot stay."""
        if one.in_place:
            return await self._replaced_one_by_one(one, site)
        if one.job_id is not None:
            job = await self._job_ended(one.job_id)
            if job.state is not JobState.DONE:
                raise Conflict(f"Not all of it could be written; job {one.job_id} says why. Nothing was replaced.")
        await self._patience.do(site, lambda side: self._proved(one, side))
        return ""

    async def _replaced_one_by_one(self, one: Replacement, site: Site) -> str:
        """Nothing is removed before every name of the new version is there. Returns why it cannot stay so."""
        if one.job_id is None:
            return "it was interrupted before anything was written"
        if (await self._job_ended(one.job_id)).state is not JobState.DONE:
            return f"not all of it could be written, job {one.job_id} says why"
        removal_id = one.removal_id
        if removal_id is None:
            items = leftovers(one.path, await self._plans.result(one), await self._plans.manifest(one.old_copy_id))
            if not items:
                return ""
            title = f"Removing what {one.title} {one.new_version} does not have"
            adding = self.adding_job(one.account_id or 0, site, title, one.path, items, JobKind.WRITE)
            removal_id = await self._store.begin_removal(one.id, adding)
            self._engine.runner.wake()
        if (await self._job_ended(removal_id)).state is not JobState.DONE:
            return f"what it does not have could not all be removed, job {removal_id} says why"
        return ""

    async def _job_ended(self, job_id: int) -> Job:
        async for _ in self._engine.live.changes(at_most_every_s=_LOOK_EVERY_S, heartbeat_s=1.0):
            job = await self._jobs.get(job_id)
            if job.state in ENDED:
                return job
        raise asyncio.CancelledError  # Nailer ends: it goes on when it starts again

    async def _proved(self, one: Replacement, side: Side) -> None:
        """What was built is what was wanted, and the old one is as it was read; of names that are being exchanged already
        both were looked at before. Raises Conflict."""
        if await _is_begun(side, one):
            return
        if one.fresh is not None:
            result = await self._plans.result(one)
            wrong = list(unlike(result, await read_tree(side, one.fresh, Progress())))
            wrong = wrong or await other_content(side, one.fresh, result, self._plans.hashed)
            if wrong:
                raise Conflict(f"The new version is incomplete: {wrong[0]}. Nothing was replaced.")
        if one.old_copy_id is not None:
            now = await read_tree(side, one.path, Progress())
            changed = unagreed(tree_of(await self._plans.manifest(one.old_copy_id)), now)
            if changed or now.missing:
                names = count_text(len(changed), "item")
                raise Conflict(f"{names} of {one.path} changed since it was read. Nothing was replaced; read it again.")

    async def _backed(self, one: Replacement, site: Site) -> str:
        """The old one has its place again; return what is to be said beside that, '' for nothing."""
        if not one.in_place:
            await self._patience.do(site, lambda side: exchange(side, _backward(one)))
            await self._noted(site, one, _backward(one))
            try:
                await self.clear(one, site)
            except NailerError as error:
                return f" The new version is still in {one.fresh}: {error.what}"
            return ""
        again = await self._store.get(site.id, one.id) or one
        for job_id in (again.removal_id, again.job_id):
            await self._job_taken_back(one.account_id or 0, site, job_id)
        return ""

    async def _job_taken_back(self, account_id: int, site: Site, job_id: int | None) -> None:
        if job_id is None:
            return
        # Begun before a cut, it goes on by itself: what it has not taken back yet is not taken back by two.
        for begun_id in await self._jobs.taking_back(job_id):
            await self._job_ended(begun_id)
        try:
            back_id = await self._take_backs.take_job_back(account_id, job_id)
        except NotFound:
            return  # it has changed nothing
        await self._make.carry_out(back_id, site, Answers())
        job = await self._job_ended(back_id)
        if job.state is not JobState.DONE:
            raise Conflict(f"Not everything was restored; see job {back_id} for the reason.")

    async def undo(self, one: Replacement, site: Site) -> None:
        """Bring what failed half way back to where it began: the old one has its name, and what was built is gone. Raises
        Conflict where the new one is in place already; it can be put back then."""

        async def _old_name(side: Side) -> None:
            if one.kept is None or not await is_there(side, one.kept):
                return
            if await is_there(side, one.path):
                await self._store.set_state(one.id, ReplacementState.IN_PLACE, one.words)
                raise Conflict("The new one is in place already. Put the old one back instead.")
            await side.rename(one.kept, one.path)

        await self._patience.do(site, _old_name)
        await self.clear(one, site)

    async def clear(self, one: Replacement, site: Site) -> None:
        """Remove what was built and is nobody's any more: every content of it is kept here."""
        fresh = one.fresh
        if fresh is not None:
            await self._patience.do(site, lambda side: clear(side, fresh))
            self._browse.forget(site.id)

    async def _noted(self, site: Site, one: Replacement, names: Exchange) -> None:
        """Both renames stand in the list of changes."""
        for old, new in ((names.place, names.goes), (names.comes, names.place)):
            if old is not None and new is not None:
                change = NewChange(site.id, _THERE, old, What.RENAMED, one.account_id, other_path=new)
                await self._changes.add_confirmed(change)
        self._browse.forget(site.id)


async def _is_begun(side: Side, one: Replacement) -> bool:
    """True where names are being exchanged already, or were: what is looked at before must not be looked at again."""
    if one.kept is not None:
        return await is_there(side, one.kept)
    return one.fresh is not None and not await is_there(side, one.fresh) and await is_there(side, one.path)


def _forward(one: Replacement) -> Exchange:
    return Exchange(one.path, one.fresh, one.kept)


def _backward(one: Replacement) -> Exchange:
    return Exchange(one.path, one.kept, one.fresh, returns=True)
