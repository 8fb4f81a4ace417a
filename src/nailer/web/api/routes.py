"""Every route of the API. Each does what a page does, for a program: plans are made, read, and only then carried out."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Query
from pydantic import BaseModel
from sse_starlette import EventSourceResponse, ServerSentEvent
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.acting import person
from nailer.core.files.entry import SideName
from nailer.core.files.text import decoded
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import ENDED, JobState
from nailer.core.numbers import MOST, number_in
from nailer.core.pairs.wishes import Doing, SyncWish
from nailer.core.people.rights import Right
from nailer.core.plans.plan import Answers
from nailer.errors import Conflict, FileMissing, NotFound, SignedOut
from nailer.services.editing import Careful
from nailer.services.people import Token
from nailer.services.plans import Job, Plans
from nailer.web.api import models
from nailer.web.shell.doors import (
    EditingDoor,
    FilesDoor,
    Id,
    PairsDoor,
    PeopleDoor,
    PlansDoor,
    SitesDoor,
    TheSite,
    files_of,
    people_of,
    plans_of,
    sites_of,
)
from nailer.web.shell.guard import address_of

_PROBLEMS: dict[int | str, dict[str, Any]] = {
    code: {"model": models.Problem, "description": said}
    for code, said in (
        (401, "missing or expired token"),
        (403, "the token does not have this permission"),
        (404, "not found, or outside the token's sites"),
        (413, "request too large"),
        (409, "changed in the meantime, or a person has to decide"),
        (422, "invalid request"),
        (502, "the hosting server refused or failed"),
        (503, "Nailer is busy, or its database does not answer"),
        (507, "the disk of Nailer's own machine is full"),
    )
}
router = APIRouter(prefix="/api/v1", responses=_PROBLEMS)
ROOT = "/api/v1"
_MOST = 1000

Limit = Annotated[int, Query(ge=1, le=_MOST)]
After = Annotated[str, Query(max_length=2000, description="`next` of the page before; empty: the first page")]


def token_of(request: Request) -> Token:
    """The token that the guard let in."""
    token: Token | None = getattr(request.state, "token", None)
    if token is None:
        raise SignedOut("Send an API token: `Authorization: Bearer nailer_...`.")
    return token


Shown = Annotated[Token, Depends(token_of)]


async def _once(request: Request, token: Token, answer: Callable[[], Awaitable[BaseModel]]) -> Response:
    """Answer a request that changes something, once for each idempotency key."""

    async def _answered() -> tuple[int, str]:
        return 200, (await answer()).model_dump_json()

    key = request.headers.get("idempotency-key", "")[:200]
    asked = f"{request.method} {request.url.path}\n".encode() + await request.body()
    status, body = await people_of(request).tokens.once(token, key, asked, _answered)
    return Response(body, status, media_type="application/json")


@router.get("/sites", response_model=models.SitePage)
async def list_sites(sites: SitesDoor, token: Shown) -> models.SitePage:
    """The sites that the token reaches."""
    who = person()
    return models.SitePage(
        items=[
            models.SiteOut.of(site, [right for right in Right if who is not None and who.may(right, site.id)])
            for site in await sites.book.all()
        ]
    )


@router.get("/sites/{site_id}", response_model=models.SiteOut)
async def get_site(site: TheSite, token: Shown) -> models.SiteOut:
    """One site."""
    who = person()
    return models.SiteOut.of(site, [right for right in Right if who is not None and who.may(right, site.id)])


@router.get("/sites/{site_id}/entries", response_model=models.EntryPage)
async def list_entries(
    site: TheSite,
    files: FilesDoor,
    token: Shown,
    side: SideName,
    path: Annotated[str, Query(max_length=16_384, examples=["/htdocs"])] = "",
    after: After = "",
    limit: Limit = 200,
) -> models.EntryPage:
    """A folder of one side, by name; `path` empty is the site's top on that side."""
    top = site.start_here if side is SideName.HERE else site.start_there
    read = await files.browse.listing(site, side, models.path_of(path) if path else top, max_age_s=0.0)
    if read.problem is not None:
        raise read.problem
    ordered = sorted((models.EntryOut.of(entry) for entry in read.entries), key=lambda one: one.name)
    rest = [one for one in ordered if one.name > after]
    doubt = read.lack.sentence if read.lack is not None else ""
    page = rest[:limit]
    return models.EntryPage(
        items=page,
        complete=read.lack is None,
        whole=read.lack is None,
        doubt=doubt,
        next=page[-1].name if len(rest) > limit else None,
    )


@router.post("/sites/{site_id}/plans", response_model=models.PlanOut)
async def make_plan(request: Request, site: TheSite, wish: models.PlanIn, plans: PlansDoor, token: Shown) -> Response:
    """Make a plan. Nothing is changed by it."""

    async def _made() -> models.PlanOut:
        here, there = models.path_of(wish.here), models.path_of(wish.there)
        names = list(map(models.name_of, wish.names))
        to_there = wish.to_side is SideName.THERE
        if wish.does == "remove":
            folder = there if to_there else here
            job_id = await plans.make.removal(token.account_id, site, wish.to_side, folder, names)
        else:
            source, target = (here, there) if to_there else (there, here)
            job_id = await plans.make.transfer(
                token.account_id, site, wish.to_side, source, target, names, resend_same=wish.resend_same
            )
        return await _plan(request, job_id)

    return await _once(request, token, _made)


async def _plan(request: Request, job_id: int) -> models.PlanOut:
    plans, job = plans_of(request), await _own(request, job_id)
    site = await sites_of(request).book.get(job.site_id)
    plan = await plans.reader.read(job_id, site, limit=1)
    must_type = ""
    if job.kind is JobKind.REMOVE:
        must_type = (await plans.removal.known(job, site)).must_type
    return models.PlanOut(
        id=job.id,
        site=job.site_id,
        does=job.kind,
        to_side=job.to_side,
        title=job.title,
        summary=models.SummaryOut.of(plan.summary),
        guarded=[folder.token for folder in plan.guarded],
        must_type=must_type or "",
    )


async def _own(request: Request, job_id: int) -> Job:
    """A plan that this person made and that waits to be carried out."""
    job = await plans_of(request).jobs.get(job_id)
    if job.account_id != token_of(request).account_id:
        raise NotFound("This plan belongs to someone else.")
    if job.state is not JobState.PLANNED:
        raise Conflict("This plan has already been carried out.")
    return job


@router.get("/plans/{job_id}", response_model=models.PlanOut)
async def get_plan(request: Request, job_id: Id, token: Shown) -> models.PlanOut:
    """A plan as it stands."""
    return await _plan(request, job_id)


@router.get("/jobs/{job_id}/items", response_model=models.ItemPage)
async def list_items(
    job_id: Id, plans: PlansDoor, token: Shown, after: After = "", limit: Limit = 200
) -> models.ItemPage:
    """The steps of a plan or a job, in order."""
    await plans.jobs.get(job_id)
    behind = number_in(after)
    found = await plans.jobs.items(job_id, after=-1 if behind is None else behind, limit=limit + 1)
    page = found[:limit]
    return models.ItemPage(
        items=[models.ItemOut.of(item) for item in page], next=str(page[-1].position) if len(found) > limit else None
    )


@router.post("/plans/{job_id}/carry-out", response_model=models.JobOut)
async def carry_out(
    request: Request, job_id: Id, wish: models.CarryOutIn, sites: SitesDoor, plans: PlansDoor, token: Shown
) -> Response:
    """Let a plan become a job. 422 with `typed` where a word is needed, with `clashes` where `both_changed` must say what
    becomes of files that both sides have changed, 409 where a guarded folder is shut."""

    async def _begun() -> models.JobOut:
        job = await _own(request, job_id)
        site = await sites.book.get(job.site_id)
        answers = Answers(wish.choice, wish.both_changed)
        await plans.confirming.carry_out(job, site, answers, typed=wish.typed, opens_guarded=wish.opens_guarded)
        return models.JobOut.of(await plans.jobs.get(job_id))

    return await _once(request, token, _begun)


@router.get("/jobs", response_model=models.JobPage)
async def list_jobs(plans: PlansDoor, token: Shown, after: After = "", limit: Limit = 100) -> models.JobPage:
    """Jobs: on the first page those that have not ended, then the ended ones, newest first."""
    before = number_in(after)
    overview = await plans.jobs.overview(before=MOST if before is None else before, limit=limit + 1, wanted="")
    ended = overview.ended[:limit]
    first = [*overview.active, *overview.needing_you] if before is None else []
    return models.JobPage(
        items=[models.JobOut.of(job) for job in (*first, *ended)],
        next=str(ended[-1].id) if len(overview.ended) > limit else None,
    )


@router.get("/jobs/{job_id}", response_model=models.JobOut)
async def get_job(job_id: Id, plans: PlansDoor, token: Shown) -> models.JobOut:
    """A job as it stands."""
    return models.JobOut.of(await plans.jobs.get(job_id))


@router.post("/jobs/{job_id}/{act}", response_model=models.JobOut)
async def act_on_job(request: Request, job_id: Id, act: str, plans: PlansDoor, token: Shown) -> Response:
    """`stop`, `pause`, `go-on` or `again` (try once more what failed)."""
    acts = {"stop": plans.jobs.stop, "pause": plans.jobs.pause, "go-on": plans.jobs.go_on, "again": plans.jobs.again}
    wanted = acts.get(act)
    if wanted is None:
        raise NotFound("Use one of: stop, pause, go-on, again.")

    async def _done() -> models.JobOut:
        return models.JobOut.of(await wanted(job_id))

    return await _once(request, token, _done)


@router.get("/jobs/{job_id}/events", responses={200: {"content": {"text/event-stream": {}}, "description": "jobs"}})
async def follow_job(request: Request, job_id: Id, plans: PlansDoor, people: PeopleDoor, token: Shown) -> Response:
    """A job as server-sent events: one after every change, each a job as JSON, until it has ended, needs a person, or the
    token may no longer see it."""
    await plans.jobs.get(job_id)
    reader = people.tokens.reader(token, address_of(request.scope))
    people.streams.check_room(reader)
    return EventSourceResponse(people.streams.while_allowed(reader, lambda _: _followed(plans, job_id)), ping=15)


async def _followed(plans: Plans, job_id: int) -> AsyncGenerator[ServerSentEvent, None]:
    said = ""
    async for _ in _moments(plans):
        job = await plans.jobs.get(job_id)
        live = plans.jobs.running(job_id)
        shown = models.JobOut.of(job)
        if live is not None:
            shown = shown.model_copy(update={"share": round(live.tally.share, 4), "files_done": live.tally.done.files})
        if (body := shown.model_dump_json()) != said:
            said = body
            yield ServerSentEvent(body)
        if job.state in ENDED or job.state is JobState.NEEDS_YOU:
            return


async def _moments(plans: Plans) -> AsyncIterator[None]:
    """Now, and whenever something has changed."""
    yield None
    async for _ in plans.jobs.moves(plans.jobs.version, at_most_every_s=0.25, heartbeat_s=2.0):
        yield None


@router.get("/sites/{site_id}/changes", response_model=models.ChangePage)
async def list_changes(
    site: TheSite, plans: PlansDoor, token: Shown, after: After = "", limit: Limit = 100
) -> models.ChangePage:
    """What Nailer changed on a site, newest first."""
    before = number_in(after)
    found = await plans.changes.latest(
        site.id, before=MOST if before is None else before, side="", wanted="", limit=limit + 1
    )
    page = found[:limit]
    return models.ChangePage(
        items=[models.ChangeOut.of(change) for change in page], next=str(page[-1].id) if len(found) > limit else None
    )


@router.post("/sites/{site_id}/changes/{change_id}/take-back", response_model=models.JobOut)
async def take_back(request: Request, site: TheSite, change_id: Id, plans: PlansDoor, token: Shown) -> Response:
    """Take one change back, at once."""

    async def _begun() -> models.JobOut:
        change = await plans.changes.of_site(site.id, change_id)
        job_id = await plans.take_back.take_change_back(token.account_id, site, change)
        if job_id is None:
            raise Conflict("The change has already been taken back.")
        return models.JobOut.of(await plans.jobs.get(job_id))

    return await _once(request, token, _begun)


@router.post("/jobs/{job_id}/plans/take-back", response_model=models.PlanOut)
async def plan_take_back(request: Request, job_id: Id, plans: PlansDoor, token: Shown) -> Response:
    """A plan that takes a whole job back."""

    async def _made() -> models.PlanOut:
        return await _plan(request, await plans.take_back.take_job_back(token.account_id, job_id))

    return await _once(request, token, _made)


@router.get("/sites/{site_id}/pairs", response_model=models.PairPage)
async def list_pairs(site: TheSite, pairs: PairsDoor, token: Shown) -> models.PairPage:
    """The pairs of a site; the one of its start folders first."""
    await pairs.book.first_pair(site)
    return models.PairPage(items=[models.PairOut.of(pair) for pair in await pairs.book.of_site(site.id)])


@router.get("/timers", response_model=models.TimerPage)
async def list_timers(pairs: PairsDoor, token: Shown) -> models.TimerPage:
    """The timers that the token's person sees."""
    return models.TimerPage(items=[models.TimerOut.of(timer) for timer in await pairs.timers.all()])


@router.post("/timers/{timer_id}/run", response_model=models.TimerOut)
async def run_timer(request: Request, timer_id: Id, pairs: PairsDoor, token: Shown) -> Response:
    """Run a timer at once, whatever its time. 409 where it is running."""

    async def _begun() -> models.TimerOut:
        await pairs.timers.run_now(timer_id)
        return models.TimerOut.of(await pairs.timers.get(timer_id))

    return await _once(request, token, _begun)


@router.get("/sieves", response_model=models.SievePage)
async def list_sieves(files: FilesDoor, token: Shown) -> models.SievePage:
    """What stays behind when files are carried, in the order in which it is asked."""
    return models.SievePage(items=[models.SieveOut.of(one.sieve) for one in await files.sieves.all()])


@router.post("/pairs/{pair_id}/sync", response_model=models.SyncOut)
async def plan_sync(pair_id: Id, wish: models.SyncIn, pairs: PairsDoor, token: Shown) -> models.SyncOut:
    """Read both ends of a pair and plan how it becomes level. Nothing is changed by it."""
    pair = await pairs.book.get(pair_id)
    plan = await pairs.readings.read_now(token.account_id, pair, SyncWish(wish.direction, wish.removals), wish.compare)
    pairs.plans.add(plan)
    undecided = sum(doing is Doing.DECIDE for doing in plan.doings.each)
    return models.SyncOut.of(plan, undecided)


@router.post("/sync/{token_of_plan}/carry-out", response_model=models.RunOut)
async def carry_out_sync(
    request: Request, token_of_plan: str, wish: models.CarryOutIn, pairs: PairsDoor, token: Shown
) -> Response:
    """Carry a planned sync out. What only a person decides is left as it is."""

    async def _begun() -> models.RunOut:
        plan = pairs.plans.plan(token_of_plan, token.account_id)
        undecided = {number: Doing.LEAVE for number, one in enumerate(plan.doings.each) if one is Doing.DECIDE}
        await pairs.decisions.choose(plan, undecided, Doing.LEAVE)
        run_id = await pairs.runs.carry_out(plan, typed=wish.typed, guarded_confirmed=wish.opens_guarded)
        return models.RunOut(run=run_id, jobs=list((await pairs.book.run(run_id)).jobs))

    return await _once(request, token, _begun)


@router.post("/sites/{site_id}/edit", response_model=models.EditOut)
async def open_file(site: TheSite, wish: models.EditIn, editing: EditingDoor, token: Shown) -> models.EditOut:
    """Open a text file to edit it, or go on with what was typed and not saved."""
    opened = await editing.drafts.open(token.account_id, site, wish.side, models.path_of(wish.path))
    draft = opened.draft
    found = decoded(draft.base)
    text = draft.text if draft.text is not None else found[0] if found is not None else ""
    return models.EditOut(draft=draft.id, text=text, based_on=draft.version)


@router.post("/drafts/{draft_id}/save", response_model=models.SaveOut)
async def save_file(
    request: Request, draft_id: Id, wish: models.SaveIn, sites: SitesDoor, editing: EditingDoor, token: Shown
) -> Response:
    """Save as the editor does: whole or not at all, never over somebody else's change, taken back where it breaks pages."""

    async def _saved() -> models.SaveOut:
        draft = await editing.drafts.own(token.account_id, draft_id)
        site = await sites.book.get(draft.site_id)
        files_of(request).guarded.check(token.account_id, site, draft.side, draft.path)
        if draft.version != wish.based_on:
            raise Conflict("Someone has saved the file in the meantime. Open it again.")
        await editing.drafts.type(draft, wish.text, None)
        draft = await editing.drafts.own(token.account_id, draft_id)
        ended = await editing.saving.save(draft, site, despite_errors=wish.despite_errors)
        return models.SaveOut(
            done=ended.saved.done and not ended.errors and not ended.broken,
            said=_said(ended),
            errors=[one.what for one in ended.errors],
        )

    return await _once(request, token, _saved)


def _said(ended: Careful) -> str:
    if ended.errors:
        return "The text has errors, so nothing was saved. It is kept as a draft."
    if ended.broken:
        back = "and was taken back" if ended.is_back else "and could not be taken back"
        return f"It broke {ended.broken[0].address} {back}."
    if ended.saved.merge is not None or ended.saved.gone:
        return "Someone changed the file in the meantime. Nothing was saved; your text is kept as a draft in Nailer."
    return ended.saved.why_not or "Saved."


@router.post("/sites/{site_id}/live", response_model=models.LiveOut)
async def live_check(site: TheSite, wish: models.LiveIn, editing: EditingDoor, token: Shown) -> models.LiveOut:
    """What visitors get of a file there, compared with what lies there."""
    verdict, _ = await editing.live_check.of_file(site, models.path_of(wish.path))
    return models.LiveOut(finding=verdict.live.value, said=verdict.sentence, advice=verdict.advice)


@router.get("/sites/{site_id}/content", responses={200: {"content": {"application/octet-stream": {}}}})
async def get_content(request: Request, site: TheSite, token: Shown, side: SideName, path: str) -> Response:
    """A small file's bytes (at most 4 MB) and its version as an ETag, for an editor."""
    async with files_of(request).browse.side(site, side) as opened:
        entry, content = await opened.read_all(models.path_of(path))
    if not entry.is_file or len(content) > 4_000_000:
        raise FileMissing("Files larger than 4 MB cannot be edited.")
    return Response(content, media_type="application/octet-stream")


@router.get("/openapi.json", include_in_schema=False)
async def described(request: Request, token: Shown) -> Response:
    """This API, as OpenAPI 3.1."""
    return JSONResponse(await asyncio.to_thread(request.app.state.api_described))
