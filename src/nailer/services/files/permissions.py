"""Access of many names: a tree is read once, changes are tried on what was read, and a job sets what differs."""

from __future__ import annotations

import secrets
import time
from collections import OrderedDict
from collections.abc import Sequence
from contextlib import aclosing
from dataclasses import dataclass, replace

from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.names import names_text
from nailer.core.files.permissions import PermissionsWish, Transition, difference, octal, risk_of, transitions
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Action, Verdict
from nailer.engine.runner import Runner
from nailer.errors import InvalidInput, NotFound, TransferError
from nailer.services.files.browse import Browse
from nailer.services.files.guarded import GuardedFolders
from nailer.sides.side import Side, walk
from nailer.store.jobs import JobStore, NewItem, NewJob
from nailer.store.sites import Site

_KEPT = 24
_KEPT_S = 1800.0
_MOST_NAMES = 300_000


@dataclass(frozen=True, slots=True)
class PermissionsReading:
    """A tree as it was read: every file and folder in it, links never followed. `foreign` are names of another owner: the
    server would refuse those. `took_s` is how long reading took."""

    token: str
    account_id: int
    site_id: int
    side: SideName
    folder: SitePath
    names: tuple[bytes, ...]
    entries: tuple[tuple[SitePath, Entry], ...]
    foreign: tuple[tuple[SitePath, str], ...]
    silent: int
    problems: tuple[str, ...]
    took_s: float
    at_s: float

    def chosen(self, *, only_risky: bool) -> list[tuple[SitePath, Entry]]:
        """The entries of the reading, or only those that are open to everybody."""
        return [(path, one) for path, one in self.entries if not only_risky or risk_of(one)]


class PermissionsPlans:
    def __init__(self, browse: Browse, jobs: JobStore, runner: Runner, guards: GuardedFolders) -> None:
        self._browse = browse
        self._jobs = jobs
        self._runner = runner
        self._guards = guards
        self._readings: OrderedDict[str, PermissionsReading] = OrderedDict()

    async def read(
        self, account_id: int, site: Site, side: SideName, folder: SitePath, names: Sequence[bytes]
    ) -> PermissionsReading:
        """Read picked names of a folder with all in them; without names the folder itself and all in it."""
        begun_s = time.monotonic()
        problems: list[str] = []
        async with self._browse.side(site, side) as reached:
            tops = [folder.child(name) for name in names] or [folder]
            found = [one for top in tops for one in await _tree(reached, top, problems)]
            owner = await _owner(reached, site.start_here if side is SideName.HERE else site.start_there)
        known = [
            (path, one) for path, one in found if one.permissions is not None and one.kind in (Kind.FILE, Kind.FOLDER)
        ]
        foreign = [(path, one.owner or "") for path, one in known if owner and one.owned_by and one.owned_by != owner]
        barred = {path for path, _ in foreign}
        reading = PermissionsReading(
            secrets.token_hex(8),
            account_id,
            site.id,
            side,
            folder,
            tuple(names),
            tuple((path, one) for path, one in known if path not in barred),
            tuple(foreign),
            sum(one.permissions is None and one.kind in (Kind.FILE, Kind.FOLDER) for _, one in found),
            tuple(problems),
            time.monotonic() - begun_s,
            time.monotonic(),
        )
        self._readings[reading.token] = reading
        while len(self._readings) > _KEPT:
            self._readings.popitem(last=False)
        return reading

    def reading(self, token: str, account_id: int) -> PermissionsReading:
        """Raises NotFound where it was let go."""
        found = self._readings.get(token)
        if found is None or found.account_id != account_id or time.monotonic() - found.at_s > _KEPT_S:
            raise NotFound("This preview is out of date. Reload the page.")
        return found

    def preview(
        self, reading: PermissionsReading, wish: PermissionsWish, *, only_risky: bool = False
    ) -> list[Transition]:
        """What a wish would do, counted by transition. Raises InvalidInput where it cannot be read."""
        wish.check()
        shown = [(_below(reading, path), one) for path, one in reading.chosen(only_risky=only_risky)]
        return transitions(shown, wish)

    async def carry_out(
        self, site: Site, reading: PermissionsReading, wish: PermissionsWish, *, only_risky: bool = False
    ) -> int:
        """Set what differs, as a job; return it. What lies in a locked guarded folder is left out and said.

        Raises InvalidInput where nothing would change.
        """
        wish.check()
        items = []
        for path, one in reading.chosen(only_risky=only_risky):
            then = wish.of(one)
            if then is not None and then != one.permissions:
                items.append(self._item(reading, site, path, one, then))
        if not any(item.verdict is Verdict.SETS for item in items):
            raise InvalidInput("Nothing would change.")
        names = names_text(list(reading.names)) if reading.names else reading.folder.shown
        job = NewJob(
            reading.account_id,
            site.id,
            JobKind.PERMISSIONS,
            f"Permissions of {names}"[:200],
            reading.side,
            reading.folder,
            reading.folder,
        )
        job_id = await self._jobs.add(job, sorted(items, key=_order), JobState.WAITING)
        self._readings.pop(reading.token, None)
        self._runner.wake()
        return job_id

    async def set_one(self, account_id: int, site: Site, side: SideName, path: SitePath, permissions: int) -> int:
        """Set the permissions of one name, as a job."""
        async with self._browse.side(site, side) as reached:
            entry = await reached.stat(path)
        if entry.permissions is None:
            raise InvalidInput("The server does not report the permissions of this file, so Nailer cannot set it.")
        if entry.permissions == permissions:
            raise InvalidInput("The permissions are already set to this.")
        then = replace(entry, size=0, permissions=permissions)
        reason = difference(entry.permissions, permissions, folder=entry.is_folder) or octal(permissions)
        item = NewItem(Action.SET_PERMISSIONS, Verdict.SETS, reason, path, path, then, replace(entry, size=0))
        title = f"Permissions of {names_text([path.name])}: {octal(permissions)}"
        job = NewJob(account_id, site.id, JobKind.PERMISSIONS, title, side, path.parent, path.parent)
        job_id = await self._jobs.add(job, [item], JobState.WAITING)
        self._runner.wake()
        return job_id

    def _item(self, reading: PermissionsReading, site: Site, path: SitePath, entry: Entry, then: int) -> NewItem:
        locked = reading.side is SideName.THERE and self._guards.is_locked(reading.account_id, site, path)
        verdict = Verdict.LEFT if locked else Verdict.SETS
        reason = "is in a guarded folder" if locked else f"{octal(entry.permissions or 0)} becomes {octal(then)}"
        seen = replace(entry, size=0)
        return NewItem(Action.SET_PERMISSIONS, verdict, reason, path, path, replace(seen, permissions=then), seen)


def _order(item: NewItem) -> tuple[int, int]:
    """Folders that are opened first, parents before children; then files; then what is closed, children before parents."""
    depth = len(item.target.names)
    if not item.entry.is_folder:
        return (1, 0)
    opens = (
        bool((item.entry.permissions or 0) & 0o100)
        and not ((item.replaces.permissions if item.replaces else 0) or 0) & 0o100
    )
    return (0, depth) if opens else (2, -depth)


def _below(reading: PermissionsReading, path: SitePath) -> bytes:
    below = path.below(reading.folder)
    return b"/".join(below) if below else path.name or b"/"


async def _owner(side: Side, folder: SitePath) -> str | None:
    """The owner of the start folder, whose files are ours. None where the server does not say it, or where it is root."""
    try:
        entry = await side.stat(folder)
    except TransferError:
        return None
    return None if entry.owner_id == 0 or entry.owner in ("root", "0") else entry.owned_by


async def _tree(side: Side, top: SitePath, problems: list[str]) -> list[tuple[SitePath, Entry]]:
    entry = await side.stat(top) if not top.is_root else Entry(b"", Kind.FOLDER)
    found = [(top, entry)]
    if not entry.is_folder:
        return found
    async with aclosing(walk(side, top, careful=True)) as readings:
        async for reading in readings:
            where = top.join(reading.below)
            if reading.doubt:
                problems.append(f"{where}: {reading.doubt}")
            found += [(where.child(one.name), one) for one in reading.entries]
            if len(found) > _MOST_NAMES:
                raise InvalidInput(f"There are more than {_MOST_NAMES} files and folders. Select fewer.")
    return found
