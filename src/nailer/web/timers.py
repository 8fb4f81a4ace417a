"""Timers: plans of pairs at set times, with their next runs, what became of the last ones, and running one now."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime
from typing import Literal
from zoneinfo import available_timezones

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.core.joint import Compare
from nailer.core.schedule import DAYS, Every, Schedule, next_runs
from nailer.core.sync import Direction, Removals
from nailer.errors import InvalidInput
from nailer.store.pairs import RUN_WORDS
from nailer.store.timers import Clashes, Mail, Missed, NewTimer
from nailer.web.forms import Query, TimerWish
from nailer.web.pages import nailer_of, render, session_of
from nailer.web.synced import flow_words

router = APIRouter()

_DIRECTION_WORDS = {
    Direction.PUBLISH: "Publish: there becomes like here",
    Direction.FETCH: "Fetch: here becomes like there",
    Direction.LEVEL: "Level: the newest wins, both ways",
}
_REMOVAL_WORDS = {Removals.FOLLOW: "Removals follow", Removals.KEEP: "Nothing is removed"}
_COMPARE_WORDS = {
    Compare.SIZE_AND_TIME: "by size and time",
    Compare.SIZE: "by size",
    Compare.CONTENT: "by content",
}
_MAIL_WORDS = {Mail.NEVER: "Never", Mail.TROUBLE: "Only on trouble", Mail.ALWAYS: "After every run"}
_MISSED_WORDS = {Missed.ONCE: "Run once for all that were missed", Missed.SKIP: "Skip what was missed"}
_CLASH_WORDS = {
    Clashes.STOP: "Touch nothing and report",
    Clashes.LEAVE: "Leave those names, do the rest, and report",
}


@router.get("/timers")
async def timers_page(request: Request) -> Response:
    nailer = nailer_of(request)
    query = Query(request)
    timers = await nailer.timer_store.all()
    now = datetime.now(UTC)
    runs = {
        one.id: [await nailer.sync.finish(run) for run in await nailer.pairs.runs_of_timer(one.id, 6)] for one in timers
    }
    coming = {one.id: await asyncio.to_thread(next_runs, one.schedule, now) for one in timers if one.on}
    edited = next((one for one in timers if one.id == query.number("edit", 0)), None)
    wishes = await nailer.account_store.when_done(session_of(request).account_id)
    return render(
        request,
        "timers.html",
        timers=timers,
        runs=runs,
        coming=coming,
        edited=edited,
        pairs=await nailer.pairs.all(),
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
        zone=edited.schedule.zone if edited else nailer.settings.zone.key,
        zones=await asyncio.to_thread(lambda: sorted(available_timezones())),
        can_write=nailer.notify.can_write and bool(wishes.mail),
        flow_words=flow_words,
        RUN_WORDS=RUN_WORDS,
        making=edited is not None or bool(query.text("pair")) or not timers,
    )


@router.post("/timers/preview")
async def preview(request: Request, wish: TimerWish) -> Response:
    """The next five runs of a timer that is being made."""
    schedule = await asyncio.to_thread(lambda: wish.schedule)
    runs = await asyncio.to_thread(next_runs, schedule, datetime.now(UTC))
    return render(request, "_partials/timer-runs.html", runs=runs, schedule=schedule)


@router.post("/timers")
async def add(request: Request, wish: TimerWish) -> Response:
    timer_id = await nailer_of(request).timer_store.add(await _timer(request, wish))
    return JSONResponse({"id": timer_id})


@router.post("/timers/{timer_id}")
async def write(request: Request, timer_id: int, wish: TimerWish) -> Response:
    nailer = nailer_of(request)
    timer = await nailer.timer_store.get(timer_id)
    await nailer.timer_store.write(timer_id, await _timer(request, wish))
    await nailer.timer_store.switch(await nailer.timer_store.get(timer_id), on=timer.on)
    return JSONResponse({"id": timer_id})


@router.post("/timers/{timer_id}/{act}")
async def act_on(request: Request, timer_id: int, act: Literal["on", "off", "run", "remove"]) -> Response:
    nailer = nailer_of(request)
    timer = await nailer.timer_store.get(timer_id)
    if act == "run":
        await nailer.timers.run_now(timer_id)
    elif act == "remove":
        await nailer.timer_store.remove(timer_id)
    else:
        await nailer.timer_store.switch(timer, on=act == "on")
    return JSONResponse({"ok": True})


@router.get("/timers/{timer_id}/state")
async def state(request: Request, timer_id: int) -> Response:
    """Whether a timer is being run now, and its last run."""
    nailer = nailer_of(request)
    timer = await nailer.timer_store.get(timer_id)
    runs = await nailer.pairs.runs_of_timer(timer_id, 1)
    return JSONResponse({"busy": timer.busy, "run": runs[0].id if runs else 0})


async def _timer(request: Request, wish: TimerWish) -> NewTimer:
    name = " ".join(wish.name.split())
    if not name:
        raise InvalidInput("Give the timer a name.")
    if wish.removals is Removals.ASK:
        raise InvalidInput("Nobody is there to be asked: say whether removals follow.")
    pair = await nailer_of(request).pairs.get(wish.pair)
    schedule = await asyncio.to_thread(lambda: wish.schedule)
    await asyncio.to_thread(next_runs, schedule, datetime.now(UTC), 1)
    return NewTimer(
        account_id=session_of(request).account_id,
        pair_id=pair.id,
        name=name,
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
