"""The files view: ledger, tree, inspector; small changes; files to the person's own computer; the list of changes."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import aclosing
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response, StreamingResponse

from nailer.acting import grant_on
from nailer.core.compare.joint import Joint
from nailer.core.compare.ledger import LedgerRow, View
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, address_of, name_of_token, name_token, shown_name
from nailer.errors import NailerError
from nailer.services.files import Ledger, Tray, file_to_fetch, folders_like, mark_of, tarred, zipped
from nailer.services.packages import SeenPackage
from nailer.services.plans import Change
from nailer.services.sites import Site
from nailer.web.files.inspector import inspector_values
from nailer.web.files.links import Moves
from nailer.web.files.opening import belonging_of, folders_of, missing_values, pick_values, said_missing, typed_target
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    FilesDoor,
    Id,
    PlansDoor,
    SignedIn,
    SitesDoor,
    TheSite,
    checks_of,
    files_of,
    packages_of,
    plans_of,
    session_of,
    sites_of,
)
from nailer.web.shell.forms import (
    KeepWish,
    NewFolderWish,
    PackWish,
    PathWish,
    Picked,
    PinWish,
    QueryValues,
    RenameWish,
    read_form,
    typed_name,
)
from nailer.web.shell.headers import download_headers
from nailer.web.shell.pages import render, routed, zone_of
from nailer.web.shell.show import ShownLedgerRow, shown_row

router = APIRouter()

FIRST_ROWS = 200
_MOST_ROWS = 400


@router.get("/sites/{site_id}/files")
async def files_page(
    request: Request, site_id: Id, site: TheSite, sites: SitesDoor, files: FilesDoor, plans: PlansDoor
) -> Response:
    """The files view of two folders."""
    query = QueryValues(request)
    here, there = await folders_of(files, site, query)
    if query.text("go").strip() and (query.side("there") is SideName.HERE or sites.pool.is_open(site_id)):
        return RedirectResponse(await typed_target(files, site, here, there, query), 303)
    if not sites.pool.is_open(site_id):
        known = bool(await sites.connector.pinned(site))
        changed = (site.host, site.port) in sites.connector.changed
        return render(request, "shell/connecting.html", site=site, known=known, changed=changed, section="files")
    values = await _ledger_values(request, site, here, there, query.view(), fresh=query.text("fresh") == "1")
    ledger: Ledger = values["ledger"]
    if ledger.is_nowhere and (here, there) != (site.start_here, site.start_there):
        return RedirectResponse(said_missing(site, SideName.THERE, there), 303)
    values |= await missing_values(files, site, query) | pick_values(ledger, query)
    values["new_guards"] = await files.keeping.guard_what_the_host_owns(site)
    values["tree"] = await _tree_nodes(request, site, values["moves"])
    values["tree_root"] = values["moves"].root
    values["removed"] = await plans.changes.removed_in(site.id, SideName.THERE, there, 5)
    values["problem"] = query.text("problem")
    values["same_place"] = same = await files.browse.same_place(site, there)
    if same is not None and values["address"] is None:
        values["address"] = address = address_of(same, site.document_roots, is_folder=True)
        values["address_link"] = routed(request, address) if address else None
    values |= await _places(request, site, here, there, is_kept=ledger.together)
    return render(request, "files/files.html", rows=_window(values, ledger, 0, FIRST_ROWS), section="files", **values)


async def _places(request: Request, site: Site, here: SitePath, there: SitePath, *, is_kept: bool) -> dict[str, Any]:
    """Remember that the person is here (where the two folders belong together), and list where they were and what they
    pinned."""
    sites = sites_of(request)
    its_sites, account_id = sites.book, session_of(request).account_id
    if is_kept:
        await its_sites.visit(site.id, account_id, here, there)
    places = await its_sites.places(site.id, account_id)
    own = [place for place in places if (place.here, place.there) == (here, there)]
    recent = [place for place in places if not place.pinned and place not in own]
    return {
        "pinned_places": [place for place in places if place.pinned],
        "recent_places": recent[:5],
        "is_pinned": any(place.pinned for place in own),
    }


@router.post("/sites/{site_id}/places")
async def pin_place(request: Request, site_id: Id, wish: PinWish, sites: SitesDoor, session: SignedIn) -> Response:
    """Keep a folder pair among a person's places, or let it go."""
    here, there = SitePath.of_token(wish.here), SitePath.of_token(wish.there)
    await sites.book.pin_place(site_id, session.account_id, here, there, pinned=wish.pinned)
    return JSONResponse({"ok": True})


@router.post("/sites/{site_id}/places/forget")
async def forget_places(request: Request, site_id: Id, site: TheSite, sites: SitesDoor, session: SignedIn) -> Response:
    """Forget where the person was lately; what is pinned stays."""
    form = await read_form(request)
    await sites.book.forget_places(site_id, session.account_id)
    here, there = SitePath.of_token(form.get("here", "")), SitePath.of_token(form.get("there", ""))
    return RedirectResponse(urls.files(site, here, there), 303)


@router.post("/sites/{site_id}/guards")
async def guards(request: Request, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Open the guarded folders a path lies in for a while, or lock them again."""
    form = await read_form(request)
    here, there = SitePath.of_token(form.get("here", "")), SitePath.of_token(form.get("there", ""))
    act = files.guarded.lock if form.get("do") == "lock" else files.guarded.open
    act(session.account_id, site, there)
    return RedirectResponse(urls.files(site, here, there), 303)


@router.post("/sites/{site_id}/leftovers")
async def remove_leftovers(
    request: Request, site: TheSite, files: FilesDoor, plans: PlansDoor, session: SignedIn
) -> Response:
    """Remove the half files in a folder of a side that belong to no job."""
    form = await read_form(request)
    here, there = SitePath.of_token(form.get("here", "")), SitePath.of_token(form.get("there", ""))
    side = SideName.HERE if form.get("side") == "here" else SideName.THERE
    if side is SideName.THERE:
        files.guarded.check(session.account_id, site, side, there)
    await plans.leftovers.remove(site, side, here if side is SideName.HERE else there)
    return RedirectResponse(urls.files(site, here, there, fresh="1"), 303)


@router.get("/sites/{site_id}/complete")
async def complete(request: Request, site: TheSite, sites: SitesDoor, files: FilesDoor) -> Response:
    """Folders of a side that begin like a typed path."""
    query = QueryValues(request)
    above, _, begun = query.text("text").rpartition("/")
    folder = SitePath.parse(above.encode("utf-8", "surrogateescape"))
    side = query.side()
    try:
        is_reached = side is SideName.HERE or sites.pool.is_open(site.id)
        found = await folders_like(files.browse, site, side, folder, begun) if is_reached else []
    except NailerError:
        found = []  # a hint that cannot be given is no failure of what the person does
    return JSONResponse({"folders": [path.shown for path in found]})


@router.get("/sites/{site_id}/ledger")
async def ledger_rows(request: Request, site: TheSite) -> Response:
    """A window of rows. With `head=1` the chips and counts come too, for a changed view."""
    query = QueryValues(request)
    values = await _ledger_values(
        request, site, query.need_path("here"), query.need_path("there"), query.view(), fresh=False
    )
    offset = query.number("offset", 0)
    limit = query.number("limit", FIRST_ROWS, least=1, most=_MOST_ROWS)
    rows = _window(values, values["ledger"], offset, limit)
    template = "files/_ledger-whole.html" if query.text("head") else "files/_rows.html"
    return render(request, template, rows=rows, first=offset, **values)


@router.get("/sites/{site_id}/names")
async def ledger_names(request: Request, site: TheSite, files: FilesDoor) -> Response:
    """The names of rows `from` to `to` of a view (both included), for picking over more than is shown."""
    query = QueryValues(request)
    ledger = await files.browse.ledger(site, query.need_path("here"), query.need_path("there"), query.view())
    first, last = query.number("from", 0), query.number("to", 2**62)
    return JSONResponse([name_token(row.name) for row in ledger.shown[first : last + 1]])


@router.post("/sites/{site_id}/roll-up")
async def roll_up(request: Request, picked: Picked, site: TheSite, files: FilesDoor) -> Response:
    """Compare what lies inside the folders; `changed` says whether the page should look again."""
    changed = await files.browse.roll_up(site, picked.here_path, picked.there_path)
    return JSONResponse({"changed": changed})


@router.get("/sites/{site_id}/tree")
async def tree_branch(request: Request, site: TheSite, files: FilesDoor) -> Response:
    """The folders below one, as a fragment."""
    query = QueryValues(request)
    here, there = query.need_path("here"), query.need_path("there")
    nodes = [_branch(node, (), None) for node in await files.browse.tree(site, here, there)]
    return render(request, "files/_tree.html", site=site, nodes=nodes)


@router.post("/sites/{site_id}/inspect")
async def inspect(request: Request, picked: Picked, site: TheSite, files: FilesDoor) -> Response:
    """What is picked, what will happen to it, its permissions and its earlier copies."""
    ledger = await files.browse.ledger(site, picked.here_path, picked.there_path, View(hidden=True))
    wanted = set(picked.raw_names)
    rows = [row for row in ledger.rows if row.name in wanted]
    return render(request, "files/_inspector.html", **await inspector_values(request, site, ledger, rows))


@router.post("/sites/{site_id}/folders")
async def new_folder(
    request: Request, wish: NewFolderWish, site: TheSite, files: FilesDoor, session: SignedIn
) -> Response:
    """Make a folder at once."""
    account_id = session.account_id
    folder = SitePath.of_token(wish.folder)
    files.guarded.check(account_id, site, wish.side, folder)
    name = typed_name(wish.name)
    await files.change.make_folder(account_id, site, wish.side, folder, name)
    return JSONResponse({"ok": True, "pick": name_token(name)})


@router.post("/sites/{site_id}/rename")
async def rename(request: Request, wish: RenameWish, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Rename one name at once."""
    account_id = session.account_id
    path = SitePath.of_token(wish.path)
    files.guarded.check(account_id, site, wish.side, path)
    await files.change.rename(account_id, site, wish.side, path, typed_name(wish.name))
    return JSONResponse({"ok": True})


@router.post("/sites/{site_id}/keep")
async def keep(request: Request, wish: KeepWish, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Let nothing remove a file or folder, until a day, because of something."""
    mark = mark_of(wish.side, SitePath.of_token(wish.path), wish.until, wish.why)
    await files.keeping.keep(session.account_id, site, mark)
    return JSONResponse({"ok": True})


@router.post("/sites/{site_id}/let-go")
async def let_go(request: Request, wish: PathWish, site: TheSite, files: FilesDoor) -> Response:
    """Take a keep mark off."""
    await files.keeping.let_go(site, wish.side, SitePath.of_token(wish.path))
    return JSONResponse({"ok": True})


@router.post("/sites/{site_id}/pack")
async def pack(request: Request, wish: PackWish, site: TheSite, files: FilesDoor, session: SignedIn) -> Response:
    """Pack picked names into one archive beside them, here."""
    account_id = session.account_id
    await files.change.pack(account_id, site, wish.here_path, wish.raw_names, typed_name(wish.name))
    return JSONResponse({"ok": True})


@router.get("/sites/{site_id}/fetch")
async def fetch(request: Request, site: TheSite, files: FilesDoor) -> Response:
    """One file as it is, or with `names` several names of a folder as a zip (`as=tar`: a tar); always as a download,
    never shown."""
    query = QueryValues(request)
    side_name, path = query.side(), query.need_path("path")
    names = [name_of_token(token) for token in query.text("names").split("/") if token]
    as_tar = query.text("as") == "tar"
    pack = tarred if as_tar else zipped
    async with files.browse.side(site, side_name) as side:
        length = None if names else (await file_to_fetch(side, path)).size
        for name in names:
            await side.stat(path.child(name))

    async def _body() -> AsyncIterator[bytes]:
        # Entered only once it is sent: a visitor who leaves before that holds nothing.
        async with (
            files.browse.side(site, side_name) as side,
            aclosing(pack(side, path, names) if names else side.read(path)) as chunks,
        ):
            async for chunk in chunks:
                yield chunk

    ending = b".tar.gz" if as_tar else b".zip"
    headers = download_headers((path.name or b"files") + ending if names else path.name)
    if length is not None:
        headers["Content-Length"] = str(length)
    return StreamingResponse(_body(), headers=headers)


async def _ledger_values(
    request: Request, site: Site, here: SitePath, there: SitePath, view: View, *, fresh: bool
) -> dict[str, Any]:
    files, plans = files_of(request), plans_of(request)
    ledger = await files.browse.ledger(site, here, there, view, fresh=fresh)
    keep = {"hidden": "1"} if view.hidden else {}
    moves = _moves(request, site, here, there, keep, together=ledger.together)
    belonging = None if ledger.together else await belonging_of(files, site, here, there)
    address = address_of(there, site.document_roots, is_folder=True)
    lately = await plans.changes.lately_in(site.id, SideName.HERE, here)
    lately |= await plans.changes.lately_in(site.id, SideName.THERE, there)
    return {
        "site": site,
        "known": True,
        "lately": lately,
        "packages": await packages_of(request).book.in_folder(site, there),
        "tray": await files.tray.of(session_of(request).account_id, site),
        "ledger": ledger,
        "view": view,
        "here": here,
        "there": there,
        "moves": moves,
        "apart": moves.apart,
        "belonging": belonging,
        "address": address,
        "address_link": routed(request, address) if address else None,
        "counts": ledger.counts,
        "total": sum(ledger.counts.values()),
        "differ": sum(count for joint, count in ledger.counts.items() if joint not in (Joint.SAME, Joint.NOT_READ)),
        "shown_count": len(ledger.shown),
        "levels": _levels(ledger.rows),
        "zone": zone_of(request),
        "leftovers": {
            "here": await plans.leftovers.found(site, SideName.HERE, here, ledger.here_listing.parts),
            "there": await plans.leftovers.found(site, SideName.THERE, there, ledger.there_listing.parts),
        },
        "silent": await checks_of(request).addresses.silent_folder(site, there),
        "guard_left_s": files.guarded.left_s(session_of(request).account_id, site, there),
    }


@dataclass(frozen=True, slots=True)
class Levels:
    """What carrying all newer files of a folder would move, in bytes."""

    up: int
    down: int


def _levels(rows: list[LedgerRow]) -> Levels:
    up = sum(row.here.size for row in rows if row.here and row.standing.joint in (Joint.NEWER_HERE, Joint.ONLY_HERE))
    down = sum(
        row.there.size for row in rows if row.there and row.standing.joint in (Joint.NEWER_THERE, Joint.ONLY_THERE)
    )
    return Levels(up, down)


def _window(values: dict[str, Any], ledger: Ledger, offset: int, limit: int) -> list[ShownLedgerRow]:
    now = datetime.now(UTC)
    moves: Moves = values["moves"]
    lately: dict[bytes, Change] = values["lately"]
    tray: Tray = values["tray"]
    in_tray = tray.of_folder(ledger.here, ledger.there)
    packages: dict[bytes, SeenPackage] = values["packages"]
    return [
        shown_row(
            row,
            now,
            values["zone"],
            moves.opened(row) if row.opens_as_folder else "",
            lately.get(row.name),
            in_tray=row.name in in_tray,
            package=packages[row.name].version if row.name in packages and row.is_folder else "",
        )
        for row in ledger.shown[offset : offset + limit]
    ]


def _branch(node: Any, open_below: tuple[bytes, ...], children: Any) -> dict[str, Any]:
    return {
        "node": node,
        "name": shown_name(node.name),
        "link": shown_name(node.link) if node.link is not None else "",
        "current": not open_below and children is not None,
        "children": children,
    }


def _moves(
    request: Request, site: Site, here: SitePath, there: SitePath, keep: dict[str, str], *, together: bool = True
) -> Moves:
    grant = grant_on(site.id)
    is_part = grant is not None and not grant.is_whole
    apart = QueryValues(request).text("apart") == "1"
    return Moves(site, here, there, apart or not together, keep, is_part, grant is not None, not together)


async def _tree_nodes(request: Request, site: Site, moves: Moves) -> list[dict[str, Any]]:
    """The tree from the pair's highest common folder, opened down to where the person is."""
    files = files_of(request)
    top_here, top_there = moves.root
    below = moves.there.below(top_there) or ()

    async def _level(one: SitePath, other: SitePath, ahead: tuple[bytes, ...]) -> list[dict[str, Any]]:
        shown = []
        for node in await files.browse.tree(site, one, other):
            is_ahead = bool(ahead) and node.name == ahead[0]
            children = await _level(node.here, node.there, ahead[1:]) if is_ahead and node.link is None else None
            shown.append(_branch(node, ahead[1:] if is_ahead else (b"",), children))
        return shown

    return await _level(top_here, top_there, below)
