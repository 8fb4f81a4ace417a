"""Who may ask for which page: one table, read before every route. What is not in it is for who runs Nailer alone.

It says what somebody may do, on which site. Where they may do it, in which folders, is held below the pages: by the stores
(`nailer.acting`) and by the sides (`nailer.sides.confined`).
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Any

from starlette.requests import Request

from nailer.acting import need, need_admin
from nailer.core.files.sitepath import SitePath
from nailer.core.numbers import number_in
from nailer.core.people.rights import Right, right_for
from nailer.errors import InvalidInput, NotFound
from nailer.web.shell import urls
from nailer.web.shell.doors import editing_of, files_of, pairs_of, people_of, plans_of, session_of
from nailer.web.shell.forms import QueryValues

Asks = Callable[[Request], Awaitable[None]]


def _on_site(right: Right) -> Asks:
    """A right on the site that the address names."""

    async def _ask(request: Request) -> None:
        site_id = _number(request, "site_id")
        need(right, site_id)
        people_of(request).presence.saw(site_id, _folder_there(request))

    return _ask


def _folder_there(request: Request) -> SitePath | None:
    """The folder there that the files view is asked for."""
    try:
        return QueryValues(request).path("there")
    except InvalidInput:
        return None  # the route says what is wrong with it


def _on_job(right: Right | None = None) -> Asks:
    """A job that is theirs to see, and a right on its site; None for what the job itself needs."""

    async def _ask(request: Request) -> None:
        job = await plans_of(request).jobs.get(_number(request, "job_id"))
        need(right or right_for(job.kind, job.to_side), job.site_id)

    return _ask


def _on_draft(right: Right) -> Asks:
    """A draft of their own, and a right on its site."""

    async def _ask(request: Request) -> None:
        account_id = session_of(request).account_id
        draft = await editing_of(request).drafts.own(account_id, _number(request, "draft_id"))
        need(right, draft.site_id)

    return _ask


async def _on_token_draft(request: Request) -> None:
    """A draft of whoever a program acts for, and the right to change its site."""
    token = getattr(request.state, "token", None)
    draft = await editing_of(request).drafts.own(token.account_id if token else 0, _number(request, "draft_id"))
    need(Right.CHANGE, draft.site_id)


async def _on_pair(request: Request) -> None:
    """A pair within their reach, and the right to sync."""
    need(Right.SYNC, (await pairs_of(request).book.get(_number(request, "pair_id"))).site_id)


async def _on_run(request: Request) -> None:
    run = await pairs_of(request).book.run(_number(request, "run_id"))
    need(Right.SYNC, (await pairs_of(request).book.get(run.pair_id)).site_id)


async def _on_sync_plan(request: Request) -> None:
    """A reading of a pair that they began."""
    plan = pairs_of(request).plans.plan(request.path_params["token"], session_of(request).account_id)
    need(Right.SYNC, plan.pair.site_id)


async def _on_timer(request: Request) -> None:
    need(Right.SYNC, (await pairs_of(request).timers.get(_number(request, "timer_id"))).site_id)


async def _on_permissions(request: Request) -> None:
    """A reading of permissions that they began."""
    reading = files_of(request).permissions.reading(request.path_params["token"], session_of(request).account_id)
    need(Right.PERMISSIONS, reading.site_id)


async def _own(request: Request) -> None:
    """For everybody who is signed in: the route shows them what is theirs."""


async def _anybody(request: Request) -> None:
    """Also for whoever is not signed in."""


def _number(request: Request, name: str) -> int:
    number = number_in(str(request.path_params.get(name, "")))
    if number is None:
        raise NotFound("Page not found.")
    return number


_LOOK, _CHANGE, _SYNC = _on_site(Right.LOOK), _on_site(Right.CHANGE), _on_site(Right.SYNC)
_DOWNLOAD, _PERMISSIONS = _on_site(Right.DOWNLOAD), _on_site(Right.PERMISSIONS)
_CONNECTION, _SETTINGS = _on_site(Right.CONNECTION), _on_site(Right.SETTINGS)
_JOB, _JOB_SEEN = _on_job(), _on_job(Right.LOOK)
_DRAFT = _on_draft(Right.CHANGE)

POLICY: dict[str, Asks] = {
    "GET /": _own,
    "GET /health": _anybody,
    "GET /manifest.webmanifest": _anybody,
    "GET /worker.js": _anybody,
    "GET /offline": _anybody,
    f"GET {urls.SIGN_IN}": _anybody,
    f"POST {urls.SIGN_IN}": _anybody,
    f"GET {urls.FIRST_ACCOUNT}": _anybody,
    f"POST {urls.FIRST_ACCOUNT}": _anybody,
    "GET /invited/{token}": _anybody,
    "POST /invited/{token}": _anybody,
    "POST /sign-out": _own,
    f"GET {urls.SECOND}": _own,
    f"POST {urls.SECOND}": _own,
    f"POST {urls.SECOND}/asked": _own,
    f"POST {urls.SECOND}/passkey": _own,
    f"GET {urls.CONFIRM}": _own,
    f"POST {urls.CONFIRM}": _own,
    "GET /account/preferences": _own,
    "POST /account/preferences": _own,
    "GET /account": _own,
    "GET /account/codes": _own,
    "POST /account/codes": _own,
    "POST /account/codes/forget": _own,
    "POST /account/passkeys/wanted": _own,
    "POST /account/passkeys": _own,
    "POST /account/passkeys/{passkey_id}/forget": _own,
    "POST /account/profile": _own,
    "POST /account/password": _own,
    "POST /account/sessions/end-others": _own,
    "POST /account/sessions/{session_id}/end": _own,
    "GET /events": _own,
    "GET /patterns": _own,
    # jobs and plans
    "GET /jobs": _own,
    "GET /jobs.csv": _own,
    "GET /jobs/limits": _own,
    "POST /jobs/when-done": _own,
    "GET /jobs/{job_id}": _JOB_SEEN,
    "GET /jobs/{job_id}/card": _JOB_SEEN,
    "GET /jobs/{job_id}/live": _JOB_SEEN,
    "POST /jobs/{job_id}/stop": _JOB,
    "POST /jobs/{job_id}/pause": _JOB,
    "POST /jobs/{job_id}/go-on": _JOB,
    "POST /jobs/{job_id}/up": _JOB,
    "POST /jobs/{job_id}/leave-out": _JOB,
    "POST /jobs/{job_id}/again": _JOB,
    "POST /jobs/{job_id}/in-place": _on_job(Right.SETTINGS),
    "POST /jobs/{job_id}/plans/take-back": _JOB,
    "POST /drops/{job_id}/begin": _JOB,
    "PUT /drops/{job_id}/items/{item_id}": _JOB,
    "HEAD /drops/{job_id}/items/{item_id}": _JOB,
    "PATCH /drops/{job_id}/items/{item_id}": _JOB,
    "POST /plans/{job_id}/rename-hurting": _JOB,
    "POST /plans/{job_id}/in-place": _on_job(Right.SETTINGS),
    "GET /plans/{job_id}/references": _JOB_SEEN,
    "GET /plans/{job_id}/lacking": _JOB_SEEN,
    "POST /plans/{job_id}/add-lacking": _JOB,
    "GET /plans/{job_id}/room": _JOB_SEEN,
    "GET /plans/{job_id}/known": _JOB_SEEN,
    "GET /plans/{job_id}/differences/{item_id}": _JOB_SEEN,
    "POST /plans/{job_id}/carry-out": _JOB,
    "POST /plans/{job_id}/leave-out": _JOB,
    "POST /plans/{job_id}/put-away": _JOB_SEEN,
    "PUT /sites/{site_id}/archives": _CHANGE,
    "POST /sites/{site_id}/plans/unpack": _CHANGE,
    "POST /sites/{site_id}/plans/unpack-there": _CHANGE,
    "POST /sites/{site_id}/plans/transfer": _LOOK,  # the plan itself asks for what its direction needs
    "POST /sites/{site_id}/plans/transfer-found": _LOOK,
    "POST /sites/{site_id}/plans/transfer-tray": _LOOK,
    "POST /sites/{site_id}/plans/remove": _on_site(Right.REMOVE),
    "POST /sites/{site_id}/plans/remove-found": _on_site(Right.REMOVE),
    "POST /sites/{site_id}/plans/copy-form": _CHANGE,
    "POST /sites/{site_id}/plans/copy": _CHANGE,
    "POST /sites/{site_id}/plans/drop": _CHANGE,
    "POST /sites/{site_id}/plans/rename": _CHANGE,
    # sites, as far as they are theirs
    "GET /sites": _own,
    "GET /finder": _own,
    "GET /connections": _own,
    "POST /sites/{site_id}/open": _LOOK,
    "POST /sites/{site_id}/answers": _LOOK,
    "POST /sites/{site_id}/disconnect": _CONNECTION,
    "GET /sites/{site_id}/files": _LOOK,
    "POST /sites/{site_id}/places": _LOOK,
    "POST /sites/{site_id}/places/forget": _LOOK,
    "POST /sites/{site_id}/guards": _LOOK,
    "GET /sites/{site_id}/complete": _LOOK,
    "GET /sites/{site_id}/ledger": _LOOK,
    "GET /sites/{site_id}/names": _LOOK,
    "POST /sites/{site_id}/roll-up": _LOOK,
    "GET /sites/{site_id}/tree": _LOOK,
    "POST /sites/{site_id}/inspect": _LOOK,
    "POST /sites/{site_id}/look": _LOOK,
    "GET /sites/{site_id}/look/raw": _LOOK,
    "GET /sites/{site_id}/search": _LOOK,
    "GET /sites/{site_id}/search/hits": _LOOK,
    "GET /sites/{site_id}/fetch": _DOWNLOAD,
    "POST /sites/{site_id}/pack": _CHANGE,
    "POST /sites/{site_id}/folders": _CHANGE,
    "POST /sites/{site_id}/folders/path": _CHANGE,
    "POST /sites/{site_id}/rename": _CHANGE,
    "POST /sites/{site_id}/tray": _LOOK,
    "POST /sites/{site_id}/tray/take-out": _LOOK,
    "POST /sites/{site_id}/tray/empty": _LOOK,
    "POST /sites/{site_id}/keep": _CHANGE,
    "POST /sites/{site_id}/let-go": _CHANGE,
    "POST /sites/{site_id}/leftovers": _CHANGE,
    "GET /sites/{site_id}/permissions": _PERMISSIONS,
    "POST /sites/{site_id}/permissions/one": _PERMISSIONS,
    "POST /permissions/{token}/preview": _on_permissions,
    "POST /permissions/{token}/carry-out": _on_permissions,
    "GET /permissions/read": _own,
    "GET /sites/{site_id}/connection": _CONNECTION,
    "GET /sites/{site_id}/connection-log": _CONNECTION,
    "GET /sites/{site_id}/settings": _SETTINGS,
    "POST /sites/{site_id}/settings": _SETTINGS,
    # what was changed
    "GET /sites/{site_id}/changes": _LOOK,
    "GET /sites/{site_id}/changes/{change_id}/difference": _LOOK,
    "POST /sites/{site_id}/changes/{change_id}/take-back": _CHANGE,
    "POST /sites/{site_id}/changes/{change_id}/plans/since": _CHANGE,
    # editing and checks
    "GET /drafts": _own,
    "GET /sites/{site_id}/edit": _CHANGE,
    "POST /sites/{site_id}/own-files": _CHANGE,
    "POST /own-files/{own_id}/{act}": _own,
    "POST /sites/{site_id}/new-file": _CHANGE,
    "POST /drafts/{draft_id}/text": _DRAFT,
    "POST /drafts/{draft_id}/save": _DRAFT,
    "GET /drafts/{draft_id}/merge": _DRAFT,
    "POST /drafts/{draft_id}/settle": _DRAFT,
    "POST /drafts/{draft_id}/as-new": _DRAFT,
    "POST /drafts/{draft_id}/store-as": _DRAFT,
    "POST /drafts/{draft_id}/close": _DRAFT,
    "POST /drafts/{draft_id}/check": _DRAFT,
    "GET /drafts/{draft_id}/beside": _DRAFT,
    "POST /drafts/{draft_id}/live": _DRAFT,
    "GET /drafts/{draft_id}/versions/{version}": _DRAFT,
    "GET /drafts/{draft_id}/compare/{one}/{other}": _DRAFT,
    "GET /sites/{site_id}/packages": _LOOK,
    "GET /sites/{site_id}/packages/list": _LOOK,
    "GET /sites/{site_id}/packages/search": _LOOK,
    "POST /sites/{site_id}/packages/search": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/go-on": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/give-up": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/set-aside": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/bring-back/{aside_id}": _on_site(Right.CHANGE),
    "GET /sites/{site_id}/recovery": _LOOK,
    "GET /sites/{site_id}/recovery/ways": _LOOK,
    "GET /sites/{site_id}/packages/scratch": _LOOK,
    "POST /sites/{site_id}/packages/scratch": _on_site(Right.REMOVE),
    "POST /sites/{site_id}/packages/scratch/{area_id}/longer": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/scratch/{area_id}/end": _on_site(Right.REMOVE),
    "GET /sites/{site_id}/packages/version": _LOOK,
    "PUT /sites/{site_id}/packages/replacements": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/here": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/elsewhere": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/removal": _on_site(Right.REMOVE),
    "GET /sites/{site_id}/packages/replacements/{number}": _LOOK,
    "GET /sites/{site_id}/packages/replacements/{number}/state": _LOOK,
    "POST /sites/{site_id}/packages/replacements/{number}/choose": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/{number}/in-place": _on_site(Right.CHANGE),
    "PUT /sites/{site_id}/packages/replacements/{number}/original": _on_site(Right.CHANGE),
    "GET /sites/{site_id}/packages/replacements/{number}/difference": _on_site(Right.DOWNLOAD),
    "GET /sites/{site_id}/packages/replacements/{number}/join": _on_site(Right.DOWNLOAD),
    "POST /sites/{site_id}/packages/replacements/{number}/joined": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/{number}/carry-out": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/{number}/back": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/{number}/go-on": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/{number}/reopen": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/packages/replacements/{number}/drop": _on_site(Right.CHANGE),
    "GET /sites/{site_id}/copies": _LOOK,
    "GET /sites/{site_id}/copies/list": _LOOK,
    "GET /sites/{site_id}/packages/copies": _LOOK,
    "GET /sites/{site_id}/access": _LOOK,
    "GET /sites/{site_id}/wire": _LOOK,
    "GET /sites/{site_id}/packages/copies/{copy_id}": _LOOK,
    "POST /sites/{site_id}/copies": _on_site(Right.DOWNLOAD),
    "GET /sites/{site_id}/copies/{copy_id}": _LOOK,
    "GET /sites/{site_id}/copies/{copy_id}/compared": _LOOK,
    "GET /sites/{site_id}/copies/{copy_id}/{form}": _on_site(Right.DOWNLOAD),
    "POST /sites/{site_id}/copies/{copy_id}/restore-to": _on_site(Right.DOWNLOAD),
    "POST /sites/{site_id}/copies/times": _on_site(Right.DOWNLOAD),
    "POST /sites/{site_id}/copies/times/{time_id}/drop": _on_site(Right.DOWNLOAD),
    "POST /sites/{site_id}/copies/{copy_id}/test-restore": _on_site(Right.DOWNLOAD),
    "POST /sites/{site_id}/copies/{copy_id}/drop": _on_site(Right.REMOVE),
    "POST /sites/{site_id}/copies/{copy_id}/restore": _on_site(Right.CHANGE),
    "GET /sites/{site_id}/checks": _LOOK,
    "GET /sites/{site_id}/checks/overview": _LOOK,
    "POST /sites/{site_id}/checks/read": _LOOK,
    "POST /sites/{site_id}/checks/give-up": _LOOK,
    "POST /sites/{site_id}/checks/mend": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/checks/ignore": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/checks/heed/{finding_id}": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/checks/time": _on_site(Right.SYNC),
    "GET /sites/{site_id}/checks/address": _LOOK,
    "GET /sites/{site_id}/checks/broken": _LOOK,
    "GET /sites/{site_id}/checks/host": _LOOK,
    "POST /sites/{site_id}/checks/try-scripts": _on_site(Right.CHANGE),
    "GET /sites/{site_id}/checks/broken/look": _LOOK,
    "POST /sites/{site_id}/checks/first-page": _on_site(Right.CHANGE),
    "GET /sites/{site_id}/checks/apart": _LOOK,
    "GET /sites/{site_id}/checks/apart/{token}": _LOOK,
    "GET /sites/{site_id}/checks/picture": _LOOK,
    "GET /sites/{site_id}/checks/picture/smaller": _LOOK,
    "POST /sites/{site_id}/checks/picture": _on_site(Right.CHANGE),
    "POST /sites/{site_id}/checks/prove": _on_site(Right.CHANGE),
    "GET /sites/{site_id}/checks/pages": _LOOK,
    "GET /sites/{site_id}/checks/alone": _LOOK,
    "POST /sites/{site_id}/checks/tray": _LOOK,
    "GET /sites/{site_id}/checks/room": _LOOK,
    "GET /sites/{site_id}/checks/room-small": _LOOK,
    "POST /sites/{site_id}/checks/savings": _on_site(Right.REMOVE),
    "GET /sites/{site_id}/checks/scripts": _LOOK,
    "GET /sites/{site_id}/checks/script": _LOOK,
    "GET /sites/{site_id}/checks/permissions": _LOOK,
    "POST /sites/{site_id}/checks/repair": _on_site(Right.PERMISSIONS),
    "POST /sites/{site_id}/live": _LOOK,
    "GET /sites/{site_id}/references": _LOOK,
    "GET /sites/{site_id}/old-address": _LOOK,
    "POST /sites/{site_id}/ways": _SETTINGS,
    # pairs and timers
    "GET /sites/{site_id}/sync": _SYNC,
    "POST /pairs/{pair_id}/ways": _on_pair,
    "POST /pairs/{pair_id}/read": _on_pair,
    "GET /sync/{token}/progress": _on_sync_plan,
    "GET /sync/{token}": _on_sync_plan,
    "POST /sync/{token}/wish": _on_sync_plan,
    "POST /sync/{token}/choose": _on_sync_plan,
    "POST /sync/{token}/anew": _on_sync_plan,
    "GET /sync/{token}/rows/{number}/difference": _on_sync_plan,
    "GET /sync/{token}/rows/{number}/merge": _on_sync_plan,
    "POST /sync/{token}/rows/{number}/merged": _on_sync_plan,
    "POST /sync/{token}/carry-out": _on_sync_plan,
    "POST /sync/{token}/let-go": _on_sync_plan,
    "GET /sites/{site_id}/sync/runs/{run_id}": _on_run,
    "POST /runs/{run_id}/plans/take-back": _on_run,
    "GET /timers": _own,
    "POST /timers/preview": _own,
    "POST /timers/{timer_id}": _on_timer,
    "POST /timers/{timer_id}/{act}": _on_timer,
    "GET /timers/{timer_id}/state": _on_timer,
    "GET /sieves": _own,
    f"GET {urls.HELP}": _own,
    f"GET {urls.HELP}/{{name}}": _own,
    f"GET {urls.HELP}/pictures/{{name}}": _own,
    "GET /account/tokens": _own,
    "POST /account/tokens": _own,
    "POST /account/tokens/{token_id}/revoke": _own,
    # what programs do: the same rights
    "GET /api/v1/openapi.json": _own,
    "GET /api/v1/sites": _own,
    "GET /api/v1/sites/{site_id}": _LOOK,
    "GET /api/v1/sites/{site_id}/entries": _LOOK,
    "GET /api/v1/sites/{site_id}/content": _DOWNLOAD,
    "POST /api/v1/sites/{site_id}/plans": _LOOK,
    "GET /api/v1/plans/{job_id}": _JOB_SEEN,
    "POST /api/v1/plans/{job_id}/carry-out": _JOB,
    "GET /api/v1/jobs": _own,
    "GET /api/v1/jobs/{job_id}": _JOB_SEEN,
    "GET /api/v1/jobs/{job_id}/items": _JOB_SEEN,
    "GET /api/v1/jobs/{job_id}/events": _JOB_SEEN,
    "POST /api/v1/jobs/{job_id}/{act}": _JOB,
    "POST /api/v1/jobs/{job_id}/plans/take-back": _JOB,
    "GET /api/v1/sites/{site_id}/changes": _LOOK,
    "POST /api/v1/sites/{site_id}/changes/{change_id}/take-back": _CHANGE,
    "GET /api/v1/sites/{site_id}/pairs": _SYNC,
    "POST /api/v1/pairs/{pair_id}/sync": _on_pair,
    "GET /api/v1/timers": _own,
    "POST /api/v1/timers/{timer_id}/run": _on_timer,
    "GET /api/v1/sieves": _own,
    "POST /api/v1/sync/{token_of_plan}/carry-out": _own,  # a plan of their own; its jobs ask once more
    "POST /api/v1/sites/{site_id}/live": _LOOK,
    "POST /api/v1/sites/{site_id}/edit": _CHANGE,
    "POST /api/v1/drafts/{draft_id}/save": _on_token_draft,
}


# What changes how somebody signs in, which programs act for them, or what people may do: who acts proves it once more.
# Those that ask for the password in their own form count as that themselves.
GATED = frozenset(
    {
        "POST /account/codes",
        "POST /account/passkeys/wanted",
        "POST /account/passkeys",
        "POST /account/tokens",
        "POST /people/invite",
        "POST /people/{account_id}/grants",
        "POST /people/{account_id}/standing",
        "POST /people/{account_id}/second",
    }
)


async def ask(request: Request) -> None:
    """Whether whoever acts may ask for this route. Raises NotFound for what is none of theirs, NotAllowed, ConfirmFirst."""
    route: Any = request.scope["route"]
    key = f"{request.method} {route.path}"
    asks = POLICY.get(key)
    if asks is None:
        need_admin()
    else:
        await asks(request)
    if key in GATED:
        people_of(request).gate.check(session_of(request))
