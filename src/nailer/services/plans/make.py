"""Plans for many-file actions: made and stored to be read, then carried out or forgotten. Making one changes nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from nailer.core.compare.joint import still_as
from nailer.core.files.access import octal
from nailer.core.files.entry import Entry, Kind, SideName, Stamp
from nailer.core.files.names import free_name, names_text
from nailer.core.files.sitepath import SitePath, common_folder
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import JobState
from nailer.core.plans.advice import Doubt
from nailer.core.plans.destination import Around, Better, Sent, better_places, overlap
from nailer.core.plans.plan import (
    Action,
    Below,
    Choice,
    FoundFile,
    PlanStep,
    Verdict,
    carry_plan,
    move_plan,
    removal_plan,
)
from nailer.core.plans.room import Fit, need_of
from nailer.core.plans.sieve import Sieves
from nailer.engine.runner import Runner
from nailer.engine.swap import tries_renaming
from nailer.errors import Conflict, FileMissing, InvalidInput, NotFound, NotKnown, TransferError, WrongKind
from nailer.services.files import Browse, SieveBook
from nailer.services.plans.archives import Archives, Unpacked
from nailer.services.plans.target import folder_items, missing_folders, room_at
from nailer.sides.side import Side, walk
from nailer.store.changes import Change, ChangeStore, What
from nailer.store.jobs import JobStore, NewItem, NewJob
from nailer.store.sites import Site

_MOST_CHILDREN = 12
_LOOKS_AT_ONCE = 32
SIEVED = "stays behind, sieve: "


@dataclass(frozen=True, slots=True)
class Dropped:
    """A file that a browser offers: the names from the drop's top down to it, its size, and its time if known."""

    below: Below
    size: int
    stamp: Stamp | None


class PlanMaker:
    def __init__(
        self,
        browse: Browse,
        jobs: JobStore,
        changes: ChangeStore,
        runner: Runner,
        unpack: Archives,
        spool: Side,
        sieving: SieveBook,
        *,
        keep_largest_bytes: int,
    ) -> None:
        self._sieving = sieving
        self._unpack = unpack
        self._spool = spool
        self._browse = browse
        self._jobs = jobs
        self._changes = changes
        self._runner = runner
        self._keep_largest_bytes = keep_largest_bytes

    async def carry(
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
            raise InvalidInput("Pick at least one name first.")
        async with (
            self._browse.side(site, to_side.other) as source_side,
            self._browse.side(site, to_side) as target_side,
        ):
            found, there, missing, room, around = await asyncio.gather(
                _find(source_side, source, names, tolerant=True),
                _find(target_side, target, names, tolerant=True),
                missing_folders(target_side, target),
                room_at(target_side, target),
                self._around(target_side, site, to_side, source, target),
            )
            await tries_renaming(target_side, target)
            met = await _met_of(target_side, target, there, found)
        # Of many picked names some may be on the other side only: those have nothing to carry.
        if not found:
            raise FileMissing(f"{source.child(names[0])} is not there any more.")
        steps = carry_plan(found, met, resend_same=resend_same)
        if not despite_sieves:
            start = site.start_here if to_side is SideName.THERE else site.start_there
            steps = sieved(steps, await self._sieving.of_site(site), source.below(start) or ())
        word = "Upload" if to_side is SideName.THERE else "Download"
        title = f"{word} of {names_text([one.below[0] for one in found if len(one.below) == 1])}"
        job = NewJob(account_id, site.id, JobKind.CARRY, title, to_side, source, target)
        items = [*folder_items(missing), *self._items(steps, source, target)]
        return await self._add(job, items, room, better_places(_sent(found), target, around))

    async def _add(self, job: NewJob, items: list[NewItem], room: int | None, advice: Sequence[Better] = ()) -> int:
        """Store a plan with what was found out about the room for it and its place."""
        one_by_one = need_of(_sizes(items)).fit(room) is Fit.IN_ORDER
        return await self._jobs.add(replace(job, room_bytes=room, one_by_one=one_by_one, advice=tuple(advice)), items)

    async def _around(
        self, side: Side, site: Site, to_side: SideName, source: SitePath, target: SitePath
    ) -> dict[SitePath, Around]:
        """What lies at and around a destination: itself, its parent, its folders, and where the pair maps the source."""
        starts = (site.start_here, site.start_there)
        own, other = starts if to_side is SideName.THERE else starts[::-1]
        mapped = other.join(below) if (below := source.below(own)) is not None else None
        found = {target: await _listed(side, target)}
        wanted = [target.parent, *([mapped] if mapped is not None else [])]
        wanted += [target.child(name) for name in sorted(found[target].folders)[:_MOST_CHILDREN]]
        rest = [
            one for one in dict.fromkeys(wanted) if one != target and not (one.is_root and to_side is SideName.HERE)
        ]
        return found | dict(zip(rest, await asyncio.gather(*(_listed(side, one) for one in rest)), strict=True))

    async def carry_found(
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
            met = await _met(target_side, target, [one.below for one in found])
        steps = carry_plan(found, met)
        word = "Upload" if to_side is SideName.THERE else "Download"
        title = f"{word} of {names_text([below[-1] for below in belows])}"
        job = NewJob(account_id, site.id, JobKind.CARRY, title, to_side, source, target)
        return await self._add(job, [*folder_items(missing), *self._items(steps, source, target)], room)

    async def removal_found(
        self, account_id: int, site: Site, side: SideName, top: SitePath, paths: Sequence[SitePath]
    ) -> int:
        """Plan removing paths from anywhere below a folder."""
        belows = _belows(paths, top)
        async with self._browse.side(site, side) as target_side:
            found = await _find_deep(target_side, top, belows, with_parents=False)
        title = f"Removal of {names_text([below[-1] for below in belows])}"
        job = NewJob(account_id, site.id, JobKind.REMOVE, title, side, top, top)
        return await self._jobs.add(job, self._items(removal_plan(found), top, top))

    async def drop(
        self, account_id: int, site: Site, to_side: SideName, target: SitePath, files: Sequence[Dropped]
    ) -> int:
        """Plan what a browser wants to send into a folder of either side."""
        if not files:
            raise InvalidInput("There is no file in what was dropped.")
        found = _dropped_tree(files)
        tops = sorted({one.below[0] for one in found})
        async with self._browse.side(site, to_side) as target_side:
            there, missing, room, around = await asyncio.gather(
                _find(target_side, target, tops, tolerant=True),
                missing_folders(target_side, target),
                room_at(target_side, target),
                self._around(target_side, site, to_side, SitePath(), target),
            )
            await tries_renaming(target_side, target)
            met = await _met_of(target_side, target, there, found)
        steps = carry_plan(found, met, resend_same=True)
        title = f"From this computer: {names_text(tops)}"
        job = NewJob(account_id, site.id, JobKind.DROP, title, to_side, SitePath(), target)
        items = [*folder_items(missing), *self._items(steps, SitePath(), target)]
        return await self._add(job, items, room, better_places(_sent(found), target, around))

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
            raise InvalidInput("Pick at least one name first.")
        other = to_site is not None and to_site.id != site.id
        if not other:
            _check_not_into_itself(folder, names, target)
        goal = to_site if to_site is not None and other else site
        async with self._browse.side(site, side) as source_side, self._browse.side(goal, side) as target_side:
            found, there, missing, room = await asyncio.gather(
                _find(source_side, folder, names),
                _find(target_side, target, names, tolerant=True),
                missing_folders(target_side, target),
                room_at(target_side, target),
            )
            beside = target == folder and not other
            taken = {one.name for one in (await target_side.list(folder)).entries} if beside else set()
            met = await _met_of(target_side, target, there, found) if not taken else {}
        steps = _beside(carry_plan(found, met, resend_same=other), taken)
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
        return await self._add(job, [*folder_items(missing), *self._items(steps, folder, target)], room)

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
            raise InvalidInput("Pick at least one name first.")
        if target == folder:
            raise InvalidInput("They are in that folder already.")
        _check_not_into_itself(folder, names, target)
        async with self._browse.side(site, side) as moved_side:
            entries = {one.below[0]: one.entry for one in await _picked(moved_side, folder, names)}
            missing, met = await asyncio.gather(
                missing_folders(moved_side, target), _met(moved_side, target, [(name,) for name in names])
            )
        found = [FoundFile((name,), entries[name]) for name in names if name in entries]
        if not found:
            raise FileMissing(f"{folder.child(names[0])} is not there any more.")
        title = title or f"Move of {names_text(list(names))}"
        job = NewJob(account_id, site.id, JobKind.MOVE, title, side, folder, target)
        items = [*folder_items(missing), *self._items(move_plan(found, met), folder, target)]
        return await self._jobs.add(job, items)

    async def unpack(
        self,
        account_id: int,
        site: Site,
        to_side: SideName,
        target: SitePath,
        unpacked: Unpacked,
        name: str,
        *,
        without_top: bool | None = None,
    ) -> int:
        """Plan carrying what an archive holds. Where one folder holds everything, `without_top` says whether only what
        is in it goes; None: whichever lines up with what is there."""
        place = self._unpack.place(unpacked.token)
        async with self._browse.side(site, to_side) as target_side:
            names, top = unpacked.names, place
            if unpacked.only_folder is not None:
                inside = [one.name for one in (await self._spool.list(place.child(unpacked.only_folder))).entries]
                if without_top is None:
                    there = (await _listed(target_side, target)).names
                    without_top = bool(inside) and overlap(inside, there) > overlap(list(names), there)
                if without_top:
                    names, top = tuple(inside), place.child(unpacked.only_folder)
            found, there_now, missing, room, around = await asyncio.gather(
                _find(self._spool, top, names),
                _find(target_side, target, names, tolerant=True),
                missing_folders(target_side, target),
                room_at(target_side, target),
                self._around(target_side, site, to_side, SitePath(), target),
            )
            await tries_renaming(target_side, target)
            met = await _met_of(target_side, target, there_now, found)
        steps = carry_plan(found, met, resend_same=True)
        job = NewJob(account_id, site.id, JobKind.UNPACK, f"Unpacking {name}", to_side, top, target)
        items = [*folder_items(missing), *self._items(steps, top, target)]
        return await self._add(job, items, room, better_places(_sent(found), target, around))

    async def removal(
        self, account_id: int, site: Site, side: SideName, folder: SitePath, names: Sequence[bytes]
    ) -> int:
        """Plan removing picked names with everything in them."""
        if not names:
            raise InvalidInput("Pick at least one name first.")
        async with self._browse.side(site, side) as target_side:
            found = await _find(target_side, folder, names, with_parts=True)
        steps = removal_plan(found)
        title = f"Removal of {names_text(list(names))}"
        job = NewJob(account_id, site.id, JobKind.REMOVE, title, side, folder, folder)
        return await self._jobs.add(job, self._items(steps, folder, folder))

    async def unpacked_there(
        self,
        account_id: int,
        site: Site,
        staged: SitePath,
        target: SitePath,
        name: str,
        without_top: bool | None = None,
    ) -> int:
        """Plan moving what was unpacked on the server to its place; where names are taken it is copied, so that what is
        replaced is kept."""
        async with self._browse.side(site, SideName.THERE) as side:
            entries, there = await asyncio.gather(_all_in(side, staged), _listed(side, target))
            top = staged
            if len(entries) == 1 and entries[0].is_folder:
                inside = await _all_in(side, staged.child(entries[0].name))
                ours, whole = [one.name for one in inside], [entries[0].name]
                if without_top is None:
                    without_top = bool(ours) and overlap(ours, there.names) > overlap(whole, there.names)
                if without_top:
                    top, entries = staged.child(entries[0].name), inside
        names = [one.name for one in entries]
        plan = self.copy if there.names & set(names) else self.move
        return await plan(account_id, site, SideName.THERE, top, names, target, title=f"Unpacking of {name}")

    async def take_job_back(self, account_id: int, job_id: int) -> int:
        """Plan taking back everything that a job changed and that was not taken back yet."""
        done = await self._jobs.get(job_id)
        changes = await self._changes.of_job(job_id)
        items = [item for item in map(_inverse, changes) if item is not None]
        if not items:
            raise NotFound("Nothing of this job is left to take back.")
        job = NewJob(
            account_id,
            done.site_id,
            JobKind.TAKE_BACK,
            f"Taking back job {job_id}",
            done.to_side,
            done.target_folder,
            done.target_folder,
            takes_back=job_id,
        )
        return await self._jobs.add(job, items)

    async def take_back_since(self, account_id: int, site: Site, first: Change) -> int:
        """Plan taking back everything on a side since a change, itself too, the newest first and one after another.
        Names that were changed since by other hands are left as they are, and said."""
        changes = await self._changes.since(first)
        async with self._browse.side(site, first.side) as side:
            barred = await _barred(side, changes)
        items = []
        for change in changes:
            item = _inverse(change)
            if item is None or not change.can_be_taken_back:
                continue
            why = barred.get(change.path)
            items.append(replace(item, verdict=Verdict.LEFT, reason=why) if why else item)
        if not items:
            raise NotFound("Nothing since then is left to take back.")
        folder = common_folder([item.target.parent for item in items])
        title = f"Taking back all since {first.at:%Y-%m-%d %H:%M} UTC"
        job = NewJob(account_id, site.id, JobKind.TAKE_BACK, title, first.side, folder, folder, one_by_one=True)
        return await self._jobs.add(job, items)

    async def take_change_back(self, account_id: int, site: Site, change: Change) -> int | None:
        """Take one change back: as a job of one item that starts at once, or at once by itself for a rename (None).

        Raises Conflict where the file was changed since: its present content would be lost.
        """
        if not change.can_be_taken_back:
            raise Conflict("This was taken back already, or no copy of it is kept.")
        async with self._browse.side(site, change.side) as side:
            if change.what is What.RENAMED and change.other_path is not None:
                await side.rename(change.other_path, change.path)
                await self._changes.taken_back(change.id)
                self._browse.forget(site.id)
                return None
            await _check_unchanged(side, change)
            missing = await missing_folders(side, change.path.parent)
        item = _inverse(change)
        if item is None:
            raise Conflict("No copy of this is kept.")
        title = f"Taking back {names_text([change.path.name])}"
        folder = change.path.parent
        job = NewJob(account_id, site.id, JobKind.TAKE_BACK, title, change.side, folder, folder)
        job_id = await self._jobs.add(job, [*folder_items(missing), item], JobState.WAITING)
        self._runner.wake()
        return job_id

    async def leave_out(self, job_id: int, doubts: Sequence[Doubt]) -> None:
        """Leave doubtful names out of a plan that is being read."""
        job = await self._jobs.get(job_id)
        await self._jobs.leave_out_of_plan(job_id, [job.target_folder.join(one.below) for one in doubts])

    async def carry_out(self, job_id: int, site: Site, choice: Choice) -> None:
        """Let a plan that was read be carried out, under one choice for all that is there already."""
        taken: dict[Below, frozenset[bytes]] = {}
        job = await self._jobs.get(job_id)
        if choice is Choice.KEEP_BOTH:
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
        await self._jobs.confirm(job_id, choice, taken)
        if job.kind is not JobKind.DROP:
            self._runner.wake()

    def _items(self, steps: Sequence[PlanStep], source: SitePath, target: SitePath) -> list[NewItem]:
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


async def _find(
    side: Side, folder: SitePath, names: Sequence[bytes], *, tolerant: bool = False, with_parts: bool = False
) -> list[FoundFile]:
    """The picked names of a folder and all that is in them. `tolerant`: names that are not there are simply absent.
    `with_parts`: half files of Nailer's own, too, which would keep their folder from being removed."""
    found: list[FoundFile] = []
    for one in await _picked(side, folder, names, tolerant=tolerant):
        found.append(one)
        if one.entry.is_folder:
            found += await _tree(side, folder.child(one.below[0]), one.below, found, with_parts=with_parts)
    return found


async def _picked(side: Side, folder: SitePath, names: Sequence[bytes], *, tolerant: bool = False) -> list[FoundFile]:
    """The picked names of a folder as they stand. What a listing that may not be whole does not show is looked for by its
    name. `tolerant`: names that are known not to be there are simply absent."""
    try:
        listing = await side.list(folder, careful=True)
    except FileMissing:
        if tolerant:
            return []
        raise
    entries = {entry.name: entry for entry in listing.entries}
    unsure = [name for name in names if name not in entries and listing.may_hide(name)]
    looked = await _looked_for(side, folder, [(name,) for name in unsure])
    entries |= {below[0]: entry for below, entry in looked.items()}
    absent = [name for name in names if name not in entries]
    if absent and not tolerant:
        raise FileMissing(f"{folder.child(absent[0])} is not there any more.")
    return [FoundFile((name,), entries[name]) for name in names if name in entries]


async def _looked_for(side: Side, top: SitePath, belows: Iterable[Below]) -> dict[Below, Entry]:
    """Names that are asked for one by one, with what is there under them. Raises NotKnown where that cannot be told."""
    gate = asyncio.Semaphore(_LOOKS_AT_ONCE)

    async def one(below: Below) -> tuple[Below, Entry | None]:
        async with gate:
            try:
                return below, await side.stat(top.join(below))
            except (FileMissing, WrongKind):
                return below, None

    looked = await asyncio.gather(*(one(below) for below in belows))
    return {below: entry for below, entry in looked if entry is not None}


async def _met_of(
    side: Side, folder: SitePath, there: Sequence[FoundFile], sent: Sequence[FoundFile]
) -> dict[Below, Entry]:
    """What the target has at the names that are sent. In folders whose listing may not be whole each is looked for."""
    met = {one.below: one.entry for one in there}
    doubtful = {one.below for one in there if one.doubt}
    unsure = [one.below for one in sent if one.below[:-1] in doubtful and one.below not in met]
    return met | await _looked_for(side, folder, unsure) if unsure else met


async def _all_in(side: Side, folder: SitePath) -> list[Entry]:
    """Everything in a folder. Raises NotKnown where the listing may not be whole."""
    listing = await side.list(folder)
    if listing.lack is not None:
        raise NotKnown(f"What is in {folder} is not all known. {listing.lack.sentence}")
    return listing.entries


def sieved(steps: Sequence[PlanStep], sieves: Sieves, top: Below) -> list[PlanStep]:
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
        if item.action is Action.CARRY and item.verdict not in (Verdict.LEFT, Verdict.SAME)
    ]


def _sent(found: Sequence[FoundFile]) -> list[Sent]:
    """The tops of what is sent, with the names directly in them."""
    inside: dict[bytes, dict[bytes, bool]] = {one.below[0]: {} for one in found}
    for one in found:
        if len(one.below) == 2:
            inside[one.below[0]][one.below[1]] = one.entry.is_folder
    tops = [one for one in found if len(one.below) == 1]
    return [
        Sent(one.below[0], one.entry.is_folder, frozenset(inside[one.below[0]]), _only(inside[one.below[0]]))
        for one in tops
    ]


def _only(inside: dict[bytes, bool]) -> bytes | None:
    return next(iter(inside)) if len(inside) == 1 and all(inside.values()) else None


async def _listed(side: Side, folder: SitePath) -> Around:
    """A folder near the destination; where it cannot be read nothing is known of it, which is no failure."""
    try:
        entries = (await side.list(folder)).entries
    except TransferError:
        return Around(frozenset())
    return Around(frozenset(one.name for one in entries), frozenset(one.name for one in entries if one.is_folder))


def _belows(paths: Sequence[SitePath], top: SitePath) -> list[Below]:
    """The names from a folder down to each path, without those that lie in another of them."""
    belows: set[Below] = set()
    for path in paths:
        below = path.below(top)
        if not below:
            raise InvalidInput(f"{path} does not lie below {top}.")
        belows.add(below)
    return sorted(one for one in belows if not any(one[:depth] in belows for depth in range(1, len(one))))


async def _find_deep(
    side: Side, top: SitePath, belows: Sequence[Below], *, with_parents: bool = True
) -> list[FoundFile]:
    """Names from anywhere below a folder with all that is in them, and the folders above them where wanted."""
    entries = await asyncio.gather(*(side.stat(top.join(below)) for below in belows))
    found: dict[Below, FoundFile] = {}
    for below, entry in zip(belows, entries, strict=True):
        for depth in range(1, len(below)) if with_parents else ():
            found.setdefault(below[:depth], FoundFile(below[:depth], Entry(below[depth - 1], Kind.FOLDER)))
        own = [FoundFile(below, entry)]
        if entry.is_folder:
            own += await _tree(side, top.join(below), below, own, with_parts=not with_parents)
        found |= {one.below: one for one in own}
    return list(found.values())


async def _met(side: Side, top: SitePath, belows: Iterable[Below]) -> dict[Below, Entry]:
    """What a side has at some names below a folder, by the listings of the folders they are in. A name that a listing may
    hide is looked for by itself."""
    wanted: dict[Below, list[Below]] = {}
    for below in belows:
        wanted.setdefault(below[:-1], []).append(below)

    async def one(folder: Below) -> dict[Below, Entry]:
        try:
            listing = await side.list(top.join(folder), careful=True)
        except (FileMissing, WrongKind):
            return {}
        met = {(*folder, entry.name): entry for entry in listing.entries}
        unsure = [below for below in wanted[folder] if below not in met and listing.may_hide(below[-1])]
        return met | await _looked_for(side, top, unsure) if unsure else met

    found: dict[Below, Entry] = {}
    for part in await asyncio.gather(*(one(folder) for folder in wanted)):
        found |= part
    return found


async def _tree(
    side: Side, top: SitePath, below: Below, found: list[FoundFile], *, with_parts: bool = False
) -> list[FoundFile]:
    inside: list[FoundFile] = []
    unread: dict[Below, str] = {}
    unsure: dict[Below, str] = {}
    async for reading in walk(side, top, careful=True):
        if reading.problem is not None:
            unread[(*below, *reading.below)] = reading.problem.what
        elif reading.lack is not None:
            unsure[(*below, *reading.below)] = reading.lack.sentence
        entries = [*reading.entries, *(reading.parts if with_parts else ())]
        inside += [FoundFile((*below, *reading.below, entry.name), entry) for entry in entries]
    for number, one in ((-1, found[-1]), *enumerate(inside)):
        known = replace(one, problem=unread.get(one.below), doubt=unsure.get(one.below, ""))
        (found if number < 0 else inside)[number] = known
    return inside


def _dropped_tree(files: Sequence[Dropped]) -> list[FoundFile]:
    folders: dict[Below, FoundFile] = {}
    found: list[FoundFile] = []
    for file in files:
        for depth in range(1, len(file.below)):
            below = file.below[:depth]
            folders.setdefault(below, FoundFile(below, Entry(below[-1], Kind.FOLDER)))
        found.append(FoundFile(file.below, Entry(file.below[-1], Kind.FILE, file.size, file.stamp)))
    clashing = [one.below for one in found if one.below in folders]
    if clashing or len({one.below for one in found}) != len(found):
        raise InvalidInput("The same name was dropped twice.")
    return [*folders.values(), *found]


def _inverse(change: Change) -> NewItem | None:
    """The item that undoes a change, or None where nothing can."""
    now = Entry(change.path.name, Kind.FILE, change.after_size or 0, change.after_stamp)
    before = Entry(
        change.path.name,
        Kind.LINK if change.before_target is not None else Kind.FILE,
        change.before_size or 0,
        change.before_stamp,
        change.before_access,
        target=change.before_target,
    )
    folder = Entry(change.path.name, Kind.FOLDER, access=change.before_access)
    link = Entry(change.path.name, Kind.LINK)
    match change.what:
        case What.MADE:
            return _undo(change, Action.REMOVE, Verdict.REMOVES, "was made, is removed", now, now)
        case What.REPLACED if change.before_hash is not None:
            return _undo(change, Action.RESTORE, Verdict.REPLACES, "its earlier content comes back", before, now)
        case What.REMOVED if change.before_hash is not None:
            return _undo(change, Action.RESTORE, Verdict.NEW, "comes back", before, None)
        case What.LINK_REMOVED:
            return _undo(change, Action.RESTORE, Verdict.NEW, "the link comes back", before, None)
        case What.LINK_MADE:
            return _undo(change, Action.REMOVE, Verdict.REMOVES, "the link goes again", link, link)
        case What.FOLDER_MADE:
            return _undo(change, Action.REMOVE_FOLDER, Verdict.REMOVES, "was made, is removed", folder, folder)
        case What.RENAMED if change.other_path is not None:
            back = _undo(
                change, Action.MOVE, Verdict.NEW, "goes back to where it was", replace(now, name=change.path.name), None
            )
            return replace(back, source=change.other_path)
        case What.ACCESS_SET if change.before_access is not None:
            then, seen = (
                replace(now, size=0, access=change.before_access),
                replace(now, size=0, access=change.after_access),
            )
            return _undo(
                change, Action.SET_ACCESS, Verdict.SETS, f"gets back {octal(change.before_access)}", then, seen
            )
        case What.FOLDER_REMOVED:
            return _undo(change, Action.MAKE_FOLDER, Verdict.NEW, "comes back", folder, None)
        case _:
            return None


def _undo(
    change: Change, action: Action, verdict: Verdict, reason: str, entry: Entry, expected: Entry | None
) -> NewItem:
    return NewItem(action, verdict, reason, change.path, change.path, entry, expected, change.before_hash, change.id)


async def _check_unchanged(side: Side, change: Change) -> None:
    """Raises Conflict where the path no longer holds what the change left there."""
    expected = change.what not in (What.REMOVED, What.LINK_REMOVED, What.FOLDER_REMOVED)
    try:
        now = await side.stat(change.path)
    except FileMissing:
        if expected:
            raise Conflict(f"{change.path} was removed since; there is nothing to take back.") from None
        return
    if not expected:
        raise Conflict(f"{change.path} is there again by now. Rename or remove that first.")
    if change.what is What.ACCESS_SET:
        if now.access != change.after_access:
            raise Conflict(
                f"The access of {change.path} was changed since. Taking back would lose that, so nothing was done."
            )
        return
    after = Entry(now.name, Kind.FILE, change.after_size or 0, change.after_stamp)
    if now.is_file and not still_as(now, after):
        raise Conflict(f"{change.path} was changed since. Taking back would lose that change, so nothing was done.")


async def _barred(side: Side, changes: Sequence[Change]) -> dict[SitePath, str]:
    """Paths that are not as the newest of the changes left them, each with why."""
    newest: dict[SitePath, Change] = {}
    for change in changes:
        newest.setdefault(change.path, change)
    gate = asyncio.Semaphore(_LOOKS_AT_ONCE)

    async def one(change: Change) -> tuple[SitePath, str]:
        async with gate:
            try:
                await _check_unchanged(side, change)
            except (Conflict, TransferError) as error:
                return change.path, error.what
        return change.path, ""

    # What a rename moved is looked at by the job itself, under the name it has then.
    looked = [change for change in newest.values() if change.what is not What.RENAMED]
    return {path: why for path, why in await asyncio.gather(*(one(change) for change in looked)) if why}
