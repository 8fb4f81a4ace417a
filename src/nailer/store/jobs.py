"""Jobs and their items: planned, claimed under a lease, counted, ended."""

from __future__ import annotations

import contextlib
import json
from collections.abc import AsyncIterator, Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from nailer.acting import need, person, sees
from nailer.core.files.entry import Entry, Kind, SideName, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.estimate import Carried
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.progress import Count, Tally
from nailer.core.jobs.states import ItemState, JobState, check_job
from nailer.core.people.rights import Right, right_for
from nailer.core.plans.destination import Better
from nailer.core.plans.plan import IDLE, Action, Answers, Narrowing, PlanStep, Verdict
from nailer.errors import Conflict, NotFound
from nailer.store.database import Database, Row, Work, like, utc_now

_INSERT_AT_ONCE = 2000
_READ_AT_ONCE = 2000
# A page asks for its files the moment the plan is confirmed; a minute is a very slow line.
_PAGE_BEGINS_WITHIN_S = 60.0


@dataclass(frozen=True, slots=True)
class NewJob:
    """A plan on its way into the store."""

    account_id: int
    site_id: int
    kind: JobKind
    title: str
    to_side: SideName
    source_folder: SitePath
    target_folder: SitePath
    takes_back: int | None = None
    room_bytes: int | None = None
    one_by_one: bool = False
    advice: tuple[Better, ...] = ()
    source_site_id: int | None = None
    pair_id: int | None = None
    towards: SideName | None = None
    run_id: int | None = None
    after_job: int | None = None


@dataclass(frozen=True, slots=True)
class NewItem:
    """One step with absolute paths. `kept_hash` is what a restore brings back, `undoes` the change it takes back."""

    action: Action
    verdict: Verdict
    reason: str
    source: SitePath
    target: SitePath
    entry: Entry
    replaces: Entry | None = None
    kept_hash: bytes | None = None
    undoes: int | None = None


@dataclass(frozen=True, slots=True)
class Job:
    """A job as it is stored. A job of a sync has its pair: `pair_site_id` is the site there, `pair_other_id` the one that
    stands for *here* in a pair of two sites, and `towards` the end that the job changes."""

    id: int
    account_id: int
    account_name: str
    site_id: int
    site_name: str
    colour: str
    kind: JobKind
    title: str
    to_side: SideName
    source_folder: SitePath
    target_folder: SitePath
    state: JobState
    stop_wanted: bool
    tally: Tally
    trouble: str | None
    takes_back: int | None
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    file_permissions: int | None = None
    folder_permissions: int | None = None
    in_place: bool = False
    reads_back: bool = False
    claims: int = 0
    trouble_kind: str | None = None
    source_site_id: int | None = None
    room_bytes: int | None = None
    one_by_one: bool = False
    advice: tuple[Better, ...] = ()
    run_id: int | None = None
    pair_site_id: int | None = None
    pair_other_id: int | None = None
    towards: SideName | None = None

    @property
    def changes_end(self) -> SideName:
        """The end of the pair that this job changes."""
        return self.towards or self.to_side


@dataclass(frozen=True, slots=True)
class Item:
    """One step of a job. `seen` is what the plan saw at the target; None: nothing."""

    id: int
    job_id: int
    position: int
    action: Action
    verdict: Verdict
    reason: str
    source: SitePath
    target: SitePath
    entry: Entry
    seen: Entry | None
    kept_hash: bytes | None
    undoes: int | None
    state: ItemState
    attempts: int
    error_kind: str | None
    error_text: str | None
    server_words: str | None
    content_hash: bytes | None
    ended_at: datetime | None

    @property
    def counts_as_file(self) -> bool:
        return self.action in (Action.TRANSFER, Action.REMOVE, Action.RESTORE, Action.MOVE, Action.SET_PERMISSIONS)

    @property
    def count(self) -> Count:
        """What this item adds to the tally of its job."""
        if not self.counts_as_file:
            return Count()
        return Count(1, 0 if self.action in (Action.REMOVE, Action.MOVE, Action.SET_PERMISSIONS) else self.entry.size)


@dataclass(frozen=True, slots=True)
class FailureGroup:
    """Failed items of one cause, with one of them as an example."""

    kind: str
    what: str
    server_words: str | None
    items: int
    size: int
    example: SitePath


@dataclass(frozen=True, slots=True)
class Overview:
    """All jobs as they stood at one moment, newest first; of the ended ones only so many as were asked for."""

    counts: dict[JobState, int]
    active: list[Job]
    needing_you: list[Job]
    ended: list[Job]


def _seen_by() -> dict[str, Any]:
    """Whose jobs are listed: all of them, or those of whoever acts and of the sites that are theirs as a whole."""
    who = person()
    if who is None or who.is_admin:
        return {"everybody": True, "account": 0, "sites": [0], "whole": [0]}
    whole = [site_id for site_id, grant in who.grants.items() if grant.is_whole]
    return {"everybody": False, "account": who.account_id, "sites": [0, *who.grants], "whole": [0, *whole]}


class JobStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(self, job: NewJob, items: Sequence[NewItem], state: JobState = JobState.PLANNED) -> int:
        """Store a plan with its items; return its id. Nothing happens until it waits."""
        return await self._db.write(self.adding(job, items, state))

    def adding(
        self, job: NewJob, items: Sequence[NewItem], state: JobState = JobState.PLANNED
    ) -> Callable[[Work], int]:
        """As `add`, for a transaction that stores more than that. Raises NotAllowed and NotFound where whoever acts has no
        right to what the job does."""
        need(right_for(job.kind, job.to_side), job.site_id)
        if job.source_site_id is not None:
            need(Right.DOWNLOAD, job.source_site_id)

        def _change(work: Work) -> int:
            job_id = work.insert(
                "jobs.add",
                account_id=job.account_id,
                site_id=job.site_id,
                kind=job.kind,
                title=job.title[:255],
                to_side=job.to_side,
                source_folder=job.source_folder.raw,
                target_folder=job.target_folder.raw,
                state=state,
                planned_files=0,
                planned_bytes=0,
                left_files=0,
                left_bytes=0,
                takes_back=job.takes_back,
                room_bytes=job.room_bytes,
                one_by_one=job.one_by_one,
                advice=json.dumps([[one.place.token, one.reason] for one in job.advice]) if job.advice else None,
                source_site_id=job.source_site_id,
                pair_id=job.pair_id,
                towards=job.towards,
                run_id=job.run_id,
                after_job=job.after_job,
                now=utc_now(),
            )
            for start in range(0, len(items), _INSERT_AT_ONCE):
                part = items[start : start + _INSERT_AT_ONCE]
                work.many("items.add", [_item_row(job_id, start + number, item) for number, item in enumerate(part)])
            work.run("jobs.recount", id=job_id)
            return job_id

        return _change

    async def get(self, job_id: int) -> Job:
        """Raises NotFound, also where whoever acts has nothing to do with it."""
        row = await self._db.read(lambda work: work.one("jobs.by_id", id=job_id))
        if row is None or not sees(row["site_id"], row["account_id"]):
            raise NotFound("This job does not exist.")
        return _job(row)

    async def overview(self, *, before: int = 2**62, limit: int = 5, wanted: str = "") -> Overview:
        """All jobs at one moment: read one after another, one that ends meanwhile would be in none of the lists."""
        who = _seen_by()

        def _read(work: Work) -> Overview:
            return Overview(
                {JobState(row["state"]): row["jobs"] for row in work.rows("jobs.counts", **who)},
                [_job(row) for row in work.rows("jobs.active", **who)],
                [_job(row) for row in work.rows("jobs.needing_you", **who)],
                [_job(row) for row in work.rows("jobs.ended", before=before, wanted=like(wanted), limit=limit, **who)],
            )

        return await self._db.read(_read)

    async def ended(self, before: int = 2**62, limit: int = 50, *, wanted: str = "") -> list[Job]:
        """Done and stopped jobs, newest first; those that have a text in title, site or folder."""
        values = _seen_by() | {"before": before, "wanted": like(wanted), "limit": limit}
        rows = await self._db.read(lambda work: work.rows("jobs.ended", **values))
        return [_job(row) for row in rows]

    async def counts(self) -> dict[JobState, int]:
        """How many jobs there are in each state."""
        who = _seen_by()
        rows = await self._db.read(lambda work: work.rows("jobs.counts", **who))
        return {JobState(row["state"]): row["jobs"] for row in rows}

    async def items(self, job_id: int, *, after: int = -1, limit: int = 500, state: str = "") -> list[Item]:
        """Items of a job in order, behind a position; all of them, or those in one state."""
        rows = await self._db.read(
            lambda work: work.rows("items.shown", job_id=job_id, state=state, after=after, limit=limit)
        )
        return [item_of(row) for row in rows]

    async def all_items(self, job_id: int) -> AsyncIterator[list[Item]]:
        """Every item of a job in order, a window at a time: the memory that takes does not grow with the job."""
        after = -1
        while window := await self.items(job_id, after=after, limit=_READ_AT_ONCE):
            yield window
            after = window[-1].position

    async def item(self, job_id: int, item_id: int) -> Item:
        """One item. Raises NotFound."""
        row = await self._db.read(lambda work: work.one("items.by_id", job_id=job_id, id=item_id))
        if row is None:
            raise NotFound("This item is not in the job.")
        return item_of(row)

    async def failures(self, job_id: int) -> list[FailureGroup]:
        """What failed in a job, like failures together."""
        rows = await self._db.read(lambda work: work.rows("items.failures", job_id=job_id))
        return [
            FailureGroup(
                row["error_kind"] or "NailerError",
                row["error_text"] or "",
                row["server_words"],
                int(row["items"]),
                int(row["size"]),
                SitePath.parse(row["example"]),
            )
            for row in rows
        ]

    async def confirm(self, job_id: int, answers: Answers, taken: dict[tuple[bytes, ...], frozenset[bytes]]) -> None:
        """Let a plan that was read wait for a runner, narrowed by what was decided of files that are there already."""

        def _change(work: Work) -> None:
            row = work.one("jobs.lock", id=job_id)
            if row is None:
                raise NotFound("This plan no longer exists. Create it again.")
            if JobState(row["state"]) is not JobState.PLANNED:
                raise Conflict("This plan has already been carried out.")
            if answers != Answers():
                _narrow(work, row, answers, taken)
            work.run("jobs.set_state", id=job_id, state=JobState.WAITING, ended_at=None)
            work.run("jobs.promise", id=job_id, until=utc_now() + timedelta(seconds=_PAGE_BEGINS_WITHIN_S))
            work.run("jobs.recount", id=job_id)

        await self._db.write(_change)

    async def carried(self, site_id: int, to_side: SideName, limit: int = 30) -> list[Carried]:
        """What the latest jobs of a site carried one way, and how long that took; for telling how long others will."""
        rows = await self._db.read(
            lambda work: work.rows("jobs.carried", site_id=site_id, to_side=to_side, limit=limit)
        )
        return [Carried(row["done_files"], row["done_bytes"], row["took_us"] / 1e6) for row in rows]

    async def set_room(self, job_id: int, room_bytes: int, *, one_by_one: bool) -> None:
        """The room for a plan that is being read, where it became known later."""
        await self._db.write(
            lambda work: work.run("jobs.set_room", id=job_id, room_bytes=room_bytes, one_by_one=one_by_one)
        )

    async def discard(self, job_id: int) -> None:
        """Forget a plan that was read and not wanted."""
        await self._db.write(lambda work: work.run("jobs.remove", id=job_id))

    async def forget_old_plans(self, *, hours: int = 24) -> None:
        """Forget plans that nobody carried out within so many hours."""
        before = utc_now() - timedelta(hours=hours)
        await self._db.write(lambda work: work.run("jobs.forget_plans", before=before))

    async def want_stop(self, job_id: int) -> Job:
        """Ask for a job to be stopped. One that nobody ever started, or that needs you, stops at once."""

        def _change(work: Work) -> None:
            row = _locked(work, job_id)
            state = JobState(row["state"])
            check_job(state, JobState.STOPPED)
            work.run("jobs.stop_followers", id=job_id, ended_at=utc_now())
            if state is not JobState.RUNNING and row["started_at"] is None:
                work.run("jobs.set_state", id=job_id, state=JobState.STOPPED, ended_at=utc_now())
            elif state in (JobState.RUNNING, JobState.WAITING):
                work.run("jobs.want_stop", id=job_id)
            elif state is JobState.PAUSED:
                # A runner takes it up once more, to clear away what is half-sent.
                work.run("jobs.set_state", id=job_id, state=JobState.WAITING, ended_at=None)
                work.run("jobs.want_stop", id=job_id)
            else:
                work.run("jobs.set_state", id=job_id, state=JobState.STOPPED, ended_at=utc_now())

        await self._db.write(_change)
        return await self.get(job_id)

    async def pause(self, job_id: int) -> Job:
        """Hold a job up: one that runs stops where it is and goes on from there, one that waits is passed over."""

        def _change(work: Work) -> None:
            row = _locked(work, job_id)
            if JobKind(row["kind"]) is JobKind.DROP:
                raise Conflict("These files are being uploaded from a browser. Stop the job and drop them again.")
            state = JobState(row["state"])
            check_job(state, JobState.PAUSED)
            if state is JobState.RUNNING:
                work.run("jobs.want_pause", id=job_id)
            else:
                work.run("jobs.set_state", id=job_id, state=JobState.PAUSED, ended_at=None)

        await self._db.write(_change)
        return await self.get(job_id)

    async def go_on(self, job_id: int) -> Job:
        """Let a paused job wait for a runner again."""

        def _change(work: Work) -> None:
            row = _locked(work, job_id)
            if JobState(row["state"]) is not JobState.PAUSED:
                raise Conflict("This job is not paused.")
            work.run("jobs.set_state", id=job_id, state=JobState.WAITING, ended_at=None)

        await self._db.write(_change)
        return await self.get(job_id)

    async def move_up(self, job_id: int) -> Job:
        """Let a waiting job be the next that is taken."""
        await self._db.write(lambda work: work.run("jobs.move_up", id=job_id))
        return await self.get(job_id)

    async def leave_out_of_plan(self, job_id: int, tops: Sequence[SitePath]) -> None:
        """Leave these targets, and what lies below them, out of a plan that is being read."""

        def _change(work: Work) -> None:
            if JobState(_locked(work, job_id)["state"]) is not JobState.PLANNED:
                raise Conflict("This plan has already been carried out.")
            for top in tops:
                below = top.raw.replace(b"\\", b"\\\\").replace(b"%", b"\\%").replace(b"_", b"\\_") + b"/%"
                work.run("items.leave_out_below", job_id=job_id, target=top.raw, below=below)
            work.run("jobs.recount", id=job_id)

        await self._db.write(_change)

    async def leave_out(self, job_id: int) -> Job:
        """Leave the failed and waiting items of a job that needs you out; the job is done then."""

        def _change(work: Work) -> None:
            if JobState(_locked(work, job_id)["state"]) is not JobState.NEEDS_YOU:
                raise Conflict("You can skip files only in a job that needs you.")
            work.run("items.leave_out", job_id=job_id, now=utc_now())
            work.run("jobs.recount", id=job_id)
            work.run("jobs.set_state", id=job_id, state=JobState.DONE, ended_at=utc_now())
            work.run("jobs.set_trouble", id=job_id, trouble=None)

        await self._db.write(_change)
        return await self.get(job_id)

    async def again(self, job_id: int) -> Job:
        """Let the failed items of an ended job wait once more, and the job with them."""

        await self._db.write(lambda work: _again(work, job_id))
        return await self.get(job_id)

    @staticmethod
    def trying_again(job_id: int) -> Callable[[Work], None]:
        """As `again`, for a transaction that writes more; a job that needs nothing stays as it is."""

        def _change(work: Work) -> None:
            with contextlib.suppress(Conflict):
                _again(work, job_id)

        return _change

    async def taking_back(self, job_id: int) -> list[int]:
        """Jobs under way that take another one back."""
        rows = await self._db.read(lambda work: work.rows("jobs.taking_back", job_id=job_id))
        return [row["id"] for row in rows]

    async def of_run(self, run_id: int) -> dict[int, JobState]:
        """The jobs of a run of a pair, and how each stands."""
        rows = await self._db.read(lambda work: work.rows("jobs.of_run", run_id=run_id))
        return {row["id"]: JobState(row["state"]) for row in rows}


def _again(work: Work, job_id: int) -> None:
    row = _locked(work, job_id)
    if JobKind(row["kind"]) is JobKind.DROP:
        raise Conflict("These files came from a browser, so Nailer cannot send them again. Drop them again.")
    check_job(JobState(row["state"]), JobState.WAITING)
    work.run("items.again", job_id=job_id)
    work.run("jobs.set_state", id=job_id, state=JobState.WAITING, ended_at=None)
    work.run("jobs.set_trouble", id=job_id, trouble=None)
    work.run("jobs.recount", id=job_id)


def _locked(work: Work, job_id: int) -> Row:
    row = work.one("jobs.lock", id=job_id)
    if row is None:
        raise NotFound("This job does not exist.")
    return row


def _narrow(work: Work, job: Row, answers: Answers, taken: dict[tuple[bytes, ...], frozenset[bytes]]) -> None:
    """Rewrite the items of a plan by what was decided of them, a window at a time."""
    folder, narrowing = SitePath.parse(job["target_folder"]), Narrowing(taken)
    if answers.keeps_both:
        for window in _windows(work, job["id"]):
            narrowing.seen(_step_of(item, folder) for item in window)
    for window in _windows(work, job["id"]):
        steps = [(item, _step_of(item, folder)) for item in window]
        decided = [(item, step, narrowing.decided(step, answers.of(step, item.id))) for item, step in steps]
        work.many(
            "items.set_plan",
            [
                {
                    "id": item.id,
                    "verdict": after.verdict,
                    "reason": after.reason,
                    "target": folder.join(after.target).raw,
                    "state": ItemState.WAITING if after.acts else ItemState.LEFT,
                }
                for item, before, after in decided
                if before is not after
            ],
        )


def _windows(work: Work, job_id: int) -> Iterator[list[Item]]:
    after = -1
    while rows := work.rows("items.of_job", job_id=job_id, after=after, limit=_READ_AT_ONCE):
        yield [item_of(row) for row in rows]
        after = rows[-1]["position"]


def _step_of(item: Item, folder: SitePath) -> PlanStep:
    target = item.target.below(folder) or (item.target.name,)
    return PlanStep(item.action, (), target, item.entry, item.verdict, item.reason, item.seen)


def _item_row(job_id: int, position: int, item: NewItem) -> dict[str, Any]:
    entry, seen = item.entry, item.replaces
    acts = item.verdict not in IDLE
    return {
        "job_id": job_id,
        "position": position,
        "action": item.action,
        "verdict": item.verdict,
        "reason": item.reason[:255],
        "source": item.source.raw,
        "target": item.target.raw,
        "kind": entry.kind,
        "size": entry.size,
        "time_ns": entry.stamp.at_ns if entry.stamp else None,
        "precision_ns": entry.stamp.precision_ns if entry.stamp else None,
        "permissions": entry.permissions,
        "link_target": entry.target,
        "seen_kind": seen.kind if seen else None,
        "seen_size": seen.size if seen else None,
        "seen_time_ns": seen.stamp.at_ns if seen and seen.stamp else None,
        "seen_precision_ns": seen.stamp.precision_ns if seen and seen.stamp else None,
        "seen_permissions": seen.permissions if seen else None,
        "kept_hash": item.kept_hash,
        "undoes": item.undoes,
        "state": ItemState.WAITING if acts else ItemState.LEFT,
    }


def _stamp(at_ns: int | None, precision_ns: int | None) -> Stamp | None:
    return None if at_ns is None else Stamp(at_ns, precision_ns or 1)


def item_of(row: Row) -> Item:
    """An item out of its row."""
    source, target = SitePath.parse(row["source"]), SitePath.parse(row["target"])
    entry = Entry(
        name=target.name,
        kind=Kind(row["kind"]),
        size=row["size"],
        stamp=_stamp(row["time_ns"], row["precision_ns"]),
        permissions=row["permissions"],
        target=row["link_target"],
    )
    seen = None
    if row["seen_kind"] is not None:
        stamp = _stamp(row["seen_time_ns"], row["seen_precision_ns"])
        kind, size = Kind(row["seen_kind"]), row["seen_size"] or 0
        seen = Entry(name=target.name, kind=kind, size=size, stamp=stamp, permissions=row["seen_permissions"])
    return Item(
        id=row["id"],
        job_id=row["job_id"],
        position=row["position"],
        action=Action(row["action"]),
        verdict=Verdict(row["verdict"]),
        reason=row["reason"],
        source=source,
        target=target,
        entry=entry,
        seen=seen,
        kept_hash=row["kept_hash"],
        undoes=row["undoes"],
        state=ItemState(row["state"]),
        attempts=row["attempts"],
        error_kind=row["error_kind"],
        error_text=row["error_text"],
        server_words=row["server_words"],
        content_hash=row["content_hash"],
        ended_at=row["ended_at"],
    )


def _job(row: Row) -> Job:
    tally = Tally(
        planned=Count(row["planned_files"], row["planned_bytes"]),
        done=Count(row["done_files"], row["done_bytes"]),
        failed=Count(row["failed_files"], row["failed_bytes"]),
        left=Count(row["left_files"], row["left_bytes"]),
    )
    return Job(
        id=row["id"],
        account_id=row["account_id"],
        account_name=row["account_name"],
        site_id=row["site_id"],
        site_name=row["site_name"],
        colour=row["colour"],
        kind=JobKind(row["kind"]),
        title=row["title"],
        to_side=SideName(row["to_side"]),
        source_folder=SitePath.parse(row["source_folder"]),
        target_folder=SitePath.parse(row["target_folder"]),
        state=JobState(row["state"]),
        stop_wanted=bool(row["stop_wanted"]),
        tally=tally,
        trouble=row["trouble"],
        takes_back=row["takes_back"],
        created_at=row["created_at"],
        started_at=row["started_at"],
        ended_at=row["ended_at"],
        file_permissions=row["file_permissions"],
        folder_permissions=row["folder_permissions"],
        in_place=bool(row["in_place"]),
        reads_back=bool(row["reads_back"]),
        claims=row["claims"],
        trouble_kind=row["trouble_kind"],
        source_site_id=row["source_site_id"],
        room_bytes=row["room_bytes"],
        one_by_one=bool(row["one_by_one"]),
        advice=tuple(Better(SitePath.of_token(token), why) for token, why in json.loads(row["advice"] or "[]")),
        run_id=row["run_id"],
        pair_site_id=row["pair_site_id"],
        pair_other_id=row["pair_other_id"],
        towards=SideName(row["towards"]) if row["towards"] else None,
    )
