"""Long work: begun in one transaction with what it is about, done by one owner under a lease, ended in one transaction.

A wing supplies the steps of its kinds of work; all else is here. Who holds a lease does the work; when a process is gone,
its lease runs out and another takes the work up: it goes on from what is written down, or ends as interrupted. How work ends
is written only by its owner, together with the row that said it was under way, so nothing is left that seems to go on.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field, replace
from typing import TypeVar

import structlog

from nailer.acting import Acting, acting_as
from nailer.core.work.kinds import RULES, CutBy, CutShort, WorkKind, WorkRules
from nailer.engine.owners import LEASE_S, LOOK_EVERY_S, MARGIN_S, RENEW_EVERY_S, has_died, new_owner
from nailer.errors import LeaseLost, NailerError, NotAllowed, OwnDiskFull, StoreUnavailable
from nailer.store.database import Work, written_down
from nailer.store.people.grants import GrantStore
from nailer.store.running.works import Change, StoredWork, WorkStore

_log = structlog.get_logger()
_P = TypeVar("_P")

_TRIES_WITHOUT_DATABASE, _PAUSE_S = 60, 1.0
_ASK_AGAIN_S = 0.2
_LAST_S = 10.0  # how long a stop waits for ends that are being written
_INTERRUPTED = "Nailer was stopped before it finished."
_STOPPED = "It was stopped."
_OUR_ERROR = "It failed because of an error in Nailer. Details are in Nailer's log."


@dataclass(slots=True, eq=False)
class RunningWork:
    """Work that this process does. `progress` is what its pages show of it, in the words of its wing."""

    row: StoredWork
    rules: WorkRules
    progress: object
    held_until_s: float
    task: asyncio.Task[None] | None = None
    stop_asked: bool = False
    is_lost: bool = False
    ending: asyncio.Task[None] | None = None
    ended: asyncio.Event = field(default_factory=asyncio.Event)

    @property
    def is_resumed(self) -> bool:
        """True where another process, or an earlier start of this one, had begun it."""
        return self.row.claims > 1

    def shows(self, made: type[_P]) -> _P:
        """What its pages show of it; made now where whoever began it is gone."""
        if not isinstance(self.progress, made):
            self.progress = made()
        assert isinstance(self.progress, made)
        return self.progress

    def hold(self) -> None:
        """Before a change that must not be made twice: return where the lease holds. Raises LeaseLost."""
        if self.is_lost or time.monotonic() > self.held_until_s - MARGIN_S:
            raise LeaseLost("Another process may have taken this work over.")


@dataclass(frozen=True, slots=True)
class Supplied:
    """What a wing gives for a kind of work. `steps` do it and return what writes its end down; `broken` returns what writes
    down that it did not come to its end."""

    steps: Callable[[RunningWork], Awaitable[Change]]
    broken: Callable[[StoredWork, CutShort], Change]


def nothing_more(_: Work) -> None:
    """The end of work that leaves nothing to write but that it has ended."""


class WorkRunner:
    """Does long work, of this process and of those that are gone. `supply` first, then `start`."""

    def __init__(self, store: WorkStore, grants: GrantStore) -> None:
        self._store = store
        self._grants = grants
        self.owner = new_owner()
        self._supplied: dict[WorkKind, Supplied] = {}
        self._mine: dict[int, RunningWork] = {}
        self._begun: set[int] = set()
        self._loop: asyncio.Task[None] | None = None
        self._held_until_s = 0.0
        self._stopping = False

    def supply(self, kind: WorkKind, supplied: Supplied) -> None:
        """Say how work of a kind is done."""
        self._supplied[kind] = supplied

    async def start(self) -> None:
        """Take up what processes of this machine left, and look for more from now on."""
        self._stopping = False
        await self._look(release=True)
        self._loop = asyncio.create_task(self._look_often())

    async def stop(self) -> None:
        """End this process's work: what resumes is left for the next start, all else is written down as interrupted."""
        self._stopping = True
        if self._loop is not None:
            self._loop.cancel()
            await asyncio.gather(self._loop, return_exceptions=True)
        await asyncio.gather(*(self._end_task(one) for one in list(self._mine.values())))

    async def begin(
        self,
        kind: WorkKind,
        site_id: int,
        account_id: int | None,
        adding: Callable[[Work], int],
        progress: object = None,
    ) -> int:
        """Begin work: `adding` stores what it is about and returns its number, in the transaction that stores that the work
        is under way. Return the number. Raises UnderWay where a site has its one work of this kind already."""
        rules = RULES[kind]
        row = await self._store.add(
            kind,
            site_id,
            account_id,
            adding,
            owner=self.owner,
            lease_s=LEASE_S,
            alone=rules.alone,
            busy=rules.busy,
        )
        self._held_until_s = max(self._held_until_s, time.monotonic() + LEASE_S - RENEW_EVERY_S)
        self._go(row, progress)
        return row.subject_id

    async def end(self, kind: WorkKind, subject_id: int) -> None:
        """Stop work for good, as its person wants, also before its first step; return once its end is written down."""
        one = self._about(kind, subject_id)
        if one is not None:
            one.stop_asked = True
            await self._end_task(one)
            return
        row = await self._store.get(kind, subject_id)
        if row is not None:
            await self._store.want_stop(row.id)
            await self.ended(kind, subject_id)

    async def end_on(self, kind: WorkKind, site_id: int) -> None:
        """As `end`, for the one work of a kind on a site; nothing where there is none."""
        for row in await self._store.all_on(kind, site_id):
            await self.end(kind, row.subject_id)

    async def ended(self, kind: WorkKind, subject_id: int) -> None:
        """Until work has ended, in whichever process."""
        while (one := self._about(kind, subject_id)) is not None:
            await one.ended.wait()
        await _until(lambda: self._is_gone(kind, subject_id))

    async def ended_on(self, kind: WorkKind, site_id: int) -> None:
        """Until no work of a kind is under way on a site."""
        while (one := self._on(kind, site_id)) is not None:
            await one.ended.wait()
        await _until(lambda: self._are_gone(kind, site_id))

    async def _is_gone(self, kind: WorkKind, subject_id: int) -> bool:
        return await self._store.get(kind, subject_id) is None

    async def _are_gone(self, kind: WorkKind, site_id: int) -> bool:
        return not await self._store.all_on(kind, site_id)

    def progress(self, kind: WorkKind, subject_id: int, as_: type[_P]) -> _P | None:
        """How far work of this process is; None where it does none about that."""
        one = self._about(kind, subject_id)
        return one.progress if one is not None and isinstance(one.progress, as_) else None

    def progress_on(self, kind: WorkKind, site_id: int, as_: type[_P]) -> _P | None:
        """As `progress`, for the work of a kind on a site."""
        one = self._on(kind, site_id)
        return one.progress if one is not None and isinstance(one.progress, as_) else None

    def is_on(self, kind: WorkKind, site_id: int) -> bool:
        """True where this process does work of a kind on a site."""
        return self._on(kind, site_id) is not None

    def _about(self, kind: WorkKind, subject_id: int) -> RunningWork | None:
        some = (one for one in self._mine.values() if (one.row.kind, one.row.subject_id) == (kind, subject_id))
        return next(some, None)

    def _on(self, kind: WorkKind, site_id: int) -> RunningWork | None:
        return next((one for one in self._mine.values() if (one.row.kind, one.row.site_id) == (kind, site_id)), None)

    async def _look_often(self) -> None:
        while True:
            await asyncio.sleep(LOOK_EVERY_S)
            try:
                await self._look()
            except StoreUnavailable:
                _log.warning("the database does not answer; looking for long work again soon")
            except Exception:
                # Whatever it was, leases must go on being renewed.
                _log.exception("looking for long work failed; looking again soon")

    async def _look(self, *, release: bool = False) -> None:
        """Renew what is ours, let go of what is not ours any more, take up what nobody holds."""
        if release:
            for work_id, owner in await self._store.leases():
                if has_died(owner):
                    await self._store.release(work_id, owner)
        known = set(self._mine)
        asked_s = time.monotonic()
        held = {row.id: row for row in await self._store.renew(self.owner, lease_s=LEASE_S)}
        self._held_until_s = asked_s + LEASE_S
        for work_id in known & set(self._mine):
            one = self._mine[work_id]
            if one.ending is not None:
                continue  # its row goes with its end
            if work_id not in held:
                _log.warning("the lease of long work ran out under it", kind=one.row.kind, subject=one.row.subject_id)
                one.is_lost = True
                await self._end_task(one)
            else:
                one.held_until_s = self._held_until_s
                if held[work_id].stop_wanted and not one.stop_asked:
                    one.stop_asked = True
                    if one.task is not None:
                        one.task.cancel()
        for work_id, row in held.items():
            # Whoever began it was cancelled between the transaction and the first step, or its end could not be written.
            if work_id not in known and work_id not in self._mine and row.kind in self._supplied:
                self._go(row)
        for row in await self._store.claim(self.owner, list(self._supplied), lease_s=LEASE_S):
            self._go(row)

    def _go(self, row: StoredWork, progress: object = None) -> None:
        if row.id in self._mine or self._stopping:
            return
        if row.id in self._begun:
            row = replace(row, claims=row.claims + 1)
        self._begun.add(row.id)
        one = RunningWork(row, RULES[row.kind], progress, self._held_until_s)
        self._mine[row.id] = one
        one.task = asyncio.create_task(self._run(one))

    async def _end_task(self, one: RunningWork) -> None:
        """Cancel the task of work, and let its end be written down. A task that is cancelled before its first step runs none
        of its code; an end that is being written is not written twice."""
        if one.ending is None and one.task is not None:
            one.task.cancel()
            await asyncio.gather(one.task, return_exceptions=True)
        if one.ending is None:
            one.ending = asyncio.create_task(self._ended(one, self._cut(one)))
        await asyncio.wait({one.ending}, timeout=_LAST_S if self._stopping else None)

    async def _run(self, one: RunningWork) -> None:
        end: Change | None
        try:
            end = await self._end_of(one)
        except asyncio.CancelledError:
            end = self._cut(one)
        one.ending = asyncio.create_task(self._ended(one, end))
        await asyncio.shield(one.ending)

    def _cut(self, one: RunningWork) -> Change | None:
        """What writes the end of cancelled work down; None where there is none."""
        if one.is_lost:
            return None
        broken = self._supplied[one.row.kind].broken
        if one.stop_asked:
            return broken(one.row, CutShort(CutBy.PERSON, _STOPPED))
        return None if one.rules.resumes else broken(one.row, CutShort(CutBy.RESTART, _INTERRUPTED))

    async def _ended(self, one: RunningWork, end: Change | None) -> None:
        """Write the end of work down, or release it for another to go on with."""
        try:
            if end is not None:
                await self._write_some_end(one, end)
                self._begun.discard(one.row.id)
            elif not one.is_lost:
                with contextlib.suppress(StoreUnavailable):
                    await self._store.release(one.row.id, self.owner)
                    self._begun.discard(one.row.id)
        except LeaseLost:
            _log.warning("long work was taken over before its end was written down", kind=one.row.kind)
        except NailerError as error:
            _log.warning("how long work ended could not be written down", kind=one.row.kind, why=error.what)
        finally:
            self._mine.pop(one.row.id, None)
            one.ended.set()

    async def _write_some_end(self, one: RunningWork, end: Change) -> None:
        """An end that is refused where it is written (a look in the same transaction found otherwise) is a failure. Where
        that is refused, too, what the work was about is gone: nothing is left to say but that it has ended."""
        try:
            await self._write(one, end)
        except (LeaseLost, StoreUnavailable):
            raise
        except NailerError as refused:
            broken = self._supplied[one.row.kind].broken(one.row, CutShort(CutBy.FAILURE, refused.what, refused))
            try:
                await self._write(one, broken)
            except (LeaseLost, StoreUnavailable):
                raise
            except NailerError as gone:
                _log.warning("what long work was about is gone", kind=one.row.kind, why=gone.what)
                await self._write(one, nothing_more)

    async def _write(self, one: RunningWork, end: Change) -> None:
        async def _end() -> None:
            await self._store.end(one.row, self.owner, end)

        if not await written_down(_end, patiently=not self._stopping):
            raise StoreUnavailable("The database does not answer.")

    async def _end_of(self, one: RunningWork) -> Change:
        supplied, row = self._supplied[one.row.kind], one.row
        if one.is_resumed and not one.rules.resumes:
            return supplied.broken(row, CutShort(CutBy.RESTART, _INTERRUPTED))
        try:
            return await self._patiently(one, supplied)
        except LeaseLost:
            one.is_lost = True
            raise asyncio.CancelledError from None
        except NailerError as error:
            return supplied.broken(row, CutShort(CutBy.FAILURE, error.what, error))
        except Exception:
            _log.exception("long work failed in a way nobody foresaw", kind=row.kind, subject=row.subject_id)
            return supplied.broken(row, CutShort(CutBy.FAILURE, _OUR_ERROR))

    async def _who(self, one: RunningWork) -> Acting | None:
        """Whoever the work is done for. Raises NotAllowed where their account is gone."""
        if one.rules.by_nailer:
            return None
        if one.row.account_id is None:
            raise NotAllowed("The person who began this no longer has an account.")
        return Acting(await self._grants.person(one.row.account_id), program=one.rules.program)

    async def _patiently(self, one: RunningWork, supplied: Supplied) -> Change:
        """Where the database goes away under work that resumes, it goes on from what is written down once it is back."""
        for left in reversed(range(_TRIES_WITHOUT_DATABASE)):
            try:
                with acting_as(await self._who(one)):
                    return await supplied.steps(one)
            except OwnDiskFull:
                raise
            except StoreUnavailable:
                if not left or not one.rules.resumes:
                    raise
                await asyncio.sleep(_PAUSE_S)
        raise AssertionError("the last try returns or raises")


async def _until(is_so: Callable[[], Awaitable[bool]]) -> None:
    """Another process does it, or the database is away: it is asked again until it is so."""
    while True:
        with contextlib.suppress(StoreUnavailable):
            if await is_so():
                return
        await asyncio.sleep(_ASK_AGAIN_S)
