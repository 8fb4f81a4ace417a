"""A web server for the stand-ins' sites: each document root at its own loopback address, permissions as on a real host.

What the account made unreadable answers 403; a script in `cgi-bin` is really run. A cache may stand in front: it holds
styles for a while, lets go of them when asked (POST /.purge), and is passed by with no-cache.
"""

from __future__ import annotations

import asyncio
import html
import mimetypes
import os
import re
import stat
import subprocess
import time
from collections.abc import Awaitable, Callable, Collection, MutableMapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import formatdate
from pathlib import Path
from typing import Any
from urllib.parse import quote

from starlette.requests import Request
from starlette.responses import HTMLResponse, RedirectResponse, Response

_SCRIPT_WITHIN_S = 10.0
_INDEXES = ("index.html", "index.htm")

Scope = MutableMapping[str, Any]


class Pages:
    """An ASGI application: document roots by the address and port a request came to. What comes to a port that `leads_on`,
    or by a name with `www.`, is led to the encrypted address without it. A folder whose rules hold one of `refused_rules`
    answers 500, as where a host does not allow it."""

    def __init__(
        self,
        roots: dict[tuple[str, int], Path],
        *,
        held_s: dict[tuple[str, int], int] | None = None,
        leads_on: Collection[tuple[str, int]] = (),
    ) -> None:
        self._roots = roots
        self._held_s = held_s or {}
        self._leads_on = leads_on
        self.refused_rules: tuple[str, ...] = ()
        self._held: dict[tuple[Any, str], tuple[float, bytes]] = {}

    def serve_all_from(self, folder: Path) -> None:
        """Every address gets what lies in a folder from now on, as after a move to another account."""
        self._roots = dict.fromkeys(self._roots, folder)

    async def __call__(
        self,
        scope: Scope,
        receive: Callable[[], Awaitable[Any]],
        send: Callable[[Any], Awaitable[None]],
    ) -> None:
        if scope["type"] != "http":
            return
        request = Request(scope, receive)
        place: tuple[str, int] = tuple(scope["server"])
        if place in self._leads_on or request.headers.get("host", "").startswith("www."):
            host = request.headers.get("host", "").removeprefix("www.")
            await RedirectResponse(f"https://{host}{request.url.path}", 301)(scope, receive, send)
            return
        root = self._roots[place]
        response = await asyncio.to_thread(self._find, root, request.url.path, scope["path"])
        if place in self._held_s and request.url.path == "/.purge":
            self._held.clear()
            response = Response("let go")
        elif place in self._held_s and isinstance(response, Response) and scope["path"].endswith(".css"):
            response = self._through_cache(place, request, response) if response.status_code == 200 else response
        if isinstance(response, Path):
            response = await _run(response, request, root.parent / "logs")
        await response(scope, receive, send)

    def _find(self, root: Path, shown: str, path: str) -> Response | Path:
        return _find(root, shown, path, self.refused_rules)

    def _through_cache(self, place: tuple[str, int], request: Request, response: Response) -> Response:
        """What a cache gives: its own copy while it is young enough, unless it is asked to pass by."""
        key, now_s = (place, str(request.url)), time.monotonic()
        at_s, body = self._held.get(key, (0.0, b""))
        keeps_s = self._held_s[place]
        if "no-cache" in request.headers.get("cache-control", ""):
            return response
        if key not in self._held or now_s - at_s > keeps_s:
            at_s, body = self._held[key] = (now_s, bytes(response.body))
        headers = {"Cache-Control": f"public, max-age={keeps_s}", "Age": str(int(now_s - at_s))}
        return Response(body, media_type="text/css", headers=headers)


def _find(root: Path, shown: str, path: str, refused: Sequence[str]) -> Response | Path:
    """What a path serves; a script's file where it is to be run."""
    names = [name for name in path.split("/") if name]
    if ".." in names:
        return _page(404, "Not found")
    file = root.joinpath(*names)
    try:
        if not _reachable(root, names):
            return _page(403, "Forbidden")
        rules = Rules.along(root, names)
        if any(one in rules.text for one in refused):
            return _page(500, "Internal server error: a rule is not allowed here")
        if rules.hides(names):
            return _page(404, "Not found")
        if file.is_dir():
            if not path.endswith("/"):
                return RedirectResponse(shown + "/", 301)
            index = next((file / name for name in rules.indexes if (file / name).is_file()), None)
            if index is None:
                return _listing(shown, file) if rules.lists else _page(403, "Forbidden: no index, and listings are off")
            file = index
        if rules.denies(file.name):
            return _page(403, "Forbidden by a rule")
        mode = file.stat().st_mode
    except (FileNotFoundError, NotADirectoryError):
        return _page(404, "Not found")
    if names[:1] == ["cgi-bin"]:
        return file if mode & stat.S_IXOTH else _page(403, "Forbidden: this script may not run")
    if not mode & stat.S_IROTH:
        return _page(403, "Forbidden")
    kind = mimetypes.guess_type(file.name)[0] or "application/octet-stream"
    return _whole(file, kind)


def _whole(file: Path, kind: str) -> Response:
    """A file as it is at one moment: one that is replaced meanwhile is sent whole all the same."""
    with file.open("rb") as opened:
        found = os.fstat(opened.fileno())
        body = opened.read()
    tag = f'"{found.st_mtime_ns:x}-{found.st_size:x}"'
    return Response(body, 200, {"Last-Modified": formatdate(found.st_mtime, usegmt=True), "ETag": tag}, kind)


@dataclass(frozen=True, slots=True)
class Rules:
    """What the `.htaccess` files on the way to a path say, as far as this server heeds them: `Options -Indexes`,
    `DirectoryIndex`, `<FilesMatch>` with `Require all denied`, `RedirectMatch 404`. Without one, folders are listed."""

    lists: bool = True
    indexes: tuple[str, ...] = _INDEXES
    denied: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()
    text: str = ""

    @classmethod
    def along(cls, root: Path, names: list[str]) -> Rules:
        """The rules of the document root and each folder below it, the deepest last."""
        found, folder = cls(), root
        for name in ["", *names]:
            folder = folder / name if name else folder
            if (folder / ".htaccess").is_file():
                found = found._with((folder / ".htaccess").read_text("utf-8", "replace"))
        return found

    def denies(self, name: str) -> bool:
        """True for a file that nobody gets; the rules themselves are none's."""
        return name == ".htaccess" or any(re.search(one, name) for one in self.denied)

    def hides(self, names: list[str]) -> bool:
        """True for an address that is answered as if nothing were there."""
        return any(re.search(one, "/" + "/".join(names)) for one in self.hidden)

    def _with(self, text: str) -> Rules:
        indexes = re.search(r"^\s*DirectoryIndex\s+(.+)$", text, re.M)
        blocks = re.findall(r'<FilesMatch "([^"]+)">\s*Require all denied', text)
        return Rules(
            self.lists and not re.search(r"^\s*Options\s.*-Indexes", text, re.M),
            tuple(indexes[1].split()) if indexes else self.indexes,
            (*self.denied, *blocks),
            (*self.hidden, *re.findall(r'^\s*RedirectMatch 404 "([^"]+)"', text, re.M)),
            self.text + text,
        )


def _listing(shown: str, folder: Path) -> Response:
    names = sorted(one.name + ("/" if one.is_dir() else "") for one in folder.iterdir() if not one.name.startswith("."))
    rows = "".join(f'<li><a href="{quote(one)}">{html.escape(one)}</a></li>' for one in names)
    title = html.escape(f"Index of {shown}")
    return HTMLResponse(f"<!doctype html><title>{title}</title><h1>{title}</h1><ul>{rows}</ul>")


def _reachable(root: Path, names: list[str]) -> bool:
    """Every folder on the way may be entered by everyone."""
    folder = root
    for name in ["", *names[:-1]]:
        folder = folder / name if name else folder
        if not folder.stat().st_mode & stat.S_IXOTH:
            return False
    return True


def _log(folder: Path, client: str, text: str) -> None:
    """Write a line into the account's error log, where it has a folder for logs."""
    if folder.is_dir():
        stamp = datetime.now(UTC).strftime("%a %b %d %H:%M:%S.%f %Y")
        # As a host writes it: the account's home is a folder of the server, not of this machine.
        text = text.replace(os.fspath(folder.parent), f"/home/{folder.parent.name}")
        with (folder / "error.log").open("a") as log:
            log.write(f"[{stamp}] [cgi:error] [client {client}] {text}\n")


async def _run(script: Path, request: Request, logs: Path) -> Response:
    """What a script answers. Why one failed is in the log, not in the answer."""
    client = f"{request.client.host}:{request.client.port}" if request.client else "unknown"
    environment = {
        "PATH": "/usr/bin:/bin",
        "GATEWAY_INTERFACE": "CGI/1.1",
        "REQUEST_METHOD": request.method,
        "QUERY_STRING": request.url.query,
        "SCRIPT_NAME": request.url.path,
    }

    def _start() -> subprocess.CompletedProcess[bytes]:
        # Not by the event loop: a shell would run what has no first line there, and a web server has none.
        return subprocess.run(
            [script], cwd=script.parent, env=environment, capture_output=True, timeout=_SCRIPT_WITHIN_S, check=False
        )

    try:
        ended = await asyncio.to_thread(_start)
    except subprocess.TimeoutExpired:
        _log(logs, client, f"script timed out: {script}")
        return _page(500, "Internal server error: the script does not end")
    except OSError as error:
        _log(logs, client, f"script cannot be started, {error.strerror}: {script}")
        return _page(500, "Internal server error: the script cannot be started")
    for line in ended.stderr.decode("utf-8", "replace").splitlines():
        _log(logs, client, line)
    head, _, body = ended.stdout.replace(b"\r\n", b"\n").partition(b"\n\n")
    if ended.returncode or not head.lower().startswith(b"content-type:"):
        _log(logs, client, f"premature end of script headers: {script}")
        return _page(500, "Internal server error: the script failed, or sent no header")
    return Response(body, media_type=head.split(b"\n")[0].partition(b":")[2].strip().decode())


def _page(status: int, text: str) -> Response:
    return HTMLResponse(f"<!doctype html><title>{status}</title><h1>{status}</h1><p>{text}</p>", status)
