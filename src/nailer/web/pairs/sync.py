"""The sync view: a pair is read, its plan is read and changed by a person, carried out, and its result shown."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.bounded import bounded
from nailer.core.compare.contents import compared
from nailer.core.compare.joint import Compare, Joint
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.numbers import number_in
from nailer.core.pairs.runs import RUN_WORDS, RunState
from nailer.core.pairs.wishes import Direction, Doing, Removals
from nailer.errors import Conflict, NotFound
from nailer.services.pairs import SyncPlan
from nailer.web.editing.editor import pieces_of
from nailer.web.pairs.shown import (
    Filter,
    arrows,
    doing_words,
    flow_words,
    folder_of,
    group_counts,
    numbers_shown,
    shown_rows,
)
from nailer.web.plans.jobs import card_of
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    FilesDoor,
    Id,
    PairsDoor,
    PlansDoor,
    SignedIn,
    SitesDoor,
    TheSite,
    pairs_of,
    session_of,
)
from nailer.web.shell.forms import (
    ChooseWish,
    MergedWish,
    PairWays,
    QueryValues,
    ReadWish,
    SyncOutWish,
    SyncWishForm,
    read_form,
)
from nailer.web.shell.pages import render, zone_of

router = APIRouter()

_ROWS_AT_ONCE = 200
_MOST_ROWS = 5000
_PICTURE_BYTES = 1_000_000
_TYPES = {"png": "png", "jpg": "jpeg", "jpeg": "jpeg", "gif": "gif", "webp": "webp", "svg": "svg+xml", "avif": "avif"}
_BULK = (Doing.UPLOAD, Doing.DOWNLOAD, Doing.BOTH, Doing.REMOVE_THERE, Doing.REMOVE_HERE, Doing.LEAVE)
_DIRECTIONS = (
    (Direction.PUBLISH, "Publish", "Make there the same as here"),
    (Direction.FETCH, "Fetch", "Make here the same as there"),
    (Direction.LEVEL, "Level", "Keep the newest version on both sides"),
)
_REMOVALS = (
    (Removals.FOLLOW, "Remove on the other side, too"),
    (Removals.KEEP, "Never remove files"),
    (Removals.ASK, "Ask about removals"),
)
_COMPARES = (
    (Compare.SIZE_AND_TIME, "Compare by size and time"),
    (Compare.SIZE, "Compare by size"),
    (Compare.CONTENT, "Compare by content"),
)


@router.get("/sites/{site_id}/sync")
async def sync_page(
    request: Request,
    site_id: Id,
    site: TheSite,
    sites: SitesDoor,
    files: FilesDoor,
    pairs: PairsDoor,
    session: SignedIn,
) -> Response:
    """The sync view of a pair."""
    known = bool(await sites.connector.pinned(site))
    if not sites.pool.is_open(site_id):
        changed = (site.host, site.port) in sites.connector.changed
        return render(request, "shell/connecting.html", site=site, known=known, changed=changed, section="sync")
    query = QueryValues(request)
    first = await pairs.book.first_pair(site)
    its_pairs = await pairs.book.of_site(site_id)
    wanted = query.number("pair", first.id)
    pair = next((one for one in its_pairs if one.id == wanted), None)
    if pair is None:
        raise NotFound("This pair no longer exists.")
    account_id = session.account_id
    plan = pairs.plans.latest(account_id, pair)
    if plan is not None and plan.ready and not plan.chosen:
        plan = None  # nothing was decided on it yet: both sides are read anew
    runs = [await pairs.runs.finish(one) for one in await pairs.book.runs(pair.id, 8)]
    picked = await pairs.book.sieves(pair.id)
    return render(
        request,
        "pairs/sync.html",
        site=site,
        known=known,
        section="sync",
        pair=pair,
        pairs=its_pairs,
        plan=plan,
        runs=runs,
        flow_words=flow_words,
        RUN_WORDS=RUN_WORDS,
        wish=plan.wish if plan else pair.wish,
        compare=plan.compare if plan else pair.compare,
        directions=_DIRECTIONS,
        removals=_REMOVALS,
        compares=_COMPARES,
        sieves=await files.sieves.all(),
        picked=picked,
        sites=[one for one in await sites.book.all() if one.id != site_id],
        unsent=pairs.not_sent.of_pair(pair.id),
        sending_trouble=pairs.not_sent.trouble(pair.id),
    )


@router.post("/sites/{site_id}/pairs")
async def add_pair(request: Request, site_id: Id, site: TheSite, sites: SitesDoor, pairs: PairsDoor) -> Response:
    """Another pair of the site: a folder here or of another site, and one there."""
    form = await read_form(request)
    here, there = (SitePath.parse(form.get(name, "").strip().encode()) for name in ("here", "there"))
    other = number_in(form.get("other", "")) or None
    pair = await pairs.book.add(site, here, there, name=" ".join(form.get("name", "").split()), other_site_id=other)
    return RedirectResponse(urls.sync(site_id, pair.id), 303)


@router.post("/pairs/{pair_id}/remove")
async def remove_pair(request: Request, pair_id: Id, sites: SitesDoor, pairs: PairsDoor) -> Response:
    """Forget a pair with its runs and timers; no file is touched."""
    site = await pairs.book.remove(pair_id)
    return RedirectResponse(urls.sync(site.id), 303)


@router.post("/pairs/{pair_id}/ways")
async def set_ways(
    request: Request, pair_id: Id, wish: PairWays, files: FilesDoor, pairs: PairsDoor, session: SignedIn
) -> Response:
    """Which sieves a pair has picked, and whether saves here go up by themselves."""
    sends = await pairs.book.set_ways(
        pair_id, session.account_id, sieves=wish.sieves, sends=wish.sends, send_after_s=wish.send_after_s
    )
    return JSONResponse({"sends": sends})


@router.post("/pairs/{pair_id}/read")
async def read(request: Request, pair_id: Id, wish: ReadWish, pairs: PairsDoor, session: SignedIn) -> Response:
    """Begin to read both sides."""
    pair = await pairs.book.get(pair_id)
    plan = pairs.readings.begin(session.account_id, pair, wish.wish, wish.compare)
    return JSONResponse({"token": plan.token})


@router.get("/sync/{token}/progress")
async def progress(request: Request, token: str) -> Response:
    """How far a reading is. JSON."""
    plan = _plan(request, token)
    here, there = plan.progress[SideName.HERE], plan.progress[SideName.THERE]
    problem = plan.problem
    return JSONResponse(
        {
            "ready": plan.ready,
            "here": [here.folders, here.names],
            "there": [there.folders, there.names],
            "comparing": list(plan.comparing),
            "problem": problem.what if problem else "",
            "words": (problem.server_words or "") if problem else "",
            "advice": " ".join(problem.advice) if problem else "",
        }
    )


@router.get("/sync/{token}")
async def plan_shown(request: Request, token: str) -> Response:
    """A plan that is ready, as a fragment, or a window of its rows."""
    return await _shown(request, _plan(request, token))


@router.post("/sync/{token}/wish")
async def set_wish(request: Request, token: str, wish: SyncWishForm, pairs: PairsDoor) -> Response:
    """Try another wish on the same reading."""
    plan = _ready(request, token)
    await pairs.decisions.set_wish(plan, wish.wish)
    return await _shown(request, plan)


@router.post("/sync/{token}/choose")
async def choose(request: Request, token: str, wish: ChooseWish, pairs: PairsDoor) -> Response:
    """Decide one row, or all that the filter shows."""
    plan = _ready(request, token)
    numbers = numbers_shown(plan, Filter(wish.group, wish.text)) if wish.everything else wish.numbers
    if wish.doing == "newer":
        newer = {Joint.NEWER_HERE: Doing.UPLOAD, Joint.NEWER_THERE: Doing.DOWNLOAD}
        count = 0
        for joint, doing in newer.items():
            some = [number for number in numbers if plan.rows[number].standing.joint is joint]
            count += await pairs.decisions.choose(plan, some, doing)
    else:
        count = await pairs.decisions.choose(plan, numbers, Doing(wish.doing) if wish.doing else None)
    return JSONResponse({"count": count})


@router.post("/sync/{token}/anew")
async def begin_anew(request: Request, token: str, pairs: PairsDoor) -> Response:
    """Forget every choice: all rows are as proposed."""
    plan = _ready(request, token)
    await pairs.decisions.begin_anew(plan)
    return await _shown(request, plan)


@router.get("/sync/{token}/rows/{number}/difference")
async def difference(request: Request, token: str, number: Id, pairs: PairsDoor) -> Response:
    """What the two ends of a row hold: texts line by line, pictures side by side."""
    plan = _ready(request, token)
    here, there = await pairs.rows.contents(plan, number)
    name = plan.rows[number].below[-1].decode("utf-8", "replace")
    kind = _TYPES.get(name.rpartition(".")[2].lower())
    pictures = None
    if kind is not None:
        pictures = [
            (word, _as_data(data, kind)) for word, data in ((plan.pair.here_word, here), ("there", there)) if data
        ]
    return render(
        request,
        "pairs/_sync-difference.html",
        number=number,
        pictures=pictures,
        compared=await bounded(compared, there, here),
        pair=plan.pair,
        can_merge=plan.rows[number].here is not None and plan.rows[number].there is not None and pictures is None,
    )


@router.get("/sync/{token}/rows/{number}/merge")
async def merge(request: Request, token: str, number: Id, pairs: PairsDoor) -> Response:
    """Both texts of a row as one, with what is to be decided."""
    plan = _ready(request, token)
    merged, theirs = await pairs.rows.merging(plan, number)
    return render(
        request,
        "shell/_merge.html",
        name=plan.rows[number].below[-1],
        merged=merged,
        pieces=pieces_of(merged),
        theirs=theirs,
        by="",
        words={"mine": plan.pair.here_word.capitalize(), "theirs": "There"},
        settle="Take this into the plan",
        later="Nothing is written until the plan is carried out.",
        take="",
    )


@router.post("/sync/{token}/rows/{number}/merged")
async def merged(request: Request, token: str, number: Id, wish: MergedWish, pairs: PairsDoor) -> Response:
    """Take a merged text into the plan."""
    plan = _ready(request, token)
    await pairs.rows.merge(plan, number, wish.text)
    return JSONResponse({"ok": True})


@router.post("/sync/{token}/carry-out")
async def carry_out(request: Request, token: str, wish: SyncOutWish, pairs: PairsDoor) -> Response:
    """Carry the plan out. JSON: where its run is shown."""
    plan = _ready(request, token)
    run_id = await pairs.runs.carry_out(
        plan, typed=wish.typed, guarded_confirmed=wish.guarded_confirmed, number=wish.number
    )
    return JSONResponse({"address": urls.run(plan.pair.site_id, run_id)})


@router.post("/sync/{token}/let-go")
async def let_go(request: Request, token: str, pairs: PairsDoor) -> Response:
    """Stop reading, or forget a plan."""
    pairs.plans.let_go(_plan(request, token))
    return JSONResponse({"ok": True})


@router.get("/sites/{site_id}/sync/runs/{run_id}")
async def run_page(
    request: Request, site_id: Id, run_id: Id, site: TheSite, plans: PlansDoor, pairs: PairsDoor
) -> Response:
    """What became of a run: of each side that changed, and what was left."""
    run = await pairs.runs.finish(await pairs.book.run(run_id))
    pair = await pairs.book.get(run.pair_id)
    if pair.site_id != site_id:
        raise NotFound("This run belongs to another site.")
    cards = [await card_of(plans, await plans.jobs.get(job)) for job in run.jobs]
    undoable = (
        sum([len(await plans.changes.of_job(job)) for job in run.jobs]) if run.state is not RunState.RUNNING else 0
    )
    return render(
        request,
        "pairs/sync-run.html",
        site=site,
        known=True,
        section="sync",
        run=run,
        pair=pair,
        cards=cards,
        undoable=undoable,
        arrows=arrows(run.flow, pair),
        flow_words=flow_words,
        state_word=RUN_WORDS[run.state],
    )


@router.post("/runs/{run_id}/plans/take-back")
async def plan_take_back(
    request: Request, run_id: Id, sites: SitesDoor, plans: PlansDoor, pairs: PairsDoor, session: SignedIn
) -> Response:
    """Plans that take back both halves of a run, the later one first."""
    run = await pairs.book.run(run_id)
    its_plans = []
    for job in reversed(run.jobs):
        try:
            job_id = await plans.take_back.take_job_back(session.account_id, job)
        except NotFound:
            continue
        site = await sites.book.get((await plans.jobs.get(job_id)).site_id)
        its_plans.append(await plans.reader.read(job_id, site, limit=100))
    if not its_plans:
        raise NotFound("Nothing of this run is left to take back.")
    return render(
        request,
        "pairs/_run-back.html",
        plans=its_plans,
        total=sum(plan.summary.acts + plan.summary.folders for plan in its_plans),
    )


async def _shown(request: Request, plan: SyncPlan) -> Response:
    """The plan as a fragment, or a window of its rows."""
    pairs = pairs_of(request)
    query = QueryValues(request)
    if plan.problem is not None:
        raise plan.problem
    if not plan.ready:
        raise Conflict("Read both sides first.")
    wanted = Filter(query.text("group"), query.text("text"), query.text("by") == "folder")
    numbers = numbers_shown(plan, wanted)
    begin = query.number("from", 0)
    count = query.number("rows", _ROWS_AT_ONCE, least=1, most=_MOST_ROWS)
    rows = shown_rows(plan, numbers[begin : begin + count], datetime.now(UTC), zone_of(request))
    values: dict[str, Any] = {
        "plan": plan,
        "pair": plan.pair,
        "rows": rows,
        "more": max(0, len(numbers) - begin - count),
        "next": begin + count,
        "by_folder": wanted.by_folder,
        "folder_before": folder_of(plan.rows[numbers[begin - 1]]) if begin and begin <= len(numbers) else None,
        "Doing": Doing,
    }
    if begin:
        return render(request, "pairs/_sync-rows.html", **values)
    return render(
        request,
        "pairs/_sync-plan.html",
        **values,
        **_summary(plan),
        wanted=wanted,
        shown=len(numbers),
        groups=group_counts(plan),
        guarded=await pairs.runs.guarded(plan),
        bulk=_bulk(plan, numbers),
    )


def _summary(plan: SyncPlan) -> dict[str, Any]:
    fits = {end: plan.fit(end) for end in SideName}
    return {
        "arrows": arrows(plan.flow, plan.pair),
        "undecided": plan.doings.undecided,
        "short": {end: short for end, (_, short) in fits.items() if short},
        "same": plan.found.same,
        "files_here": plan.here.files,
        "files_there": plan.there.files,
        "changes_there": bool(plan.steps.there),
        "total": len(plan.rows),
        "guesses": sum(
            doing is Doing.DECIDE and row.standing.guess and row.standing.joint is not Joint.BOTH_CHANGED
            for row, doing in zip(plan.rows, plan.doings.each, strict=True)
        ),
    }


def _bulk(plan: SyncPlan, numbers: Sequence[int]) -> list[tuple[str, str]]:
    """What can be decided for all shown rows at once."""
    if len(numbers) < 2:
        return []
    words = doing_words(plan.pair)
    return [
        ("newer", "Use the newer version of each"),
        *((one.value, words[one]) for one in _BULK),
        ("", "As proposed"),
    ]


def _plan(request: Request, token: str) -> SyncPlan:
    pairs = pairs_of(request)
    return pairs.plans.plan(token, session_of(request).account_id)


def _ready(request: Request, token: str) -> SyncPlan:
    plan = _plan(request, token)
    if not plan.ready:
        raise Conflict("Read both sides first.")
    return plan


def _as_data(data: bytes, kind: str) -> str:
    """A small picture inside the page: it comes from no address, and no script in it can run."""
    if len(data) > _PICTURE_BYTES:
        return ""
    return f"data:image/{kind};base64,{base64.b64encode(data).decode()}"
