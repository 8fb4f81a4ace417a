"""The web application: routes, the guard before them, and errors as answers."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import structlog
from fastapi import FastAPI
from fastapi.exceptions import RequestValidationError
from pydantic import ValidationError
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import FileResponse, PlainTextResponse, RedirectResponse, Response

from nailer.app import Nailer
from nailer.errors import InvalidInput, NailerError, NotFound
from nailer.web.editing import checks, editor
from nailer.web.files import access, ledger, preview, search, sieves
from nailer.web.pairs import sync, timers
from nailer.web.people import session
from nailer.web.plans import changes, jobs, plans, uploads
from nailer.web.shell import patterns, urls
from nailer.web.shell.forms import reason_of
from nailer.web.shell.guard import Guard
from nailer.web.shell.pages import error_answer, make_environment, static_folder
from nailer.web.sites import adding, connection, identities, overview

_log = structlog.get_logger()
_FOREVER = "public, max-age=31536000, immutable"


def create_app(nailer: Nailer) -> FastAPI:
    """The application round a joined Nailer; starting and stopping the one starts and stops the other."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        await nailer.start()
        yield
        await nailer.stop()

    app = FastAPI(lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url=None)
    app.state.nailer = nailer
    app.state.templates = make_environment()
    app.add_middleware(Guard, nailer=nailer)
    for module in (
        session,
        adding,
        overview,
        connection,
        identities,
        ledger,
        plans,
        uploads,
        jobs,
        search,
        preview,
        editor,
        patterns,
        access,
        changes,
        checks,
        sync,
        sieves,
        timers,
    ):
        app.include_router(module.router)
    app.add_exception_handler(NailerError, _on_nailer_error)
    app.add_exception_handler(RequestValidationError, _on_invalid)
    app.add_exception_handler(ValidationError, _on_invalid)
    app.add_exception_handler(HTTPException, _on_http_error)
    app.add_exception_handler(Exception, _on_stranger)

    @app.get("/")
    async def start() -> Response:
        return RedirectResponse(urls.SITES, 303)

    @app.get("/health")
    async def health() -> Response:
        return PlainTextResponse("ok")

    @app.get("/static/{version}/{name:path}")
    async def static(version: str, name: str) -> Response:
        root = static_folder()
        file = (root / name).resolve()
        if not file.is_relative_to(root) or not file.is_file():
            return PlainTextResponse("not found", 404)
        return FileResponse(file, headers={"Cache-Control": _FOREVER})

    return app


async def _on_nailer_error(request: Request, error: Exception) -> Response:
    if not isinstance(error, NailerError):
        raise error
    return error_answer(request, error)


async def _on_invalid(request: Request, error: Exception) -> Response:
    if isinstance(error, ValidationError):
        return error_answer(request, InvalidInput(reason_of(error)))
    return error_answer(request, InvalidInput("What was sent cannot be used."))


async def _on_http_error(request: Request, error: Exception) -> Response:
    return error_answer(request, NotFound("There is no such page."))


async def _on_stranger(request: Request, error: Exception) -> Response:
    _log.error("a request failed in a way nobody foresaw", path=request.url.path, exc_info=error)
    return error_answer(request, NailerError("Nailer itself failed. Its log says where; nothing was half-done."))
