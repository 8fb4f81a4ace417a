"""The editor: one file at a time of those that are open, its draft, its versions, what visitors get of it."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from datetime import datetime
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Depends
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response

from nailer.bounded import bounded
from nailer.core.check.findings import reads_cleanly
from nailer.core.compare.contents import compared
from nailer.core.compare.merge import Merged
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, address_of, name_token, shown_name
from nailer.core.files.templates import new_text
from nailer.core.files.text import ENDS, TextForm, decoded, text_of
from nailer.core.numbers import number_in
from nailer.errors import FileMissing, InvalidInput, NotEditable, NotFound
from nailer.services.editing import Careful, Draft
from nailer.services.plans import Change
from nailer.services.sites import Site
from nailer.web.shell import urls
from nailer.web.shell.doors import (
    EditingDoor,
    FilesDoor,
    Id,
    PlansDoor,
    SignedIn,
    SitesDoor,
    TheSite,
    editing_of,
    files_of,
    packages_of,
    plans_of,
    session_of,
    sites_of,
)
from nailer.web.shell.forms import NewFileWish, OwnFileWish, QueryValues, SaveWish, StoreAsWish, TypedText, typed_name
from nailer.web.shell.pages import render, routed

router = APIRouter()


async def _own(request: Request, draft_id: Id) -> Draft:
    editing = editing_of(request)
    return await editing.drafts.own(session_of(request).account_id, draft_id)


OwnDraft = Annotated[Draft, Depends(_own)]

_LINE = re.compile(rb"(?P<name>.+):(?P<line>\d+)")
_MOST_VERSIONS = 30


@dataclass(frozen=True, slots=True)
class Version:
    """A content that went through Nailer and is kept: what replaced it and when, on which side."""

    change: Change
    until: datetime
    by: str


@router.get("/sites/{site_id}/edit")
async def editor_page(
    request: Request, site_id: Id, site: TheSite, editing: EditingDoor, session: SignedIn
) -> Response:
    """A file in the editor. A path that ends in `:218` opens at that line."""
    query = QueryValues(request)
    side, path, account_id = query.side(), query.need_path("path"), session.account_id
    try:
        opened = await editing.drafts.open(account_id, site, side, path)
    except FileMissing:
        found = _LINE.fullmatch(path.name)
        if found is None:
            raise
        return RedirectResponse(
            f"{urls.edit(site_id, side, path.parent.child(found['name']))}&line={found['line'].decode()}", 303
        )
    except NotEditable as error:
        return render(
            request,
            "editing/edit-not.html",
            200,
            site=site,
            side=side,
            path=path,
            why=error,
            known=True,
            section="files",
        )
    draft = opened.draft
    ways = await editing.saving.ways(site_id)
    files = await editing.drafts.open_files(account_id)
    return render(
        request,
        "editing/editor.html",
        site=site,
        known=True,
        section="files",
        opened=opened,
        draft=draft,
        name=shown_name(draft.path.name),
        files=[one for one in files if one.site_id == site_id],
        line=query.number("line", 0),
        find=query.text("find")[:500],
        compare="other" if query.text("compare") == "other" else "",
        ways=ways,
        kind=reads_cleanly(shown_name(draft.path.name)),
        ends=ENDS,
        state={"text": opened.text, "base": opened.base_text, "history": draft.history, "version": draft.version},
        **await _beside(request, site, draft),
    )


@router.get("/drafts")
async def drafts_page(request: Request, editing: EditingDoor, session: SignedIn) -> Response:
    """Every file that is open, those with unsaved changes first."""
    files = await editing.drafts.open_files(session.account_id)
    unsaved = [one for one in files if one.has_changes]
    rest = [one for one in files if not one.has_changes]
    own = editing.own.of_account(session.account_id)
    leaving = QueryValues(request).text("leaving") == "1"
    return render(request, "editing/drafts.html", unsaved=unsaved, rest=rest, own=own, leaving=leaving)


@router.post("/sites/{site_id}/own-files")
async def begin_own(
    request: Request, wish: OwnFileWish, site: TheSite, files: FilesDoor, editing: EditingDoor, session: SignedIn
) -> Response:
    """Bring a file here and watch it: the person edits it with a program of their own."""
    path = SitePath.of_token(wish.path)
    files.guarded.check(session.account_id, site, SideName.THERE, path)
    own = await editing.own.begin(session.account_id, site, path, sends=wish.sends)
    return JSONResponse({"place": os.fspath(files.here.on_disk(own.here)), "sends": own.sends})


@router.post("/own-files/{own_id}/{act}")
async def act_own(
    request: Request,
    own_id: Id,
    act: Literal["send", "sends", "offers", "let-go"],
    editing: EditingDoor,
    session: SignedIn,
) -> Response:
    """Send what was saved; send each save from now on, or offer it; or watch the file no longer."""
    own = await editing.own.get(session.account_id, own_id)
    if act == "send":
        own = await editing.own.send(own)
        return JSONResponse({"trouble": own.trouble})
    if act == "let-go":
        await editing.own.let_go(own)
    else:
        await editing.own.set_sends(own, sends=act == "sends")
    return JSONResponse({"trouble": ""})


@router.post("/sites/{site_id}/new-file")
async def new_file(
    request: Request, site_id: Id, wish: NewFileWish, site: TheSite, editing: EditingDoor, session: SignedIn
) -> Response:
    """A file from nothing, or from a small template: open in the editor, not yet saved."""
    name = typed_name(wish.name)
    path = SitePath.of_token(wish.folder).child(name)
    text = new_text(shown_name(name), wish.template)
    await editing.drafts.begin_new(session.account_id, site, wish.side, path, text)
    return JSONResponse({"href": urls.edit(site_id, wish.side, path)})


@router.post("/drafts/{draft_id}/text")
async def typed(request: Request, draft: OwnDraft, wish: TypedText, editing: EditingDoor) -> Response:
    """Remember what was typed. 409 where the page belongs to an older beginning."""
    if wish.based_on and wish.based_on != draft.version:
        # Another page of the same person saved it: this page's text belongs to another beginning.
        return JSONResponse({"has_changes": True, "stale": True, "version": draft.version})
    changed = await editing.drafts.type(draft, wish.text, wish.history)
    return JSONResponse({"has_changes": changed, "stale": False, "version": draft.version})


@router.post("/drafts/{draft_id}/save")
async def save(
    request: Request,
    draft_id: Id,
    draft: OwnDraft,
    wish: SaveWish,
    sites: SitesDoor,
    files: FilesDoor,
    editing: EditingDoor,
) -> Response:
    """Put the draft in its place. JSON says how that ended, and what a person may do."""
    site = await sites.book.get(draft.site_id)
    files.guarded.check(draft.account_id, site, draft.side, draft.path)
    if wish.based_on != draft.version:
        if wish.base is None:
            return JSONResponse({"stale": True, "done": False})
        draft = await editing.drafts.count_from(draft, wish.base, wish.text)
    else:
        await editing.drafts.type(draft, wish.text, wish.history)
        draft = await editing.drafts.own(draft.account_id, draft_id)
    ended = await editing.saving.save(draft, site, despite_errors=wish.despite_errors)
    version = (await editing.drafts.own(draft.account_id, draft_id)).version
    return JSONResponse(_told(ended, draft.form) | {"stale": False, "version": version})


@router.get("/drafts/{draft_id}/merge")
async def merge(
    request: Request, draft: OwnDraft, sites: SitesDoor, plans: PlansDoor, editing: EditingDoor
) -> Response:
    """Mine and theirs, joined where they can be; what touches the same lines side by side."""
    found, theirs = await editing.drafts.merge(draft, await sites.book.get(draft.site_id))
    others = await plans.changes.of_path(draft.site_id, draft.side, draft.path, 1)
    by = next((one.account_name for one in others if one.account_name), None)
    return render(
        request,
        "shell/_merge.html",
        name=draft.path.name,
        merged=found,
        pieces=pieces_of(found),
        theirs=theirs,
        by=by,
        words={"mine": "Yours", "theirs": "Theirs"},
        settle="Load into the editor",
        later="Nothing is written until you save.",
        take="Use their version, discard mine",
    )


@router.post("/drafts/{draft_id}/settle")
async def settle(
    request: Request, draft_id: Id, draft: OwnDraft, wish: TypedText, sites: SitesDoor, editing: EditingDoor
) -> Response:
    """The merge was decided. JSON: what is there now, which the draft counts from."""
    await editing.drafts.settle(draft, await sites.book.get(draft.site_id), wish.text)
    draft = await editing.drafts.own(draft.account_id, draft_id)
    base = (decoded(draft.base) or ("", draft.form))[0]
    return JSONResponse({"base": base, "form": draft.form.words, "version": draft.version})


@router.post("/drafts/{draft_id}/as-new")
async def as_new(request: Request, draft_id: Id, editing: EditingDoor) -> Response:
    """Let a draft whose file is gone become a new file."""
    await editing.drafts.as_new(await _own(request, draft_id))
    return JSONResponse({"ok": True, "version": (await _own(request, draft_id)).version})


@router.post("/drafts/{draft_id}/store-as")
async def store_as(
    request: Request, draft_id: Id, draft: OwnDraft, wish: StoreAsWish, editing: EditingDoor
) -> Response:
    """Store the file in another character set, or with other line ends."""
    form = TextForm(wish.encoding, wish.mark, wish.line_end)
    await editing.drafts.store_as(draft, form)
    return JSONResponse({"words": form.words, "version": (await _own(request, draft_id)).version})


@router.post("/drafts/{draft_id}/close")
async def close(request: Request, draft: OwnDraft, sites: SitesDoor, editing: EditingDoor) -> Response:
    """Close a file; what was not saved is let go. JSON: where to go from here."""
    await editing.drafts.drop(draft)
    rest = [one for one in await editing.drafts.open_files(draft.account_id) if one.site_id == draft.site_id]
    href = (
        urls.edit(draft.site_id, rest[-1].side, rest[-1].path)
        if rest
        else _folder(await sites.book.get(draft.site_id), draft)
    )
    return JSONResponse({"href": href})


@router.post("/drafts/{draft_id}/check")
async def check(request: Request, draft: OwnDraft, wish: TypedText, sites: SitesDoor, editing: EditingDoor) -> Response:
    """What is wrong in the text as it is typed now, by offsets, and who else has the file before them."""
    site = await sites.book.get(draft.site_id)
    found = await editing.saving.wrong(draft, wish.text)
    found += await editing.saving.missing(site, draft.side, draft.path, wish.text, draft.form)
    others = await editing.drafts.others(draft)
    return JSONResponse(
        {
            "findings": [
                {"from": one.start, "to": max(one.end, one.start + 1), "severity": one.weight, "message": one.what}
                for one in sorted(found, key=lambda one: one.start)
            ],
            "others": [f"{name} {'is changing it too' if changes else 'has it open'}" for name, changes in others],
        }
    )


@router.get("/drafts/{draft_id}/beside")
async def beside(request: Request, draft: OwnDraft, sites: SitesDoor) -> Response:
    """The versions, anew."""
    site = await sites.book.get(draft.site_id)
    return render(request, "editing/_versions.html", site=site, draft=draft, **await _beside(request, site, draft))


@router.post("/drafts/{draft_id}/live")
async def live(request: Request, draft: OwnDraft, sites: SitesDoor) -> Response:
    """What visitors get. The site's cache is asked to let it go first, where it has an address for that."""
    site = await sites.book.get(draft.site_id)
    return await live_answer(request, site, draft.path, purge=QueryValues(request).text("purge") == "1")


async def live_answer(request: Request, site: Site, path: SitePath, *, purge: bool) -> Response:
    """What visitors get of a file, as a fragment; with `purge` the site's cache is emptied first."""
    plans, editing = plans_of(request), editing_of(request)
    address = address_of(path, site.document_roots)
    if address is None:
        return render(
            request,
            "editing/_live.html",
            verdict=None,
            answers=[],
            address=None,
            link=None,
            purged="",
            can_purge=False,
        )
    ways = await editing.saving.ways(site.id)
    purged = await editing.live_check.purge(ways.purge_address, address) if purge and ways.purge_address else ""
    before = next((one.before_hash for one in await plans.changes.of_path(site.id, SideName.THERE, path, 1)), None)
    verdict, answers = await editing.live_check.of_file(site, path, before)
    return render(
        request,
        "editing/_live.html",
        verdict=verdict,
        answers=answers,
        address=address,
        link=routed(request, address),
        purged=purged,
        can_purge=bool(ways.purge_address),
    )


@router.get("/drafts/{draft_id}/versions/{version}")
async def version_text(request: Request, draft_id: Id, version: str) -> Response:
    """The text of an earlier version, of what is there now (`now`), or of the other side (`other`)."""
    text = text_of(await _version(request, await _own(request, draft_id), version))
    if text is None:
        raise NotEditable("That version is not a text file.")
    return JSONResponse({"text": text.replace("\r\n", "\n")})


@router.get("/drafts/{draft_id}/compare/{one}/{other}")
async def compare(request: Request, draft: OwnDraft, one: str, other: str) -> Response:
    """Any two versions, line by line."""
    found = await bounded(compared, await _version(request, draft, one), await _version(request, draft, other))
    return render(request, "shell/_differences.html", compared=found, sides=None)


async def _version(request: Request, draft: Draft, version: str) -> bytes:
    sites, files, plans = sites_of(request), files_of(request), plans_of(request)
    if version == "now":
        return draft.base
    if version == "draft":
        return draft.base if draft.text is None else draft.text.encode("utf-8")
    site = await sites.book.get(draft.site_id)
    if version == "other":
        other = site.counterpart(draft.side, draft.path)
        if other is None:
            raise NotFound("This file is outside the folders of the pair.")
        async with files.browse.side(site, draft.side.other) as side:
            return (await side.read_all(other))[1]
    number = number_in(version)
    if number is None:
        raise InvalidInput("This version does not exist.")
    change = await plans.changes.get(number)
    if change.site_id != draft.site_id or change.before_hash is None:
        raise NotFound("This version has been deleted.")
    return await plans.changes.content(change.before_hash)


async def _beside(request: Request, site: Site, draft: Draft) -> dict[str, Any]:
    """The versions of a file on both sides, newest first, and its place on the web."""
    files, plans, editing = files_of(request), plans_of(request), editing_of(request)
    other = site.counterpart(draft.side, draft.path)
    changes = await plans.changes.of_path(site.id, draft.side, draft.path, _MOST_VERSIONS)
    if other is not None:
        changes += await plans.changes.of_path(site.id, draft.side.other, other, _MOST_VERSIONS)
    kept = [one for one in changes if one.before_hash is not None]
    kept.sort(key=lambda one: one.at, reverse=True)
    versions = [Version(one, one.at, one.account_name or "Nailer") for one in kept[:_MOST_VERSIONS]]
    address = address_of(draft.path, site.document_roots) if draft.side is SideName.THERE else None
    has_other = False
    if other is not None:
        listing = await files.browse.listing(site, draft.side.other, other.parent, max_age_s=60)
        has_other = any(one.name == other.name and one.is_file for one in listing.entries)
    return {
        "versions": versions,
        "address": address,
        "address_link": routed(request, address) if address else None,
        "other": other if has_other else None,
        "in_package": await packages_of(request).book.around(site, draft.side, draft.path),
        "others": await editing.drafts.others(draft),
    }


def _folder(site: Site, draft: Draft) -> str:
    return urls.folder(site.id, draft.side, draft.path.parent, pick=name_token(draft.path.name))


def pieces_of(found: Merged) -> list[dict[str, Any]]:
    """A merge's pieces for the page's script."""
    return [{"settled": one.settled, "text": one.text, "mine": one.mine, "theirs": one.theirs} for one in found.pieces]


def _told(ended: Careful, form: TextForm) -> dict[str, Any]:
    saved = ended.saved
    return {
        "done": saved.done and not ended.errors and not ended.broken,
        "job": saved.job_id,
        "why": saved.why_not,
        "words": saved.server_words,
        "merge": saved.merge is not None,
        "gone": saved.gone,
        "errors": [one.what for one in ended.errors[:5]],
        "broken": [{"address": one.address, "why": one.why, "begins": one.begins[:300]} for one in ended.broken],
        "is_back": ended.is_back,
        "form": form.words,
    }
