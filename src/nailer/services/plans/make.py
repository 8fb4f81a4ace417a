"""Plans for many-file actions: made and stored to be read, then carried out or forgotten. Making one changes nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

from nailer.core.files.entry import Entry, Kind, SideName, Stamp
from nailer.core.files.keeping import Keeps
from nailer.core.files.names import free_name, landing_rank, names_text
from nailer.core.files.sitepath import SitePath, common_folder
from nailer.core.files.tree import RelativePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.advice import Doubt
from nailer.core.plans.destination import Better, better_places
from nailer.core.plans.plan import (
    IDLE,
    Action,
    Answers,
    Choice,
    FoundFile,
    PlanStep,
    Verdict,
    move_plan,
    removal_plan,
    transfer_plan,
)
from nailer.core.plans.room import Fit, need_of
from nailer.core.plans.sieve import Sieves
from nailer.core.words import count_text
from nailer.engine.runner import Runner
from nailer.engine.swap import tries_renaming
from nailer.errors import FileMissing, InvalidInput
from nailer.services.files import Browse, KeepBook, SieveBook
from nailer.services.plans.comparing import PlanComparing, TransferEnds
from nailer.services.plans.found import (
    _belows,
    _find_deep,
    around,
    find,
    met_at,
    met_of,
    picked_entries,
    sent_of,
)
from nailer.services.plans.target import folder_items, missing_folders, room_at
from nailer.store.jobs import JobStore, NewItem, NewJob
from nailer.store.sites import Site
from nailer.unbroken import in_thread

SIEVED = "stays behind, sieve: "


@dataclass(frozen=True, slots=True)
class Dropped:
    """A file that a browser offers: the names from the drop's top down to it, its size, and its time if known."""

    below: RelativePath
    size: int
    stamp: Stamp | None


@dataclass(frozen=True, slots=True)
class FromFolder:
    """Names of one folder, and the folder on the other side that they go into."""

    source: SitePath
    target: SitePath
    names: tuple[bytes, ...]


class PlanMaker:
    def __init__(
        self,
        browse: Browse,
        jobs: JobStore,
        runner: Runner,
        sieving: SieveBook,
        comparing: PlanComparing,
        keeping: KeepBook,
        *,
        keep_largest_bytes: int,
    ) -> None:
        self._sieving = sieving
        self._comparing = comparing
        self._keeping = keeping
        self._browse = browse
        self._jobs = jobs
        self._runner = runner
        self._keep_largest_bytes = keep_largest_bytes

    async def transfer(
        self,
        account_id: int,
        site: Site,
        to_side: SideName,
        source: SitePath,
        target: SitePath,
        names: Sequence[bytes],
        *,
        resend_same: bool = False,
        despite_sieves: bool = False,
    ) -> int:
        """Plan carrying picked names of one folder into another; return the stored job's id. What lies in picked folders
        stays behind where a sieve says so, unless `despite_sieves`; what is picked itself goes."""
        if not names:
            raise InvalidInput("Select at least one file or folder first.")
        place = FromFolder(source, target, tuple(names))
        async with (
            self._browse.side(site, to_side.other) as source_side,
            self._browse.side(site, to_side) as target_side,
        ):
            ends = TransferEnds(site, to_side, source_side, source, target_side, target)
            (found, items), room, near = await asyncio.gather(
                self._carried(ends, place, resend_same=resend_same, despite_sieves=despite_sieves),
                room_at(target_side, target),
                around(target_side, site, to_side, source, target),
            )
        # Of many picked names some may be on the other side only: those have nothing to carry.
        if not found:
            raise FileMissing(f"{source.child(names[0])} no longer exists.")
        title = f"{_word(to_side)} of {names_text([one.below[0] for one in found if len(one.below) == 1])}"
        job = NewJob(account_id, site.id, JobKind.TRANSFER, title, to_side, source, target)
        return await self.add(job, items, room, await in_thread(lambda: better_places(sent_of(found), target, near)))

    async def transfer_places(
        self, account_id: int, site: Site, to_side: SideName, places: Sequence[FromFolder]
    ) -> int:
        """Plan carrying names of several folders, each into the folder that belongs to its own, as one plan."""
        if not places:
            raise InvalidInput("Add files to the tray first.")
        source, target = (common_folder([getattr(one, end) for one in places]) for end in ("source", "target"))
        async with (
            self._browse.side(site, to_side.other) as source_side,
            self._browse.side(site, to_side) as target_side,
        ):
            room = await room_at(target_side, target)
            found, items = [], []
            for place in places:
                ends = TransferEnds(site, to_side, source_side, place.source, target_side, place.target)
                of_place, its_items = await self._carried(ends, place)
                found += of_place
                items += its_items
        if not found:
            raise FileMissing("The files in the tray no longer exist.")
        tops = [one.below[0] for one in found if len(one.below) == 1]
        title = f"{_word(to_side)} of {names_text(tops)} from {count_text(len(places), 'folder')}"
        job = NewJob(account_id, site.id, JobKind.TRANSFER, title[:200], to_side, source, target)
        return await self.add(job, await in_thread(_in_order, items), room)

    async def _carried(
        self, ends: TransferEnds, place: FromFolder, *, resend_same: bool = False, despite_sieves: bool = False
    ) -> tuple[list[FoundFile], list[NewItem]]:
        """What carrying names of one folder finds, and the items it takes; none where none of the names is there."""
        found, there, missing = await asyncio.gather(
            find(ends.source_side, place.source, place.names, tolerant=True),
            find(ends.target_side, place.target, place.names, tolerant=True),
            missing_folders(ends.target_side, place.target),
        )
        if not found:
            return [], []
        await tries_renaming(ends.target_side, place.target)
        met = await met_of(ends.target_side, place.target, there, found)
        known = await self._comparing.known(ends, found, met)
        start = ends.site.start_here if ends.to_side is SideName.THERE else ends.site.start_there
        sieves = await self._sieving.of_site(ends.site)

        def _steps() -> list[PlanStep]:
            steps = transfer_plan(found, met, resend_same=resend_same, known=known)
            return steps if despite_sieves else sieved(steps, sieves, place.source.below(start) or ())

        return found, await self.worked_out(_steps, place.source, place.target, missing)

    async def worked_out(
        self,
        steps: Callable[[], Sequence[PlanStep]],
        source: SitePath,
        target: SitePath,
        missing: Sequence[SitePath] = (),
    ) -> list[NewItem]:
        """The items of a plan whose steps are reckoned apart from the event loop: there may be a million of them.
        `missing` are folders that are made first."""
        return await in_thread(lambda: [*folder_items(missing), *self.items(steps(), source, target)])

    async def add(self, job: NewJob, items: list[NewItem], room: int | None, advice: Sequence[Better] = ()) -> int:
        """Store a plan with what was found out about the room for it and its place."""
        one_by_one = (await in_thread(lambda: need_of(_sizes(items)))).fit(room) is Fit.IN_ORDER
        return await self._jobs.add(replace(job, room_bytes=room, one_by_one=one_by_one, advice=tuple(advice)), items)

    async def transfer_found(
        self,
        account_id: int,
        site: Site,
        to_side: SideName,
        source: SitePath,
        target: SitePath,
        paths: Sequence[SitePath],
    ) -> int:
        """Plan carrying paths from anywhere below one folder to the same places below another."""
        belows = _belows(paths, source)
        async with (
            self._browse.side(site, to_side.other) as source_side,
            self._browse.side(site, to_side) as target_side,
        ):
            found, missing, room = await asyncio.gather(
                _find_deep(source_side, source, belows),
                missing_folders(target_side, target),
                room_at(target_side, target),
            )
            met = await met_at(target_side, target, [one.below for one in found])
            ends = TransferEnds(site, to_side, source_side, source, target_side, target)
            known = await self._comparing.known(ends, found, met)
        items = await self.worked_out(lambda: transfer_plan(found, met, known=known), source, target, missing)
        title = f"{_word(to_side)} of {names_text([below[-1] for below in belows])}"
        job = NewJob(account_id, site.id, JobKind.TRANSFER, title, to_side, source, target)
        return await self.add(job, items, room)

    async def removal_found(
        self, account_id: int, site: Site, side: SideName, top: SitePath, paths: Sequence[SitePath]
    ) -> int:
        """Plan removing paths from anywhere below a folder."""
        belows = _belows(paths, top)
        async with self._browse.side(site, side) as target_side:
            found = await _find_deep(target_side, top, belows, with_parents=False)
        keeps = await self._keeping.of_site(site.id)
        title = f"Removal of {names_text([below[-1] for below in belows])}"
        job = NewJob(account_id, site.id, JobKind.REMOVE, title, side, top, top)
        return await self._jobs.add(job, await self.worked_out(lambda: _removal(found, keeps, side, top), top, top))

    async def drop(
        self, account_id: int, site: Site, to_side: SideName, target: SitePath, files: Sequence[Dropped]
    ) -> int:
        """Plan what a browser wants to send into a folder of either side."""
        if not files:
            raise InvalidInput("You did not drop any files.")
        found = _dropped_tree(files)
        tops = sorted({one.below[0] for one in found})
        async with self._browse.side(site, to_side) as target_side:
            there, missing, room, near = await asyncio.gather(
                find(target_side, target, tops, tolerant=True),
                missing_folders(target_side, target),
                room_at(target_side, target),
                around(target_side, site, to_side, SitePath(), target),
            )
            await tries_renaming(target_side, target)
            met = await met_of(target_side, target, there, found)
        items = await self.worked_out(lambda: transfer_plan(found, met, resend_same=True), SitePath(), target, missing)
        title = f"From this computer: {names_text(tops)}"
        job = NewJob(account_id, site.id, JobKind.DROP, title, to_side, SitePath(), target)
        return await self.add(job, items, room, better_places(sent_of(found), target, near))

    async def copy(
        self,
        account_id: int,
        site: Site,
        side: SideName,
        folder: SitePath,
        names: Sequence[bytes],
        target: SitePath,
        *,
        to_site: Site | None = None,
        title: str = "",
    ) -> int:
        """Plan copying picked names within a side, or from one site to another. Into their own folder they get free
        names beside themselves."""
        if not names:
            raise InvalidInput("Select at least one file or folder first.")
        other = to_site is not None and to_site.id != site.id
        if not other:
            _check_not_into_itself(folder, names, target)
        goal = to_site if to_site is not None and other else site
        async with self._browse.side(site, side) as source_side, self._browse.side(goal, side) as target_side:
            found, there, missing, room = await asyncio.gather(
                find(source_side, folder, names),
                find(target_side, target, names, tolerant=True),
                missing_folders(target_side, target),
                room_at(target_side, target),
            )
            beside = target == folder and not other
            taken = {one.name for one in (await target_side.list(folder)).entries} if beside else set()
            met = await met_of(target_side, target, there, found) if not taken else {}
        items = await self.worked_out(
            lambda: _beside(transfer_plan(found, met, resend_same=other), taken), folder, target, missing
        )
        where = f" to {goal.name}" if other else ""
        job = NewJob(
            account_id,
            goal.id,
            JobKind.COPY,
            title or f"Copy of {names_text(list(names))}{where}",
            side,
            folder,
            target,
            source_site_id=site.id if other else None,
        )
        return await self.add(job, items, room)

    async def move(
        self,
        account_id: int,
        site: Site,
        side: SideName,
        folder: SitePath,
        names: Sequence[bytes],
        target: SitePath,
        *,
        title: str = "",
    ) -> int:
        """Plan moving picked names into another folder of their side."""
        if not names:
            raise InvalidInput("Select at least one file or folder first.")
        if target == folder:
            raise InvalidInput("These files are already in that folder.")
        _check_not_into_itself(folder, names, target)
        async with self._browse.side(site, side) as moved_side:
            entries = {one.below[0]: one.entry for one in await picked_entries(moved_side, folder, names)}
            missing, met = await asyncio.gather(
                missing_folders(moved_side, target), met_at(moved_side, target, [(name,) for name in names])
            )
        found = [FoundFile((name,), entries[name]) for name in names if name in entries]
        if not found:
            raise FileMissing(f"{folder.child(names[0])} no longer exists.")
        title = title or f"Move of {names_text(list(names))}"
        job = NewJob(account_id, site.id, JobKind.MOVE, title, side, folder, target)
        items = await self.worked_out(lambda: move_plan(found, met), folder, target, missing)
        return await self._jobs.add(job, items)

    async def removal(
        self, account_id: int, site: Site, side: SideName, folder: SitePath, names: Sequence[bytes]
    ) -> int:
        """Plan removing picked names with everything in them."""
        if not names:
            raise InvalidInput("Select at least one file or folder first.")
        async with self._browse.side(site, side) as target_side:
            found = await find(target_side, folder, names, tolerant=True, with_parts=True)
        # Of many picked names some may be on the other side only: those have nothing to remove.
        if not found:
            raise FileMissing(f"{folder.child(names[0])} no longer exists.")
        keeps = await self._keeping.of_site(site.id)
        items = await self.worked_out(lambda: _removal(found, keeps, side, folder), folder, folder)
        title = f"Removal of {names_text(list(names))}"
        job = NewJob(account_id, site.id, JobKind.REMOVE, title, side, folder, folder)
        return await self._jobs.add(job, items)

    async def leave_out(self, job_id: int, doubts: Sequence[Doubt]) -> None:
        """Leave doubtful names out of a plan that is being read."""
        job = await self._jobs.get(job_id)
        await self._jobs.leave_out_of_plan(job_id, [job.target_folder.join(one.below) for one in doubts])

    async def carry_out(self, job_id: int, site: Site, answers: Answers) -> None:
        """Let a plan that was read be carried out, as was decided of what is there already. What both sides have changed
        and nobody has decided stays as it is."""
        taken: dict[RelativePath, frozenset[bytes]] = {}
        job = await self._jobs.get(job_id)
        if answers.keeps_both:
            folders = {
                item.target.parent
                async for window in self._jobs.all_items(job_id)
                for item in window
                if item.seen is not None
            }
            async with self._browse.side(site, job.to_side) as side:
                for folder in folders:
                    names = frozenset(entry.name for entry in (await side.list(folder)).entries)
                    taken[folder.below(job.target_folder) or ()] = names
        await self._jobs.confirm(job_id, replace(answers, clashes=answers.clashes or Choice.LEAVE), taken)
        if job.kind is not JobKind.DROP:
            self._runner.wake()

    def items(self, steps: Sequence[PlanStep], source: SitePath, target: SitePath) -> list[NewItem]:
        """Steps as items of a job from one folder into another."""
        return [
            NewItem(
                action=step.action,
                verdict=step.verdict,
                reason=self._reason(step),
                source=source.join(step.source),
                target=target.join(step.target),
                entry=step.entry,
                replaces=step.replaces,
            )
            for step in steps
        ]

    def _reason(self, step: PlanStep) -> str:
        replaced = step.replaces
        if step.acts and replaced is not None and replaced.is_file and replaced.size > self._keep_largest_bytes:
            return f"{step.reason}; too large to keep, cannot be taken back"
        return step.reason


def _word(to_side: SideName) -> str:
    return "Upload" if to_side is SideName.THERE else "Download"


def _in_order(items: Sequence[NewItem]) -> list[NewItem]:
    """Items of several folders as one plan: folders first, each once and the highest before the others, then files."""
    folders = {item.target: item for item in items if item.action is Action.MAKE_FOLDER}
    files = [item for item in items if item.action is not Action.MAKE_FOLDER]
    return [
        *sorted(folders.values(), key=lambda item: len(item.target.names)),
        *sorted(files, key=lambda item: landing_rank(item.target.name)),
    ]


def _removal(found: Sequence[FoundFile], keeps: Keeps, side: SideName, top: SitePath) -> list[PlanStep]:
    """The steps that remove what was found below a folder, without what somebody keeps."""
    return removal_plan(found, lambda below: keeps.because(side, top.join(below)))


def sieved(steps: Sequence[PlanStep], sieves: Sieves, top: RelativePath) -> list[PlanStep]:
    """The steps without what a sieve holds back in picked folders. `top` is where the source lies below the pair's top."""
    return [
        replace(step, verdict=Verdict.LEFT, reason=SIEVED + held)
        if step.acts and len(step.source) > 1 and (held := sieves.held((*top, *step.source), step.entry))
        else step
        for step in steps
    ]


def _check_not_into_itself(folder: SitePath, names: Sequence[bytes], target: SitePath) -> None:
    for name in names:
        if target.below(folder.child(name)) is not None:
            raise InvalidInput(f"{folder.child(name)} cannot go into itself.")


def _beside(steps: Sequence[PlanStep], taken: set[bytes]) -> list[PlanStep]:
    """The steps with free names at the top, where `taken` are the names there; unchanged where nothing is taken."""
    tops: dict[bytes, bytes] = {}
    for step in steps if taken else ():
        if (top := step.source[0]) not in tops:
            tops[top] = free_name(top, taken | set(tops.values()))
    return [replace(step, target=(tops[step.source[0]], *step.target[1:])) if tops else step for step in steps]


def _sizes(items: Iterable[NewItem]) -> list[tuple[int, int]]:
    """The files of a plan in order: each its size, and the size of what it replaces."""
    return [
        (item.entry.size, item.replaces.size if item.replaces is not None else 0)
        for item in items
        if item.action is Action.TRANSFER and item.verdict not in IDLE
    ]


def _dropped_tree(files: Sequence[Dropped]) -> list[FoundFile]:
    folders: dict[RelativePath, FoundFile] = {}
    found: list[FoundFile] = []
    for file in files:
        for depth in range(1, len(file.below)):
            below = file.below[:depth]
            folders.setdefault(below, FoundFile(below, Entry(below[-1], Kind.FOLDER)))
        found.append(FoundFile(file.below, Entry(file.below[-1], Kind.FILE, file.size, file.stamp)))
    clashing = [one.below for one in found if one.below in folders]
    if clashing or len({one.below for one in found}) != len(found):
        raise InvalidInput("You dropped two files with the same name.")
    return [*folders.values(), *found]
