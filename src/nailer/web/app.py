"""The web application: routes, the guard before them, and errors as answers."""

from __future__ import annotations

import functools
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

from fastapi import Depends, FastAPI
from fastapi.exceptions import RequestValidationError
from fastapi.openapi.utils import get_openapi
from pydantic import ValidationError
from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect, Request
from starlette.responses import PlainTextResponse, RedirectResponse, Response
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

from nailer.app import Nailer
from nailer.core.people.preferences import FirstPage
from nailer.errors import InvalidInput, NailerError, NoSuchMethod, NotFound
from nailer.web.api import routes as api
from nailer.web.checks import address, apart, broken, host, lacking, pictures, room
from nailer.web.checks import checks as site_checks
from nailer.web.editing import checks, editor
from nailer.web.files import ledger, opening, permissions, preview, search, sieves, tray
from nailer.web.help import handbook
from nailer.web.packages import copies as verified_copies
from nailer.web.packages import packages, recovery, replacements
from nailer.web.pairs import sync, timers
from nailer.web.people import account, people, preferences, session
from nailer.web.plans import changes, jobs, plans, uploads
from nailer.web.shell import device, earlier, patterns, urls
from nailer.web.shell.compress import Compress, accepted
from nailer.web.shell.doors import SignedIn, SitesDoor
from nailer.web.shell.forms import reason_of
from nailer.web.shell.guard import Guard
from nailer.web.shell.pages import error_answer, make_environment, static_folder
from nailer.web.shell.policy import ask
from nailer.web.sites import adding, connection, identities, listed, overview

# In this order: where two addresses could be meant, the first one is.
ROUTERS = tuple(
    module.router
    for module in (
        session,
        account,
        preferences,
        people,
        adding,
        listed,
        overview,
        connection,
        identities,
        ledger,
        opening,
        tray,
        plans,
        uploads,
        jobs,
        handbook,
        search,
        preview,
        editor,
        patterns,
        permissions,
        changes,
        checks,
        site_checks,
        room,
        lacking,
        address,
        pictures,
        broken,
        apart,
        host,
        packages,
        replacements,
        recovery,
        verified_copies,
        sync,
        sieves,
        timers,
        device,
        earlier,
        api,
    )
)
_SCRIPT = "text/javascript; charset=utf-8"
_FOREVER = "public, max-age=31536000, immutable"


def create_app(nailer: Nailer) -> FastAPI:
    """The application round a joined Nailer; starting and stopping the one starts and stops the other."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        await nailer.start()
        yield
        await nailer.stop()

    app = FastAPI(dependencies=[Depends(ask)], lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url=None)
    app.state.nailer = nailer
    app.state.templates = make_environment()
    app.add_middleware(Guard, nailer=nailer)
    app.add_middleware(Compress)
    for router in ROUTERS:
        app.include_router(router)
    app.add_exception_handler(NailerError, _on_nailer_error)
    app.add_exception_handler(RequestValidationError, _on_invalid)
    app.add_exception_handler(ValidationError, _on_invalid)
    app.add_exception_handler(HTTPException, _on_http_error)

    @app.get("/")
    async def start(sites: SitesDoor, session: SignedIn) -> Response:
        """The sites; for whoever has one only, its files at once."""
        theirs = [] if session.is_admin else await sites.book.all()
        if session.preferences.first_page is FirstPage.JOBS:
            return RedirectResponse(urls.JOBS, 303)
        if session.preferences.first_page is FirstPage.LAST and (last := await sites.book.last_opened()) is not None:
            return RedirectResponse(urls.files(last), 303)
        return RedirectResponse(urls.files(theirs[0]) if len(theirs) == 1 else urls.SITES, 303)

    @app.get("/health")
    async def health() -> Response:
        return PlainTextResponse("ok")

    app.mount("/static/{version}", _Static(directory=static_folder()))

    app.state.api_described = described
    return app


@functools.cache
def described() -> dict[str, Any]:
    """The API as OpenAPI 3.1, for programs and for the page that shows it; made when it is first asked for."""
    alone = FastAPI(docs_url=None, redoc_url=None, openapi_url=None)
    alone.include_router(api.router)
    schema = get_openapi(title="Nailer", version="1", description=api.__doc__ or "", routes=alone.routes)
    for acts in schema["paths"].values():
        for act in acts.values():
            for status, answer in act["responses"].items():
                if status.startswith(("4", "5")):
                    answer["content"] = {"application/problem+json": next(iter(answer["content"].values()))}
    schema["components"]["securitySchemes"] = {"token": {"type": "http", "scheme": "bearer"}}
    schema["security"] = [{"token": []}]
    return schema


async def _on_nailer_error(request: Request, error: Exception) -> Response:
    if not isinstance(error, NailerError):
        raise error
    return error_answer(request, error)


async def _on_invalid(request: Request, error: Exception) -> Response:
    if isinstance(error, ValidationError):
        return error_answer(request, InvalidInput(reason_of(error)))
    if not isinstance(error, RequestValidationError):
        raise error
    wrong = [(str(one["loc"][0]), ".".join(map(str, one["loc"][1:])), one["msg"]) for one in error.errors()]
    if any(where == "path" for where, _, _ in wrong):
        return error_answer(request, NotFound("Page not found."))
    fields = {name or where: said for where, name, said in wrong}
    what = "; ".join(f"{name}: {said}" for name, said in fields.items())
    return error_answer(request, InvalidInput(f"The request is not valid. {what}", fields=fields))


async def _on_http_error(request: Request, error: Exception) -> Response:
    if isinstance(error.__cause__, NailerError | ClientDisconnect):
        raise error.__cause__  # raised while the body was read; the framework took it for a bad body
    status = error.status_code if isinstance(error, HTTPException) else 404
    if status == 405:
        return error_answer(request, NoSuchMethod("This address does not support this type of request."))
    if status == 400:
        return error_answer(request, InvalidInput("The request could not be read."))
    return error_answer(request, NotFound("Page not found."))


class _Static(StaticFiles):
    """What ships with Nailer. The version is in the address, so a browser asks once. Built scripts and styles are stored
    compressed beside the plain ones."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        """A file, in the smallest form that the browser takes."""
        taken = accepted(Headers(scope=scope).get("accept-encoding", "")) if path.endswith((".js", ".css")) else set()
        for name, ending in (("br", ".br"), ("gzip", ".gz")):
            if name in taken and path.startswith("vendor/"):
                response = await super().get_response(path + ending, scope)
                response.headers["Content-Encoding"] = name
                response.headers["Content-Type"] = "text/css; charset=utf-8" if path.endswith(".css") else _SCRIPT
                response.headers["Vary"] = "Accept-Encoding"
                return response
        return await super().get_response(path, scope)

    def file_response(self, *given: Any, **more: Any) -> Response:
        """A file, or that the browser has it already."""
        response = super().file_response(*given, **more)
        response.headers["Cache-Control"] = _FOREVER
        return response
