"""What a device needs to keep Nailer as an application, and to say that it is offline."""

from __future__ import annotations

import functools

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.web.shell import urls
from nailer.web.shell.pages import render, static_folder

router = APIRouter()


@functools.cache
def _worker() -> bytes:
    return (static_folder().parent / "scripts" / "worker.js").read_bytes()


@router.get(urls.MANIFEST)
async def manifest() -> Response:
    """What a device needs to install Nailer (W3C Web Application Manifest)."""
    icons = [
        {
            "src": urls.asset(f"icon-{size}.png"),
            "sizes": f"{size}x{size}",
            "type": "image/png",
            "purpose": "any maskable",
        }
        for size in (192, 512)
    ]
    about = {"name": "Nailer", "short_name": "Nailer", "start_url": "/", "scope": "/", "display": "standalone"}
    colours = {"background_color": "#f6f4ee", "theme_color": "#1d2a30"}
    return JSONResponse(about | colours | {"icons": icons}, media_type="application/manifest+json")


@router.get(urls.WORKER)
async def worker() -> Response:
    """The script that answers for pages while the device is offline; from the top, so that it may answer for all."""
    return Response(_worker(), media_type="text/javascript")


@router.get(urls.OFFLINE)
async def offline(request: Request) -> Response:
    """What is said then."""
    return render(request, "shell/offline.html")
