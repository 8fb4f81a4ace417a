"""A page with every element in every state: for those who build Nailer, and for the tests that look at it."""

from __future__ import annotations

from datetime import UTC, datetime

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import Response

from nailer.core.compare.joint import Joint, Standing
from nailer.core.compare.ledger import LedgerRow
from nailer.core.files.entry import Entry, Kind, Stamp
from nailer.core.jobs.states import JobState
from nailer.errors import every_error
from nailer.web.shell.doors import TheSettings
from nailer.web.shell.pages import render
from nailer.web.shell.show import shown_row

router = APIRouter()


@router.get("/patterns")
async def patterns_page(request: Request, settings: TheSettings) -> Response:
    """Every element in every state."""
    now = datetime.now(UTC)
    stamp = Stamp.seconds(int(now.timestamp()) - 4000)
    names = [b"index.html", b"two\nlines.txt", b"caf\xe9.html", b"<b>bold</b>.html", b"old-site.zip", b"site.css", b"a"]
    rows = []
    for name, joint in zip(names, Joint, strict=True):
        entry = Entry(name, Kind.FILE, 9100, stamp, 0o644)
        here = None if joint is Joint.ONLY_THERE else entry
        there = None if joint is Joint.ONLY_HERE else entry
        row = LedgerRow(name, here, there, Standing(joint, "as an example"))
        rows.append(shown_row(row, now, settings.zone))
    kinds = sorted(every_error(), key=lambda kind: kind.__name__)
    return render(request, "shell/patterns.html", rows=rows, states=list(JobState), kinds=kinds)
