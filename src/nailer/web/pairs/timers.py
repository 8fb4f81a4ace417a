"""Timers: plans of pairs at set times, with their next runs, what became of the last ones, and running one now."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Literal
from zoneinfo import available_timezones

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.core.compare.joint import Compare
from nailer.core.jobs.schedule import DAYS, Every, Schedule, next_runs
from nailer.core.jobs.timers import Clashes, Mail, Missed
from nailer.core.pairs.runs import RUN_WORDS, RunState
from nailer.core.pairs.wishes import Direction, Removals
from nailer.core.words import count_text, size_text
from nailer.services.pairs import NewTimer, Pairs, Timer
from nailer.web.pairs.shown import flow_words
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    Id,
    PairsDoor,
    PeopleDoor,
    PlansDoor,
    SignedIn,
    TheSettings,
    session_of,
)
from nailer.web.shell.forms import QueryValues, TimerWish
from nailer.web.shell.pages import render

router = APIRouter()

_RUNS_SHOWN = 6

_DIRECTION_WORDS = {
    Direction.PUBLISH: "Publish: make there the same as here",
    Direction.FETCH: "Fetch: make here the same as there",
    Direction.LEVEL: "Level: keep the newest version on both sides",
}
_REMOVAL_WORDS = {Removals.FOLLOW: "Remove on the other side, too", Removals.KEEP: "Nothing is removed"}
_COMPARE_WORDS = {
    Compare.SIZE_AND_TIME: "by size and time",
    Compare.SIZE: "by size",
    Compare.CONTENT: "by content",
}
_MAIL_WORDS = {Mail.NEVER: "Never", Mail.TROUBLE: "Only if something goes wrong", Mail.ALWAYS: "After every run"}
_MISSED_WORDS = {Missed.ONCE: "Run once for all missed runs", Missed.SKIP: "Skip what was missed"}
_CLASH_WORDS = {
    Clashes.STOP: "Change nothing and report",
    Clashes.LEAVE: "Skip those files, do the rest and report",
}


@dataclass(frozen=True, slots=True)
class ShownRun:
    """One run of a timer: where it is shown whole ('' for nowhere), and what it did in a few words."""

    state: RunState
    started_at: datetime
    href: str
    words: str
    told: tuple[str, ...]


async def _shown_runs(pairs: Pairs, timer: Timer) -> list[ShownRun]:
    if timer.carries is None:
        runs = [await pairs.runs.finish(run) for run in await pairs.book.runs_of_timer(timer.id, _RUNS_SHOWN)]
        return [
            ShownRun(one.state, one.started_at, urls.run(timer.site_id, one.id), flow_words(one.flow), one.told)
            for one in runs
        ]
    jobs = await pairs.timers.jobs(timer.id, _RUNS_SHOWN)
    return [
        ShownRun(
            one.state,
            one.started_at,
            urls.job(one.job_id) if one.job_id is not None else "",
            f"{count_text(one.files, 'file')}, {size_text(one.bytes)}" if one.files else "nothing to do",
            one.told,
        )
        for one in jobs
    ]


@router.get("/timers")
async def timers_page(
    request: Request, settings: TheSettings, people: PeopleDoor, plans: PlansDoor, pairs: PairsDoor, session: SignedIn
) -> Response:
    """All timers with their next runs and their last, and the form of one."""
    query = QueryValues(request)
    timers = await pairs.timers.all()
    now = datetime.now(UTC)
    runs = {one.id: await _shown_runs(pairs, one) for one in timers}
    coming = {one.id: await asyncio.to_thread(next_runs, one.schedule, now) for one in timers if one.on}
    edited = next((one for one in timers if one.id == query.number("edit", 0)), None)
    job_id = query.number("job", 0)
    account_id = session.account_id
    carries = edited.carries if edited else (await pairs.timer_jobs.what_of(job_id, account_id) if job_id else None)
    wishes = await people.accounts.when_done(account_id)
    return render(
        request,
        "pairs/timers.html",
        timers=timers,
        runs=runs,
        coming=coming,
        edited=edited,
        carries=carries,
        job_id=job_id,
        pairs=await pairs.book.all(),
        pair_id=edited.pair_id if edited else query.number("pair", 0),
        direction=edited.wish.direction if edited else query.text("direction", Direction.PUBLISH.value),
        removals=edited.wish.removals if edited else query.text("removals", Removals.KEEP.value),
        words={
            "direction": _DIRECTION_WORDS,
            "removals": _REMOVAL_WORDS,
            "compare": _COMPARE_WORDS,
            "mail": _MAIL_WORDS,
            "missed": _MISSED_WORDS,
            "clashes": _CLASH_WORDS,
        },
        days=DAYS,
        spec=_spec(edited.schedule if edited else None),
        zone=edited.schedule.zone if edited else settings.zone.key,
        zones=await asyncio.to_thread(lambda: sorted(available_timezones())),
        can_write=plans.notices.can_write and bool(wishes.mail),
        RUN_WORDS=RUN_WORDS,
    )


@router.post("/timers/preview")
async def preview(request: Request, wish: TimerWish) -> Response:
    """The next five runs of a timer that is being made."""
    schedule = await asyncio.to_thread(lambda: wish.schedule)
    runs = await asyncio.to_thread(next_runs, schedule, datetime.now(UTC))
    return render(request, "pairs/_timer-runs.html", runs=runs, schedule=schedule)


@router.post("/timers")
async def add(request: Request, wish: TimerWish, pairs: PairsDoor) -> Response:
    """Make a timer, of a pair or of what a job did."""
    made = await _timer(request, wish)
    if wish.job:
        timer_id = await pairs.timers.add_for_job(made, wish.job)
    else:
        timer_id = await pairs.timers.add_for_pair(made, wish.pair)
    return JSONResponse({"id": timer_id})


@router.post("/timers/{timer_id}")
async def write(request: Request, timer_id: Id, wish: TimerWish, pairs: PairsDoor) -> Response:
    """Change a timer."""
    await pairs.timers.change(timer_id, await _timer(request, wish), of_pair=bool(wish.pair))
    return JSONResponse({"id": timer_id})


@router.post("/timers/{timer_id}/{act}")
async def act_on(
    request: Request, timer_id: Id, act: Literal["on", "off", "run", "remove"], pairs: PairsDoor
) -> Response:
    """Switch a timer on or off, run it now, or remove it."""
    if act == "run":
        await pairs.timers.run_now(timer_id)
    elif act == "remove":
        await pairs.timers.remove(timer_id)
    else:
        await pairs.timers.switch(timer_id, on=act == "on")
    return JSONResponse({"ok": True})


@router.get("/timers/{timer_id}/state")
async def state(request: Request, timer_id: Id, pairs: PairsDoor) -> Response:
    """Whether a timer is being run now."""
    timer = await pairs.timers.get(timer_id)
    return JSONResponse({"busy": timer.busy})


async def _timer(request: Request, wish: TimerWish) -> NewTimer:
    schedule = await asyncio.to_thread(lambda: wish.schedule)
    await asyncio.to_thread(next_runs, schedule, datetime.now(UTC), 1)
    return NewTimer(
        account_id=session_of(request).account_id,
        pair_id=None,
        name=" ".join(wish.name.split()),
        wish=wish.wish,
        compare=wish.compare,
        schedule=schedule,
        mail=wish.mail,
        missed=wish.missed,
        clashes=wish.clashes,
    )


def _spec(schedule: Schedule | None) -> dict[str, str]:
    """The parts of a schedule as the form's fields hold them."""
    found = {
        "every": Every.DAILY.value,
        "minutes": "30",
        "clock": "06:30",
        "days": "0,1,2,3,4",
        "cron": "*/20 8-17 * * 1-5",
    }
    if schedule is None:
        return found
    found["every"] = schedule.every.value
    match schedule.every:
        case Every.MINUTES:
            found["minutes"] = schedule.spec
        case Every.DAILY:
            found["clock"] = schedule.spec
        case Every.WEEKLY:
            found["days"], found["clock"] = schedule.spec.split(" ")
        case Every.CRON:
            found["cron"] = schedule.spec
    return found
