"""A small page of the demo: its servers, their sign-ins, letters to try, and faults that can be switched on."""

from __future__ import annotations

import html
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from email.message import Message
from pathlib import Path
from urllib.parse import parse_qs

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import HTMLResponse, RedirectResponse, Response
from starlette.routing import Route

from nailer.standins.faults import CutAfter, CutsListings, Full, Healthy, RefusesEverybody, RenamesNothing, Slow
from nailer.standins.ftp import FtpHost
from nailer.standins.mail import MailHost
from nailer.standins.sftp import SftpHost

FAULTS: dict[str, tuple[str, Callable[[], Healthy]]] = {
    "healthy": ("none", Healthy),
    "slow": ("slow: each answer takes 0.2 s", lambda: Slow(0.2)),
    "cut": ("closes the connection once after 300 kB", lambda: CutAfter(300_000)),
    "full": ("disk full after 50 kB more", lambda: Full(50_000)),
    "refuses": ("refuses to sign anyone in", RefusesEverybody),
    "cuts": ("FTP: ends each listing after three names", CutsListings),
    "renames": ("FTP: refuses to rename files", RenamesNothing),
}

_STYLE = (
    "body{font:15px/1.5 system-ui,sans-serif;max-width:900px;margin:2rem auto;padding:0 1rem;color:#1a252c;background:#f6f4ef}"
    "table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:.4rem .6rem;border-bottom:1px solid #cbc4b5;vertical-align:top}"
    "textarea{width:100%;font:13px ui-monospace,monospace}code{font:13px ui-monospace,monospace}"
)


@dataclass
class Shown:
    """A server on the page: the name it is known by, how to sign in, and what is special about it."""

    server: str
    sign_in: str
    about: str
    host: FtpHost | SftpHost
    change_key: Callable[[], Awaitable[None]] | None = None
    fault: str = "healthy"


def make_desk(servers: dict[str, Shown], letters: list[Path], mail: MailHost) -> Starlette:
    """The page as an application of its own."""

    async def _page(request: Request) -> Response:
        rows = "".join(_row(name, one) for name, one in servers.items())
        texts = "".join(
            f"<h3>{html.escape(file.stem)}</h3><textarea rows=12 readonly>{html.escape(file.read_text())}</textarea>"
            for file in letters
        )
        body = (
            "<h1>The demo's hosting servers</h1><p>These small servers run on Nailer's machine, for the demo only. A fault stays until you choose another.</p>"
            f"<table><tr><th>Server</th><th>Sign-in</th><th>What is special</th><th>Fault</th></tr>{rows}</table>"
            f"<h2>Email received</h2>{''.join(map(_letter, reversed(mail.letters))) or '<p>None yet.</p>'}"
            f"<h2>Letters to paste into “Add a site”</h2>{texts}"
        )
        text = f"<!doctype html><html lang=en><meta charset=utf-8><link rel=icon href='data:,'><title>The demo's servers</title><style>{_STYLE}</style>{body}"
        return HTMLResponse(text)

    async def _switch(request: Request) -> Response:
        if request.headers.get("origin", "").partition("://")[2] != request.headers.get("host"):
            return HTMLResponse("This request came from another page.", 403)
        form = {key: values[-1] for key, values in parse_qs((await request.body()).decode()).items()}
        one, fault = servers.get(form.get("server", "")), form.get("fault", "")
        if one is not None and fault == "key" and one.change_key is not None:
            await one.change_key()
        elif one is not None and fault in FAULTS:
            one.fault = fault
            one.host.fault = FAULTS[fault][1]()
        return RedirectResponse("/", 303)

    return Starlette(routes=[Route("/", _page), Route("/", _switch, methods=["POST"])])


def _letter(letter: Message) -> str:
    heads = " ".join(f"{name}: {html.escape(str(letter[name]))}." for name in ("From", "To", "Subject"))
    return f"<h3>{heads}</h3><textarea rows=6 readonly>{html.escape(str(letter.get_payload()))}</textarea>"


def _row(name: str, one: Shown) -> str:
    options = "".join(
        f"<option value={key}{' selected' if key == one.fault else ''}>{html.escape(words)}</option>"
        for key, (words, _) in FAULTS.items()
    )
    if one.change_key is not None:
        options += "<option value=key>change the host key now</option>"
    form = (
        f"<form method=post><input type=hidden name=server value='{html.escape(name)}'>"
        f"<select name=fault aria-label='Fault of {html.escape(one.server)}'>{options}</select> <button>Set fault</button></form>"
    )
    return (
        f"<tr><td><code>{html.escape(one.server)}</code></td><td><code>{html.escape(one.sign_in)}</code></td>"
        f"<td>{html.escape(one.about)}</td><td>{form}</td></tr>"
    )
