"""The jobs view, one job with its receipts, what can be done with it, and the stream that keeps pages current."""

from __future__ import annotations

import asyncio
import csv
import io
import json
import time
from collections.abc import AsyncGenerator
from dataclasses import dataclass, replace
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field
from sse_starlette import EventSourceResponse, ServerSentEvent
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.core.check.live import LiveVerdict
from nailer.core.files.entry import SideName
from nailer.core.files.names import landing_rank
from nailer.core.files.sitepath import SitePath, address_of, shown_name
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.limits import ALL_SITES, Limit, Limits, hours_text, parse_hours, parse_rate, rate_text
from nailer.core.jobs.progress import Count, Tally
from nailer.core.jobs.states import ACTIVE, ENDED, JOB_WORDS, ItemState, JobState
from nailer.core.numbers import number_in
from nailer.core.plans.plan import Action
from nailer.core.words import count_text, size_text, span_text
from nailer.errors import Conflict, NailerError, NoSpaceLeft, RenameRefused
from nailer.services.editing import Editing
from nailer.services.pairs import Pairs
from nailer.services.people import WhenDone
from nailer.services.plans import FailureGroup, InFlight, Job, LiveJob, Plans
from nailer.web.shell.doors import ChecksDoor, EditingDoor, Id, PairsDoor, PeopleDoor, PlansDoor, SignedIn, SitesDoor
from nailer.web.shell.forms import Number, QueryValues
from nailer.web.shell.guard import address_of as came_from
from nailer.web.shell.pages import render

router = APIRouter()

_EVERY_S = 0.3
_HEARTBEAT_S = 15.0
_SHOWN_IN_FLIGHT = 6
_ITEMS_A_PAGE = 300
_QUIET_S = 10.0
_EXPORTED = 100_000
_MOST_LOOKED_AT = 200
_MOST_CHECKED = 6
_COLUMNS = (
    "job", "site", "title", "to", "folder", "state", "planned files", "planned bytes", "done files", "done bytes",
    "failed files", "failed bytes", "left out files", "left out bytes", "made at", "started at", "ended at", "trouble",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Card:
    """A job as its card shows it. `unmade` is what did not make it: files and bytes that failed or wait. `parts` are half
    files that are still to be gone on with or to be cleared."""

    job: Job
    share: float
    line: str
    flights: list[dict[str, Any]]
    failures: list[FailureGroup]
    parts: int = 0

    @property
    def short_of_room(self) -> bool:
        """The job stopped because a disk or a quota is full."""
        return NoSpaceLeft.is_named(self.job.trouble_kind) or any(
            NoSpaceLeft.is_named(one.kind) for one in self.failures
        )

    @property
    def void(self) -> bool:
        """Everything that failed was changed meanwhile: trying again as it was planned cannot help."""
        return (
            bool(self.failures) and not self.job.trouble and all(Conflict.is_named(one.kind) for one in self.failures)
        )

    @property
    def renames_refused(self) -> bool:
        """The server renames nothing: overwriting in place is what is left."""
        return any(RenameRefused.is_named(one.kind) for one in self.failures)

    @property
    def unmade(self) -> Count:
        """Files and bytes that failed or still wait."""
        return self.job.tally.failed + self.job.tally.waiting


@router.get("/jobs")
async def jobs_page(
    request: Request, people: PeopleDoor, sites: SitesDoor, plans: PlansDoor, session: SignedIn
) -> Response:
    """Jobs that run, need somebody, or have ended."""
    query = QueryValues(request)
    show = query.text("show", "now")
    before = query.number("before", 2**62)
    wanted = query.text("q")
    found = await plans.jobs.overview(before=before, limit=50 if show == "ended" else 5, wanted=wanted)
    if show == "needs-you":
        jobs = found.needing_you
    elif show == "ended":
        jobs = found.ended
    else:
        show = "now"
        jobs = [*found.active, *found.needing_you[:5], *found.ended]
    return render(
        request,
        "plans/jobs.html",
        cards=[await card_of(plans, job) for job in jobs],
        show=show,
        now_count=sum(found.counts.get(state, 0) for state in ACTIVE),
        needs_count=found.counts.get(JobState.NEEDS_YOU, 0),
        ended_count=found.counts.get(JobState.DONE, 0) + found.counts.get(JobState.STOPPED, 0),
        last_id=jobs[-1].id if jobs and show == "ended" else None,
        open_count=sites.pool.open_lines,
        speeds=list(plans.jobs.speeds),
        wanted=wanted,
        sites=await sites.book.all(),
        limits=plans.speeds.of(ALL_SITES),
        limit_lines=hours_text(plans.speeds.of(ALL_SITES).hours),
        when_done=await people.accounts.when_done(session.account_id),
        can_write=plans.notices.can_write,
    )


@router.get("/jobs.csv")
async def export(request: Request, plans: PlansDoor) -> Response:
    """Ended jobs as a table (RFC 4180), with a search as on the page."""
    jobs = await plans.jobs.ended(limit=_EXPORTED, wanted=QueryValues(request).text("q"))
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(_COLUMNS)
    table.writerows(_export_row(job) for job in jobs)
    headers = {"Content-Disposition": 'attachment; filename="jobs.csv"'}
    return Response(out.getvalue(), media_type="text/csv; charset=utf-8", headers=headers)


def _export_row(job: Job) -> list[object]:
    tally = job.tally
    counts = (tally.planned, tally.done, tally.failed, tally.left)
    texts = (job.site_name, job.title, job.to_side.value, job.target_folder.shown, JOB_WORDS[job.state])
    return [
        job.id,
        *(_harmless(text) for text in texts),
        *(number for count in counts for number in (count.files, count.size)),
        *(moment.isoformat() + "Z" if moment else "" for moment in (job.created_at, job.started_at, job.ended_at)),
        _harmless(job.trouble or ""),
    ]


def _harmless(text: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


class _LimitsWish(BaseModel):
    model_config = ConfigDict(extra="forbid")
    site_id: Number = ALL_SITES
    up: str = Field("", max_length=40)
    down: str = Field("", max_length=40)
    hours: str = Field("", max_length=4000)


class _WhenDoneWish(BaseModel):
    model_config = ConfigDict(extra="forbid")
    mail: str = Field("", max_length=254)
    write: bool = False
    close: bool = False


@router.get("/jobs/limits")
async def limits_of(request: Request, plans: PlansDoor) -> Response:
    """What is set for all sites together (0) or for one, as the form shows it."""
    limits = plans.speeds.of(QueryValues(request).number("site", ALL_SITES))
    usual = limits.usual
    return JSONResponse({"up": rate_text(usual.up), "down": rate_text(usual.down), "hours": hours_text(limits.hours)})


@router.post("/jobs/limits")
async def set_limits(request: Request, wish: _LimitsWish, sites: SitesDoor, plans: PlansDoor) -> Response:
    """Limits of speed, of all sites together or of one; what runs holds to them at once."""
    limits = Limits(Limit(parse_rate(wish.up), parse_rate(wish.down)), parse_hours(wish.hours))
    await plans.speeds.set(wish.site_id, limits)
    now = plans.speeds.now(wish.site_id)
    return JSONResponse({"now": now, "up": rate_text(limits.usual.up), "down": rate_text(limits.usual.down)})


@router.post("/jobs/when-done")
async def set_when_done(request: Request, wish: _WhenDoneWish, people: PeopleDoor, session: SignedIn) -> Response:
    """What happens when all jobs have ended."""
    wishes = WhenDone(wish.mail.strip(), wish.write, wish.close)
    await people.accounts.set_when_done(session.account_id, wishes)
    return JSONResponse({"ok": True})


@router.get("/jobs/{job_id}/card")
async def jobcard_of(request: Request, job_id: Id, plans: PlansDoor) -> Response:
    """A job's card, anew."""
    return render(request, "plans/_job-card.html", card=await card_of(plans, await plans.jobs.get(job_id)))


@router.get("/jobs/{job_id}")
async def job_page(request: Request, job_id: Id, plans: PlansDoor, checks: ChecksDoor) -> Response:
    """One job with a receipt for each of its items."""
    query = QueryValues(request)
    job = await plans.jobs.get(job_id)
    state = query.text("state")
    items = await plans.jobs.items(job_id, after=query.number("after", 0) - 1, limit=_ITEMS_A_PAGE + 1, state=state)
    more = items[_ITEMS_A_PAGE].position if len(items) > _ITEMS_A_PAGE else None
    return render(
        request,
        "plans/job.html",
        watch=await checks.watching.of_job(job_id),
        card=await card_of(plans, job),
        job=job,
        items=items[:_ITEMS_A_PAGE],
        more=more,
        state=state,
        checks_live=job.to_side is SideName.THERE and job.state in ENDED,
        undoable=len(await plans.changes.of_job(job_id)) if job.state in ENDED and job.kind is not JobKind.BUILD else 0,
    )


@router.post("/jobs/{job_id}/stop")
async def stop(job_id: Id, plans: PlansDoor) -> Response:
    """Stop a job for good."""
    return JSONResponse({"state": (await plans.jobs.stop(job_id)).state})


@router.post("/jobs/{job_id}/pause")
async def pause(job_id: Id, plans: PlansDoor) -> Response:
    """Hold a job up."""
    return JSONResponse({"state": (await plans.jobs.pause(job_id)).state})


@router.post("/jobs/{job_id}/go-on")
async def go_on(job_id: Id, plans: PlansDoor) -> Response:
    """Let a paused job go on."""
    return JSONResponse({"state": (await plans.jobs.go_on(job_id)).state})


@router.post("/jobs/{job_id}/up")
async def move_up(job_id: Id, plans: PlansDoor) -> Response:
    """Let a waiting job be the next."""
    return JSONResponse({"state": (await plans.jobs.move_up(job_id)).state})


@router.post("/jobs/{job_id}/leave-out")
async def leave_out(job_id: Id, plans: PlansDoor) -> Response:
    """Leave out what failed or waits."""
    return JSONResponse({"state": (await plans.jobs.leave_out(job_id)).state})


@router.post("/jobs/{job_id}/in-place")
async def in_place(job_id: Id, plans: PlansDoor) -> Response:
    """Overwrite in place on this job's site from now on, and try what failed once more."""
    return JSONResponse({"state": (await plans.jobs.in_place(job_id)).state})


@router.post("/jobs/{job_id}/again")
async def again(job_id: Id, plans: PlansDoor) -> Response:
    """Try once more what failed."""
    return JSONResponse({"state": (await plans.jobs.again(job_id)).state})


@router.get("/jobs/{job_id}/live")
async def job_live(request: Request, job_id: Id, sites: SitesDoor, plans: PlansDoor, editing: EditingDoor) -> Response:
    """What visitors get of what a job has put there: of a few files, pages first."""
    job = await plans.jobs.get(job_id)
    site = await sites.book.get(job.site_id)
    landed = await plans.jobs.items(job_id, limit=_MOST_LOOKED_AT, state=ItemState.DONE)
    paths = [
        item.target
        for item in landed
        if item.action is Action.TRANSFER and address_of(item.target, site.document_roots)
    ]
    paths.sort(key=lambda path: -landing_rank(path.name))

    async def _one(path: SitePath) -> tuple[SitePath, LiveVerdict | None, str]:
        try:
            return path, (await editing.live_check.of_file(site, path))[0], ""
        except NailerError as error:
            return path, None, error.what

    found = await asyncio.gather(*(_one(path) for path in paths[:_MOST_CHECKED]))
    return render(request, "plans/_job-live.html", found=found, more=max(0, len(paths) - _MOST_CHECKED))


@router.get("/events")
async def events(
    request: Request,
    plans: PlansDoor,
    editing: EditingDoor,
    pairs: PairsDoor,
    people: PeopleDoor,
    session: SignedIn,
) -> Response:
    """Server-sent events: what runs, and what has ended since the page was asked for (`since`, or the id of the last event
    that a browser heard). One event after every change, a comment as heartbeat."""
    last = number_in(request.headers.get("last-event-id", ""))
    since = last if last is not None else QueryValues(request).number("since", plans.jobs.version)
    reader = people.accounts.reader(session, people.rights.person, came_from(request.scope))
    people.streams.check_room(reader)

    def _begin(heard: ServerSentEvent | None) -> AsyncGenerator[ServerSentEvent, None]:
        after = number_in(str(heard.id)) if heard is not None else None
        return _events(plans, editing, pairs, session.account_id, since if after is None else after)

    told = people.streams.while_allowed(reader, _begin)
    return EventSourceResponse(told, ping=round(_HEARTBEAT_S))


async def _events(
    plans: Plans, editing: Editing, pairs: Pairs, account_id: int, since: int
) -> AsyncGenerator[ServerSentEvent, None]:
    async for moved in plans.jobs.moves(since, at_most_every_s=_EVERY_S, heartbeat_s=_HEARTBEAT_S):
        if not moved.changed:
            continue  # the answer itself says that it is still here
        body = {
            "running": [_live_values(job) for job in moved.running.values()],
            "ended": [_ended_values(job, account_id) for job in moved.ended],
            "saved": [
                {
                    "id": own.id,
                    "name": shown_name(own.here.name),
                    "at": own.saved_at.isoformat(),
                    "trouble": own.trouble,
                }
                for own in editing.own.of_account(account_id)
                if own.saved_at is not None and (not own.sends or own.trouble)
            ],
            "unsent": pairs.not_sent.of_sites(),
            "speeds": plans.jobs.speeds[-1:],
            "limits": plans.speeds.now(ALL_SITES),
        }
        yield ServerSentEvent(json.dumps(body), id=str(moved.version))


def _live_values(live: LiveJob) -> dict[str, Any]:
    tally = live.tally
    line = progress_line(tally, live.time_left_s(time.monotonic()))
    return {
        "id": live.job_id,
        "title": live.title,
        "side": live.to_side,
        "share": round(tally.share, 4),
        "line": f"{line}; {live.waiting_for}" if live.waiting_for else line,
        "rate": f"{size_text(round(live.rate.bytes_per_s))}/s" if live.rate.bytes_per_s >= 1 else "",
        "flights": _flights(live),
    }


def _flights(live: LiveJob) -> list[dict[str, Any]]:
    now_s = time.monotonic()
    flights = sorted(live.in_flight.values(), key=lambda one: -one.size)[:_SHOWN_IN_FLIGHT]
    return [{"name": shown_name(one.target.name), "share": _flight_text(one, now_s)} for one in flights]


def _flight_text(flight: InFlight, now_s: float) -> str:
    """How far a file is, or for how long nothing of it has moved."""
    quiet_s = flight.quiet_s(now_s)
    if quiet_s >= _QUIET_S:
        return f"last byte {span_text(quiet_s)} ago"
    return f"{100 * min(flight.sent, flight.size) // flight.size}%" if flight.size else ""


def _ended_values(job: Job, account_id: int) -> dict[str, Any]:
    changed_something = job.tally.done.files > 0 and job.kind not in (JobKind.TAKE_BACK, JobKind.BUILD)
    return {
        "undoable": changed_something and job.account_id == account_id,
        "id": job.id,
        "title": job.title,
        "state": job.state,
        "site": job.site_id,
        "failed": job.tally.failed.files,
        "line": ended_line(job.tally),
        "trouble": job.trouble,
    }


def progress_line(tally: Tally, left_s: float | None) -> str:
    """`391 of 642 files, 2.4 of 3.9 MB, 6 s left`."""
    planned = tally.planned
    past = tally.done.files + tally.failed.files + tally.left.files
    finished = past >= planned.files
    parts = [count_text(planned.files, "file") if finished else f"{past} of {count_text(planned.files, 'file')}"]
    if planned.size:
        sent = tally.done.size + tally.under_way_bytes
        parts.append(size_text(sent) if finished else f"{size_text(sent)} of {size_text(planned.size)}")
    if tally.failed.files:
        parts.append(f"{tally.failed.files} failed")
    if tally.left.files:
        parts.append(f"{tally.left.files} left out")
    if left_s is not None and not finished:
        parts.append(f"{span_text(left_s)} left")
    return ", ".join(parts)


def ended_line(tally: Tally) -> str:
    """What became of a job, in the numbers of its plan: `2 files, 5.7 kB; 394 left as they are`."""
    parts = [count_text(tally.done.files, "file")]
    if tally.done.size:
        parts.append(size_text(tally.done.size))
    if tally.failed.files:
        parts.append(f"{tally.failed.files} failed")
    left = (
        f"; {tally.left.files} left as {'it is' if tally.left.files == 1 else 'they are'}" if tally.left.files else ""
    )
    return ", ".join(parts) + left


async def card_of(plans: Plans, job: Job) -> Card:
    """A job as its card shows it now."""
    live = plans.jobs.running(job.id)
    tally = live.tally if live else job.tally
    left_s = live.time_left_s(time.monotonic()) if live else None
    # Folders count as no file: where only they failed nothing else would say why.
    failed = job.tally.failed.files or job.trouble or job.state is JobState.NEEDS_YOU
    failures = await plans.jobs.failures(job.id) if failed else []
    flights = _flights(live) if live else []
    parts = 0
    held_up = live is None and job.state in (JobState.PAUSED, JobState.WAITING, JobState.NEEDS_YOU)
    if held_up or job.trouble or failures:
        halves = await plans.jobs.halves(job.id)
        tally = replace(tally, under_way_bytes=halves.transferred_bytes) if held_up else tally
        parts = halves.count if job.trouble or failures else 0
    return Card(job, tally.share, progress_line(tally, left_s), flights, failures, parts)
