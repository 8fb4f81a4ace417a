"""Plans: asked for, read in a dialog, carried out or put away."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from fastapi import APIRouter, Depends
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
from nailer.services.editing import better_names
from nailer.services.plans import FromFolder, Item, Job, PlanToRead, Staged, Unpacked
from nailer.services.sites import Site
from nailer.web.shell.doors import (
    EditingDoor,
    FilesDoor,
    Id,
    PlansDoor,
    SignedIn,
    SitesDoor,
    TheSite,
    checks_of,
    files_of,
    plans_of,
    session_of,
)
from nailer.web.shell.forms import (
    CarryOutWish,
    CopyWish,
    DropWish,
    LeaveOutWish,
    Picked,
    QueryValues,
    RemoveWish,
    RenameWish,
    TransferWish,
    TrayTransferWish,
    typed_name,
)
from nailer.web.shell.pages import render

router = APIRouter()


async def _own_plan(request: Request, job_id: Id) -> Job:
    plans = plans_of(request)
    job = await plans.jobs.get(job_id)
    if job.account_id != session_of(request).account_id:
        raise NotFound("This plan belongs to someone else.")
    if job.state is not JobState.PLANNED:
        raise Conflict("This plan has already been carried out.")
    return job


OwnPlan = Annotated[Job, Depends(_own_plan)]

_MOST_ASKED = 5000
_COMPARED_BYTES = 1_000_000
# The plans whose files are decided one by one where they meet others.
_DECIDED = (JobKind.TRANSFER, JobKind.DROP, JobKind.COPY, JobKind.UNPACK)


@router.post("/sites/{site_id}/plans/transfer")
async def plan_transfer(
    request: Request, wish: TransferWish, site: TheSite, plans: PlansDoor, session: SignedIn
) -> Response:
    """A plan that carries picked names to the other side."""
    to_there = wish.to_side is SideName.THERE
    source, target = (wish.here_path, wish.there_path) if to_there else (wish.there_path, wish.here_path)
    job_id = await plans.make.transfer(
        session.account_id,
        site,
        wish.to_side,
        source,
        target,
        wish.raw_names,
        resend_same=wish.resend_same,
        despite_sieves=wish.despite_sieves,
    )
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/transfer-tray")
async def plan_transfer_tray(
    request: Request, wish: TrayTransferWish, site: TheSite, files: FilesDoor, plans: PlansDoor, session: SignedIn
) -> Response:
    """One plan that carries what lies in the tray, each name into the folder that belongs to its own."""
    up = wish.to_side is SideName.THERE
    tray = await files.tray.of(session.account_id, site)
    places = [
        FromFolder(one.here, one.there, one.names) if up else FromFolder(one.there, one.here, one.names)
        for one in tray.places
    ]
    job_id = await plans.make.transfer_places(session.account_id, site, wish.to_side, places)
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/remove")
async def plan_remove(
    request: Request, wish: RemoveWish, site: TheSite, plans: PlansDoor, session: SignedIn
) -> Response:
    """A plan that removes picked names."""
    folder = wish.here_path if wish.side is SideName.HERE else wish.there_path
    job_id = await plans.make.removal(session.account_id, site, wish.side, folder, wish.raw_names)
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/copy-form")
async def copy_form(request: Request, wish: Picked, site: TheSite, sites: SitesDoor) -> Response:
    """Asks where picked names are to be copied or moved."""
    others = [one for one in await sites.book.all() if one.id != site.id]
    names = wish.raw_names
    return render(request, "plans/_copy-form.html", site=site, others=others, wish=wish, title=names_text(names))


@router.post("/sites/{site_id}/plans/copy")
async def plan_copy(
    request: Request, site_id: Id, wish: CopyWish, sites: SitesDoor, plans: PlansDoor, session: SignedIn
) -> Response:
    """Copy within a side or to another site, or move within a side."""
    site, account_id = await sites.book.get(site_id), session.account_id
    folder = wish.here_path if wish.side is SideName.HERE else wish.there_path
    target = SitePath.parse(wish.to.strip().encode("utf-8", "surrogateescape"))
    if wish.site not in (0, site_id) and (wish.move or wish.side is SideName.HERE):
        raise InvalidInput(
            "You can only copy from the server to another site. Moving, and copying files from here, works within one side."
        )
    if wish.move:
        job_id = await plans.make.move(account_id, site, wish.side, folder, wish.raw_names, target)
    else:
        goal = await sites.book.get(wish.site) if wish.site not in (0, site_id) else None
        job_id = await plans.make.copy(account_id, site, wish.side, folder, wish.raw_names, target, to_site=goal)
        site = goal or site
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/drop")
async def plan_drop(request: Request, wish: DropWish, site: TheSite, plans: PlansDoor, session: SignedIn) -> Response:
    """A plan for files that a browser offers."""
    folder = SitePath.of_token(wish.folder)
    job_id = await plans.make.drop(session.account_id, site, wish.to_side, folder, wish.dropped)
    return await plan_dialog(request, site, job_id)


@router.post("/sites/{site_id}/plans/rename")
async def plan_rename(
    request: Request, site_id: Id, wish: RenameWish, sites: SitesDoor, editing: EditingDoor, session: SignedIn
) -> Response:
    """Rename one name, and rewrite what refers to it."""
    site, account_id = await sites.book.get(site_id), session.account_id
    renames = {SitePath.of_token(wish.path): typed_name(wish.name)}
    job_id, found = await editing.references.rename(account_id, site, wish.side, renames)
    return await plan_dialog(request, site, job_id, told=found.text)


@router.post("/plans/{job_id}/rename-hurting")
async def plan_rename_hurting(
    request: Request, job_id: Id, job: OwnPlan, sites: SitesDoor, plans: PlansDoor, editing: EditingDoor
) -> Response:
    """Names of an upload that will hurt get better ones here, first, with what refers to them; the upload is planned anew
    after that."""
    site = await sites.book.get(job.site_id)
    plan = await plans.reader.read(job_id, site, limit=1)
    renames = better_names(job.source_folder, [one.below for one in plan.hurting])
    new_id, found = await editing.references.rename(job.account_id, site, SideName.HERE, renames)
    await plans.jobs.discard(job.id)
    return await plan_dialog(request, site, new_id, told=f"{found.text} Upload them once they are renamed.")


@router.post("/plans/{job_id}/in-place")
async def plan_in_place(request: Request, job_id: Id, job: OwnPlan, sites: SitesDoor) -> Response:
    """Let files be overwritten in place on this plan's site from now on, and show the plan as it is then."""
    await sites.book.allow_in_place(job.site_id)
    return await plan_dialog(request, await sites.book.get(job.site_id), job_id)


@router.get("/plans/{job_id}/references")
async def plan_references(
    request: Request, job_id: Id, job: OwnPlan, sites: SitesDoor, plans: PlansDoor, editing: EditingDoor
) -> Response:
    """What refers to the names that a plan removes or moves away."""
    site = await sites.book.get(job.site_id)
    items = await plans.jobs.items(job_id, limit=_MOST_ASKED)
    away = [item.source for item in items if item.action in (Action.REMOVE, Action.REMOVE_FOLDER, Action.MOVE)]
    tops = [path for path in away if path.parent not in away]
    try:
        found = await editing.references.to(site, job.to_side, tops)
    except NailerError as error:
        return render(request, "plans/_references.html", found=None, why_not=error.what)
    return render(request, "plans/_references.html", found=found, why_not="")


@router.get("/plans/{job_id}/room")
async def plan_room(request: Request, job: OwnPlan, sites: SitesDoor, plans: PlansDoor) -> Response:
    """The room for a plan in a package whose size a person gave."""
    found = await plans.room.reckon(await sites.book.get(job.site_id), job)
    return render(request, "plans/_plan-room.html", plan=found.plan, in_package=found, Fit=Fit)


@router.get("/plans/{job_id}/known")
async def plan_known(request: Request, job_id: Id, job: OwnPlan, sites: SitesDoor, plans: PlansDoor) -> Response:
    """What else knows what a plan removes, and whether its name must be typed."""
    known = await plans.removal.known(job, await sites.book.get(job.site_id))
    return render(request, "plans/_known.html", known=known)


@router.get("/plans/{job_id}/differences/{item_id}")
async def plan_differences(
    request: Request, job_id: Id, job: OwnPlan, item_id: Id, sites: SitesDoor, files: FilesDoor, plans: PlansDoor
) -> Response:
    """What one step of a plan would change, line by line."""
    site = await sites.book.get(job.site_id)
    compared = await files.contents.item(job, site, await plans.jobs.item(job_id, item_id))
    return render(request, "shell/_differences.html", compared=compared, sides=None)


@router.post("/jobs/{job_id}/plans/take-back")
async def plan_take_back(
    request: Request, job_id: Id, sites: SitesDoor, plans: PlansDoor, session: SignedIn
) -> Response:
    """A plan that takes a whole job back."""
    new_id = await plans.take_back.take_job_back(session.account_id, job_id)
    job = await plans.jobs.get(new_id)
    return await plan_dialog(request, await sites.book.get(job.site_id), new_id)


@router.post("/plans/{job_id}/carry-out")
async def carry_out(
    request: Request,
    job_id: Id,
    job: OwnPlan,
    wish: CarryOutWish,
    sites: SitesDoor,
    plans: PlansDoor,
) -> Response:
    """Let the plan become a job. JSON: the job."""
    site = await sites.book.get(job.site_id)
    await plans.confirming.carry_out(job, site, wish.answers, typed=wish.typed, opens_guarded=wish.guarded_confirmed)
    return JSONResponse({"job": job_id})


@router.post("/plans/{job_id}/leave-out")
async def leave_out(
    request: Request,
    job_id: Id,
    job: OwnPlan,
    wish: LeaveOutWish,
    sites: SitesDoor,
    files: FilesDoor,
    plans: PlansDoor,
) -> Response:
    """Leave what was pointed out out of a plan; the plan is shown anew."""
    site = await sites.book.get(job.site_id)
    plan = await plans.reader.read(job_id, site, limit=1)
    doubts = plan.private if wish.what == "private" else plan.hurting
    if wish.as_sieve and doubts:
        await files.sieves.hold_back(site, job.target_folder, doubts)
        files.browse.redraw(site.id)
    await plans.make.leave_out(job_id, doubts)
    return await plan_dialog(request, site, job_id)


@router.post("/plans/{job_id}/put-away")
async def put_away(request: Request, job: OwnPlan, sites: SitesDoor, plans: PlansDoor) -> Response:
    """Forget a plan that was read, with what was unpacked for it."""
    await plans.jobs.discard(job.id)
    if QueryValues(request).text("keep") != "1":
        await plans.server.clear(await sites.book.get(job.site_id), job.source_folder)
    return JSONResponse({"ok": True})


def _written(found: Summary) -> str:
    """`1 renamed, 7 changed`: what a plan of prepared contents does."""
    changed = found.replaced + found.replaced_newer
    return ", ".join([*([f"{found.new} renamed"] if found.new else []), *([f"{changed} changed"] if changed else [])])


def _meets(item: Item) -> bool:
    """True for a file that meets another where it lands."""
    meets = (Verdict.REPLACES, Verdict.REPLACES_NEWER, Verdict.BOTH_CHANGED)
    return item.verdict in meets and item.action is Action.TRANSFER


def _comparable(job: Job, item: Item) -> bool:
    """True for a step that replaces one text by another."""
    replaces = _meets(item)
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
    files, plans = files_of(request), plans_of(request)
    plan: PlanToRead = await plans.reader.read(job_id, site)
    job, found = plan.job, plan.summary
    locked = [folder for folder in plan.guarded if files.guarded.is_locked(job.account_id, site, folder)]
    target = job.target_folder
    address = address_of(target, site.document_roots, is_folder=True) if job.to_side is SideName.THERE else None
    carries = found.bytes_to_transfer or job.kind in _DECIDED
    takes_s = await plans.speeds.seconds(site.id, job.to_side, found.acts, found.bytes_to_transfer) if carries else None
    return render(
        request,
        "plans/_plan.html",
        takes_s=takes_s,
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
        decides=lambda item: _meets(item) and job.kind in _DECIDED,
        can_rename=job.kind is JobKind.TRANSFER and job.to_side is SideName.THERE,
        asks_lacking=checks_of(request).lacking.asks(site, job),
        asks_references=job.kind in (JobKind.REMOVE, JobKind.MOVE) and staged is None,
        private_text=doubts_text(plan.private),
        hurting_text=doubts_text(plan.hurting),
        Fit=Fit,
        in_package=None,
        reckons_room=plans.room.reckons(site, job),
        address=address,
        is_drop=job.kind is JobKind.DROP,
        is_removal=job.kind is JobKind.REMOVE,
        is_take_back=job.kind is JobKind.TAKE_BACK,
        verb={JobKind.COPY: "Copy", JobKind.MOVE: "Move", JobKind.WRITE: "Change"}.get(job.kind, ""),
        more=plan.more,
    )
