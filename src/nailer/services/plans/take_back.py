"""Taking back: plans that undo a change, a job, or everything since a moment."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import replace

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.moves import Renamings
from nailer.core.files.names import names_text
from nailer.core.files.permissions import octal
from nailer.core.files.sitepath import SitePath, common_folder
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import (
    Action,
    Verdict,
)
from nailer.engine.runner import Runner
from nailer.errors import Conflict, FileMissing, NotFound, TransferError
from nailer.services.files import Browse
from nailer.services.plans.found import (
    _LOOKS_AT_ONCE,
)
from nailer.services.plans.target import folder_items, missing_folders
from nailer.sides.side import Side
from nailer.store.changes import Change, ChangeStore, What
from nailer.store.jobs import JobStore, NewItem, NewJob
from nailer.store.sites import Site

_OF_PACKAGES = "a package was set aside or replaced; use the Packages page to bring it back"


class TakeBacks:
    """Plans that undo changes. What was changed since by other hands is left, and said."""

    def __init__(self, browse: Browse, jobs: JobStore, changes: ChangeStore, runner: Runner) -> None:
        self._browse = browse
        self._jobs = jobs
        self._changes = changes
        self._runner = runner

    async def take_job_back(self, account_id: int, job_id: int) -> int:
        """Plan taking back everything that a job changed and that was not taken back yet."""
        done = await self._jobs.get(job_id)
        if done.kind is JobKind.BUILD:
            raise Conflict("This job replaced a package. Use the Packages page to go back to the old version.")
        changes = await self._as_named_now(done.site_id, await self._changes.of_job(job_id))
        items = [item for item in map(_inverse, changes) if item is not None]
        if not items:
            raise NotFound("Everything in this job has already been taken back.")
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
        moves = await self._changes.moves(site.id, first.side)
        async with self._browse.side(site, first.side) as side:
            barred = await _barred(side, changes, moves)
        items = []
        for change in changes:
            item = _inverse(change)
            if item is not None and change.is_of_packages and change.what is What.RENAMED:
                items.append(replace(item, verdict=Verdict.LEFT, reason=_OF_PACKAGES))
                continue
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
        (change,) = await self._as_named_now(site.id, [change])
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

    async def _as_named_now(self, site_id: int, changes: Sequence[Change]) -> list[Change]:
        """Changes with the paths that their names have by now, where they or a folder above were renamed since."""
        sides = {change.side for change in changes}
        moves = {side: await self._changes.moves(site_id, side) for side in sides}
        return [_as_named_now(change, moves[change.side]) for change in changes]


def _as_named_now(change: Change, moves: Renamings) -> Change:
    if change.what is What.RENAMED and change.other_path is not None:
        # It goes back into its own folder, wherever that is by now, under the name it had.
        folder = moves.now(change.path.parent, change.at)
        return replace(change, path=folder.child(change.path.name), other_path=moves.now(change.other_path, change.at))
    return replace(change, path=moves.now(change.path, change.at))


def _inverse(change: Change) -> NewItem | None:
    """The item that undoes a change, or None where nothing can."""
    now = Entry(change.path.name, Kind.FILE, change.after_size or 0, change.after_stamp)
    before = Entry(
        change.path.name,
        Kind.LINK if change.before_target is not None else Kind.FILE,
        change.before_size or 0,
        change.before_stamp,
        change.before_permissions,
        target=change.before_target,
    )
    folder = Entry(change.path.name, Kind.FOLDER, permissions=change.before_permissions)
    link = Entry(change.path.name, Kind.LINK)
    match change.what:
        case What.MADE:
            return _undo(change, Action.REMOVE, Verdict.REMOVES, "was created; will be removed", now, now)
        case What.REPLACED if change.before_hash is not None:
            return _undo(change, Action.RESTORE, Verdict.REPLACES, "earlier content will be restored", before, now)
        case What.REMOVED if change.before_hash is not None:
            return _undo(change, Action.RESTORE, Verdict.NEW, "will be restored", before, None)
        case What.LINK_REMOVED:
            return _undo(change, Action.RESTORE, Verdict.NEW, "the link comes back", before, None)
        case What.LINK_MADE:
            return _undo(change, Action.REMOVE, Verdict.REMOVES, "the link will be removed again", link, link)
        case What.FOLDER_MADE:
            return _undo(change, Action.REMOVE_FOLDER, Verdict.REMOVES, "was created; will be removed", folder, folder)
        case What.RENAMED if change.other_path is not None:
            back = _undo(
                change, Action.MOVE, Verdict.NEW, "goes back to where it was", replace(now, name=change.path.name), None
            )
            return replace(back, source=change.other_path)
        case What.PERMISSIONS_SET if change.before_permissions is not None:
            then, seen = (
                replace(now, size=0, permissions=change.before_permissions),
                replace(now, size=0, permissions=change.after_permissions),
            )
            return _undo(
                change,
                Action.SET_PERMISSIONS,
                Verdict.SETS,
                f"gets back {octal(change.before_permissions)}",
                then,
                seen,
            )
        case What.FOLDER_REMOVED:
            return _undo(change, Action.MAKE_FOLDER, Verdict.NEW, "will be restored", folder, None)
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
        raise Conflict(f"{change.path} exists again. Rename or remove it first.")
    if change.what is What.PERMISSIONS_SET:
        if now.permissions != change.after_permissions:
            raise Conflict(
                f"The permissions of {change.path} were changed since. Taking back would lose that, so nothing was done."
            )
        return
    after = Entry(now.name, Kind.FILE, change.after_size or 0, change.after_stamp)
    if now.is_file and not still_as(now, after):
        raise Conflict(
            f"{change.path} was changed since. Taking this back would lose that change, so nothing was done."
        )


async def _barred(side: Side, changes: Sequence[Change], moves: Renamings) -> dict[SitePath, str]:
    """Paths that are not as the newest of the changes left them, each with why; looked for under their names of now."""
    newest: dict[SitePath, Change] = {}
    for change in changes:
        newest.setdefault(change.path, change)
    gate = asyncio.Semaphore(_LOOKS_AT_ONCE)

    async def _one(change: Change) -> tuple[SitePath, str]:
        async with gate:
            try:
                await _check_unchanged(side, _as_named_now(change, moves))
            except (Conflict, TransferError) as error:
                return change.path, error.what
        return change.path, ""

    # What a rename moved is looked at by the job itself, under the name it has then.
    looked = [change for change in newest.values() if change.what is not What.RENAMED]
    return {path: why for path, why in await asyncio.gather(*(_one(change) for change in looked)) if why}
