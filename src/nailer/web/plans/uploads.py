"""What a browser sends: the files of a confirmed drop, each a stream of its own."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, name_token
from nailer.core.numbers import number_in
from nailer.errors import InvalidInput, NotFound
from nailer.services.plans import Staged
from nailer.web.plans.plans import plan_dialog
from nailer.web.shell.bodies import sent_bytes
from nailer.web.shell.doors import (
    FilesDoor,
    Id,
    PlansDoor,
    SignedIn,
    SitesDoor,
    TheSite,
    plans_of,
    session_of,
)
from nailer.web.shell.forms import QueryValues, UnpackThereWish, UnpackWish

router = APIRouter()


@router.post("/drops/{job_id}/begin")
async def begin(request: Request, job_id: Id, plans: PlansDoor) -> Response:
    """The files that are awaited, by their names below the folder they were dropped on (tokens joined by slashes)."""
    await _check_own(request, job_id)
    items = await plans.uploads.begin(job_id)
    awaited = {"/".join(name_token(name) for name in item.source.names): item.id for item in items}
    return JSONResponse({"items": awaited})


@router.put("/drops/{job_id}/items/{item_id}")
async def take(request: Request, job_id: Id, item_id: Id, plans: PlansDoor) -> Response:
    """One file's bytes, as they are. JSON: `problem` is null where it landed."""
    await _check_own(request, job_id)
    problem = await plans.uploads.take(job_id, item_id, sent_bytes(request))
    return JSONResponse({"problem": problem})


@router.head("/drops/{job_id}/items/{item_id}")
async def come(request: Request, job_id: Id, item_id: Id, plans: PlansDoor) -> Response:
    """How much of a large file has come in parts: `Upload-Offset`, in bytes."""
    await _check_own(request, job_id)
    return Response(status_code=204, headers=_offset(await plans.uploads.offset(job_id, item_id), is_whole=False))


@router.patch("/drops/{job_id}/items/{item_id}")
async def take_part(request: Request, job_id: Id, item_id: Id, plans: PlansDoor) -> Response:
    """A part of a large file, from `Upload-Offset` on; `Upload-Complete: ?1` says that it is the last. JSON: `problem` is
    null where nothing is in the way."""
    await _check_own(request, job_id)
    at = number_in(request.headers.get("upload-offset", ""))
    if at is None:
        raise InvalidInput("A part says where it begins: Upload-Offset is missing.")
    is_last = request.headers.get("upload-complete") == "?1"
    came, problem = await plans.uploads.take_part(job_id, item_id, at, sent_bytes(request), is_last=is_last)
    return JSONResponse({"problem": problem}, headers=_offset(came, is_whole=is_last))


def _offset(came: int, *, is_whole: bool) -> dict[str, str]:
    return {"Upload-Offset": str(came), "Upload-Complete": "?1" if is_whole else "?0"}


@router.put("/sites/{site_id}/archives")
async def take_archive(request: Request, site_id: Id, sites: SitesDoor, plans: PlansDoor) -> Response:
    """An archive's bytes, as they are. JSON: what is in it, for the plan that follows."""
    await sites.book.get(site_id)
    unpacked = await plans.archives.take(QueryValues(request).text("name"), sent_bytes(request))
    return JSONResponse(
        {
            "token": unpacked.token,
            "names": [name_token(name) for name in unpacked.names],
            "only_folder": name_token(unpacked.only_folder) if unpacked.only_folder is not None else None,
            "files": unpacked.files,
            "left": list(unpacked.left),
        }
    )


@router.post("/sites/{site_id}/plans/unpack")
async def plan_unpack(
    request: Request, wish: UnpackWish, site: TheSite, plans: PlansDoor, session: SignedIn
) -> Response:
    """A plan for what an archive holds."""
    job_id = await plans.unpacking.unpack(
        session.account_id,
        site,
        wish.to_side,
        SitePath.of_token(wish.folder),
        wish.unpacked,
        wish.name,
        without_top=wish.without_top,
    )
    return await plan_dialog(request, site, job_id, unpacked=wish.unpacked)


@router.post("/sites/{site_id}/plans/unpack-there")
async def plan_unpack_there(
    request: Request,
    site_id: Id,
    wish: UnpackThereWish,
    sites: SitesDoor,
    files: FilesDoor,
    plans: PlansDoor,
    session: SignedIn,
) -> Response:
    """Let the server unpack one of its archives, and plan what becomes of that."""
    site, account_id = await sites.book.get(site_id), session.account_id
    archive = wish.there_path.child(wish.raw_name)
    files.guarded.check(account_id, site, SideName.THERE, archive)
    if wish.staged is None:
        staged = await plans.server.unpack(site, archive)
    else:
        staged = Staged(SitePath.of_token(wish.staged), wish.files, wish.links)
    job_id = await plans.unpacking.unpacked_there(
        account_id, site, staged.folder, wish.there_path, archive.name.decode("utf-8", "replace"), wish.without_top
    )
    return await plan_dialog(request, site, job_id, staged=staged)


async def _check_own(request: Request, job_id: int) -> None:
    plans = plans_of(request)
    job = await plans.jobs.get(job_id)
    if job.account_id != session_of(request).account_id:
        raise NotFound("These files were dropped by someone else.")
