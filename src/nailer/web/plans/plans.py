"""Plans: asked for, read in a dialog, carried out or put away."""

from __future__ import annotations

from dataclasses import replace

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.core.files.entry import SideName
from nailer.core.files.names import names_text
from nailer.core.files.search import SearchWanted
from nailer.core.files.sitepath import SitePath, address_of
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import JobState
from nailer.core.plans.advice import doubts_text
from nailer.core.plans.plan import Action, Choice, Summary, Verdict, summary_sentence
from nailer.core.plans.room import Fit
from nailer.errors import Conflict, InvalidInput, NailerError, NotFound
from nailer.services.editing.references import better_names
from nailer.services.plans.archives import Unpacked
from nailer.services.plans.read import PlanToRead
from nailer.services.plans.server_commands import Staged
from nailer.store.jobs import Item, Job
from nailer.store.sites import Site
from nailer.web.shell.forms import (
    CarryOutWish,
    CarryWish,
    CopyWish,
    DropWish,
    LeaveOutWish,
    Picked,
    QueryValues,
    RemoveWish,
    RenameWish,
    typed_name,
)
from nailer.web.shell.pages import nailer_of, render, session_of

router = APIRouter()

_MOST_ASKED = 5000
_COMPARED_BYTES = 1_000_000


@router.post("/sites/{site_id}/plans/carry")
async def plan_carry(request: Request, site_id: int, wish: CarryWish) -> Response:
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    to_there = wish.to_side is SideName.THERE
    source, target = (wish.here_path, wish.there_path) if to_there else (wish.there_path, wish.here_path)
    job_id = await nailer.planning.carry(
        session_of(request).account_id,
        site,
        wish.to_side,
        source,
        target,
        wish.raw_names,
        resend_same=wish.resend_same,
        despite_sieves=wish.despite_sieves,
    )
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/remove")
async def plan_remove(request: Request, site_id: int, wish: RemoveWish) -> Response:
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    folder = wish.here_path if wish.side is SideName.HERE else wish.there_path
    job_id = await nailer.planning.removal(session_of(request).account_id, site, wish.side, folder, wish.raw_names)
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/copy-form")
async def copy_form(request: Request, site_id: int, wish: Picked) -> Response:
    """Asks where picked names are to be copied or moved."""
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    others = [one for one in await nailer.sites.all() if one.id != site.id]
    names = wish.raw_names
    return render(request, "plans/_copy-form.html", site=site, others=others, wish=wish, title=names_text(names))


@router.post("/sites/{site_id}/plans/copy")
async def plan_copy(request: Request, site_id: int, wish: CopyWish) -> Response:
    """Copy within a side or to another site, or move within a side."""
    nailer = nailer_of(request)
    site, account_id = await nailer.sites.get(site_id), session_of(request).account_id
    folder = wish.here_path if wish.side is SideName.HERE else wish.there_path
    target = SitePath.parse(wish.to.strip().encode("utf-8", "surrogateescape"))
    if wish.site not in (0, site_id) and (wish.move or wish.side is SideName.HERE):
        raise InvalidInput(
            "To another site names are copied, from the server. Moving and this machine's files stay within a side."
        )
    if wish.move:
        job_id = await nailer.planning.move(account_id, site, wish.side, folder, wish.raw_names, target)
    else:
        goal = await nailer.sites.get(wish.site) if wish.site not in (0, site_id) else None
        job_id = await nailer.planning.copy(account_id, site, wish.side, folder, wish.raw_names, target, to_site=goal)
        site = goal or site
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/drop")
async def plan_drop(request: Request, site_id: int, wish: DropWish) -> Response:
    nailer = nailer_of(request)
    site = await nailer.sites.get(site_id)
    folder = SitePath.of_token(wish.folder)
    job_id = await nailer.planning.drop(session_of(request).account_id, site, wish.to_side, folder, wish.dropped)
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/rename")
async def plan_rename(request: Request, site_id: int, wish: RenameWish) -> Response:
    """Rename one name, and rewrite what refers to it."""
    nailer = nailer_of(request)
    site, account_id = await nailer.sites.get(site_id), session_of(request).account_id
    renames = {SitePath.of_token(wish.path): typed_name(wish.name)}
    job_id, found = await nailer.referring.rename(account_id, site, wish.side, renames)
    return await plan_dialog(request, site, job_id, told=found.text)


@router.post("/plans/{job_id}/rename-hurting")
async def plan_rename_hurting(request: Request, job_id: int) -> Response:
    """Names of an upload that will hurt get better ones here, first, with what refers to them; the upload is planned anew
    after that."""
    nailer, job = nailer_of(request), await _own_plan(request, job_id)
    site = await nailer.sites.get(job.site_id)
    plan = await nailer.plan_reader.read(job_id, site, limit=1)
    renames = better_names(job.source_folder, [one.below for one in plan.hurting])
    new_id, found = await nailer.referring.rename(job.account_id, site, SideName.HERE, renames)
    await nailer.jobs.discard(job.id)
    return await plan_dialog(request, site, new_id, told=f"{found.text} Upload them once they are renamed.")


@router.post("/plans/{job_id}/in-place")
async def plan_in_place(request: Request, job_id: int) -> Response:
    """Let files be overwritten in place on this plan's site from now on, and show the plan as it is then."""
    nailer, job = nailer_of(request), await _own_plan(request, job_id)
    await nailer.sites.set_in_place(job.site_id, allowed=True)
    return await plan_dialog(request, await nailer.sites.get(job.site_id), job_id)


@router.get("/plans/{job_id}/references")
async def plan_references(request: Request, job_id: int) -> Response:
    """What refers to the names that a plan removes or moves away."""
    nailer, job = nailer_of(request), await _own_plan(request, job_id)
    site = await nailer.sites.get(job.site_id)
    items = await nailer.jobs.items(job_id, limit=_MOST_ASKED)
    away = [item.source for item in items if item.action in (Action.REMOVE, Action.REMOVE_FOLDER, Action.MOVE)]
    tops = [path for path in away if path.parent not in away]
    try:
        found = await nailer.referring.to(site, job.to_side, tops)
    except NailerError as error:
        return render(request, "plans/_references.html", found=None, why_not=error.what)
    return render(request, "plans/_references.html", found=found, why_not="")


@router.get("/plans/{job_id}/room")
async def plan_room(request: Request, job_id: int) -> Response:
    """The room for a plan in a package whose size a person gave."""
    nailer, job = nailer_of(request), await _own_plan(request, job_id)
    found = await nailer.rooms.reckon(await nailer.sites.get(job.site_id), job)
    return render(request, "plans/_plan-room.html", plan=found.plan, in_package=found, Fit=Fit)


@router.get("/plans/{job_id}/known")
async def plan_known(request: Request, job_id: int) -> Response:
    """What else knows what a plan removes, and whether its name must be typed."""
    nailer, job = nailer_of(request), await _own_plan(request, job_id)
    known = await nailer.removing.known(
        job, await nailer.sites.get(job.site_id), await nailer.jobs.items(job_id, limit=2**31)
    )
    return render(request, "plans/_known.html", known=known)


@router.get("/plans/{job_id}/differences/{item_id}")
async def plan_differences(request: Request, job_id: int, item_id: int) -> Response:
    """What one step of a plan would change, line by line."""
    nailer, job = nailer_of(request), await _own_plan(request, job_id)
    site = await nailer.sites.get(job.site_id)
    compared = await nailer.compare.item(job, site, await nailer.jobs.item(job_id, item_id))
    return render(request, "shell/_differences.html", compared=compared, sides=None)


@router.post("/jobs/{job_id}/plans/take-back")
async def plan_take_back(request: Request, job_id: int) -> Response:
    nailer = nailer_of(request)
    new_id = await nailer.planning.take_job_back(session_of(request).account_id, job_id)
    job = await nailer.jobs.get(new_id)
    return await plan_dialog(request, await nailer.sites.get(job.site_id), new_id)


@router.post("/plans/{job_id}/carry-out")
async def carry_out(request: Request, job_id: int, wish: CarryOutWish) -> Response:
    nailer = nailer_of(request)
    job = await _own_plan(request, job_id)
    site = await nailer.sites.get(job.site_id)
    plan = await nailer.plan_reader.read(job_id, site, limit=1)
    for folder in plan.guarded:
        if wish.guarded_confirmed:
            nailer.guards.open(job.account_id, site, folder)
        nailer.guards.check(job.account_id, site, job.to_side, folder)
    if job.kind is JobKind.REMOVE:
        known = await nailer.removing.known(job, site, await nailer.jobs.items(job_id, limit=2**31))
        if known.must_type and wish.typed.strip() != known.must_type:
            raise InvalidInput(f"Type {known.must_type} to confirm: {known.why}.")
    await nailer.planning.carry_out(job_id, site, wish.choice)
    return JSONResponse({"job": job_id})


@router.post("/plans/{job_id}/leave-out")
async def leave_out(request: Request, job_id: int, wish: LeaveOutWish) -> Response:
    """Leave what was pointed out out of a plan; the plan is shown anew."""
    nailer = nailer_of(request)
    job = await _own_plan(request, job_id)
    site = await nailer.sites.get(job.site_id)
    plan = await nailer.plan_reader.read(job_id, site, limit=1)
    doubts = plan.private if wish.what == "private" else plan.hurting
    if wish.as_sieve and doubts:
        await nailer.sieving.hold_back(site, job.target_folder, doubts)
        nailer.browse.redraw(site.id)
    await nailer.planning.leave_out(job_id, doubts)
    return await plan_dialog(request, site, job_id)


@router.post("/plans/{job_id}/put-away")
async def put_away(request: Request, job_id: int) -> Response:
    nailer, job = nailer_of(request), await _own_plan(request, job_id)
    await nailer.jobs.discard(job.id)
    if QueryValues(request).text("keep") != "1":
        await nailer.on_server.clear(await nailer.sites.get(job.site_id), job.source_folder)
    return JSONResponse({"ok": True})


async def _own_plan(request: Request, job_id: int) -> Job:
    job = await nailer_of(request).jobs.get(job_id)
    if job.account_id != session_of(request).account_id:
        raise NotFound("This plan was made by somebody else.")
    if job.state is not JobState.PLANNED:
        raise Conflict("This plan was carried out already.")
    return job


def _written(found: Summary) -> str:
    """`1 renamed, 7 changed`: what a plan of prepared contents does."""
    changed = found.replaced + found.replaced_newer
    return ", ".join([*([f"{found.new} renamed"] if found.new else []), *([f"{changed} changed"] if changed else [])])


def _comparable(job: Job, item: Item) -> bool:
    """True for a step that replaces one text by another."""
    replaces = item.verdict in (Verdict.REPLACES, Verdict.REPLACES_NEWER) and item.action is Action.CARRY
    is_text = SearchWanted().may_hold_text(replace(item.entry, name=item.target.name))
    return replaces and is_text and item.entry.size <= _COMPARED_BYTES and job.kind is not JobKind.DROP


async def plan_dialog(
    request: Request,
    site: Site,
    job_id: int,
    *,
    unpacked: Unpacked | None = None,
    staged: Staged | None = None,
    told: str = "",
) -> Response:
    """A stored plan as the sheet shows it. `unpacked` and `staged` are what it carries of an archive, from here and from
    there, `told` what was found out on the way."""
    nailer = nailer_of(request)
    plan: PlanToRead = await nailer.plan_reader.read(job_id, site)
    job, found = plan.job, plan.summary
    locked = [folder for folder in plan.guarded if nailer.guards.is_locked(job.account_id, site, folder)]
    target = job.target_folder
    address = address_of(target, site.document_roots, is_folder=True) if job.to_side is SideName.THERE else None
    return render(
        request,
        "plans/_plan.html",
        plan=plan,
        job=job,
        site=site,
        found=found,
        sentence=_written(found) if job.kind is JobKind.WRITE else summary_sentence(found, job.to_side),
        meets=found.replaced + found.replaced_newer,
        choices=list(Choice),
        locked=locked,
        unpacked=unpacked,
        staged=staged,
        told=told,
        comparable=_comparable,
        can_rename=job.kind is JobKind.CARRY and job.to_side is SideName.THERE,
        asks_references=job.kind in (JobKind.REMOVE, JobKind.MOVE) and staged is None,
        private_text=doubts_text(plan.private),
        hurting_text=doubts_text(plan.hurting),
        Fit=Fit,
        in_package=None,
        reckons_room=nailer.rooms.reckons(site, job),
        address=address,
        is_drop=job.kind is JobKind.DROP,
        is_removal=job.kind is JobKind.REMOVE,
        is_take_back=job.kind is JobKind.TAKE_BACK,
        verb={JobKind.COPY: "Copy", JobKind.MOVE: "Move", JobKind.WRITE: "Change"}.get(job.kind, ""),
        more=plan.more,
    )
