"""How long the files view takes to its first rows: a folder of many names beside one of a hundred, through the pages."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path

import httpx2

from bench.content import Sizes
from bench.servers import Server
from bench.through import Through
from nailer.store.sites import Site
from nailer.web.app import create_app

_NAME, _PASSWORD = "bench", "bench-and-count"
_PAGE = {"sec-fetch-site": "same-origin"}


def _fill(folder: Path, names: int) -> None:
    folder.mkdir()
    for number in range(names):
        (folder / f"leaf-{number:06}.html").write_bytes(b"leaf")


class Views:
    """A signed-in visitor of the files view; the folders are the same on both sides."""

    def __init__(self, through: Through, site: Site, server: Server) -> None:
        self._through = through
        self._site = site
        self._server = server
        self._visitor = httpx2.AsyncClient(
            transport=httpx2.ASGITransport(create_app(through.nailer)), base_url="http://127.0.0.1", timeout=120
        )

    async def sign_in(self) -> None:
        fields = {"name": _NAME, "password": _PASSWORD}
        answer = await self._visitor.post("/sign-in", data=fields, headers=_PAGE)
        if answer.status_code != 303:
            raise SystemExit(f"signing in answered {answer.status_code}: {answer.text[:200]}")

    async def folder(self, names: int) -> None:
        """Make a folder of so many names on both sides."""
        for side in (self._through.here, self._server.root):
            if not (side / f"view-{names}").exists():
                await asyncio.to_thread(_fill, side / f"view-{names}", names)

    async def first_rows(self, names: int, *, fresh: bool) -> float:
        """Seconds to the first rows; `fresh`: both sides are listed anew for it."""
        nailer, folder = self._through.nailer, b"view-%d" % names
        here, there = self._site.start_here.child(folder), self._site.start_there.child(folder)
        if fresh:
            nailer.files.browse.forget(self._site.id)
        started = time.perf_counter()
        answer = await self._visitor.get(
            f"/sites/{self._site.id}/ledger", params={"here": here.token, "there": there.token}, headers=_PAGE
        )
        took_s = time.perf_counter() - started
        if answer.status_code != 200 or "leaf-000000.html" not in answer.text:
            raise SystemExit(f"the files view answered {answer.status_code}: {answer.text[:300]}")
        return took_s

    async def close(self) -> None:
        await self._visitor.aclose()


async def measure(views: Views, sizes: Sizes) -> dict[str, object]:
    """Seconds to the first rows of folders of so many names, listed anew and known already; the best of five."""
    found: dict[str, object] = {"case": "files view"}
    for names in sizes.view_names:
        await views.folder(names)
        for fresh in (True, False):
            took = [await views.first_rows(names, fresh=fresh) for _ in range(5)]
            found[f"{names} {'anew' if fresh else 'known'}"] = round(min(took), 4)
    print(
        "first rows of the files view: "
        + ", ".join(f"{key} {value} s" for key, value in found.items() if key != "case")
    )
    return found
