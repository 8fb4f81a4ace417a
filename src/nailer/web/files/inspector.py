"""The panel beside the files: what is picked, what its joint suggests, and everything else that can be done with it."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote

from starlette.requests import Request

from nailer.core.compare.advised import suggested
from nailer.core.compare.joint import JOINT_WORDS, Joint
from nailer.core.compare.ledger import LedgerRow
from nailer.core.files import permissions as permission_rules
from nailer.core.files.entry import SideName
from nailer.core.files.keeping import KeepMark
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.names import names_text
from nailer.core.files.search import SearchWanted
from nailer.core.files.sitepath import address_of, name_token, shown_name
from nailer.core.site.names import is_index
from nailer.core.words import size_text
from nailer.services.editing import LARGEST_BYTES
from nailer.services.files import Ledger
from nailer.services.plans import Change, is_archive
from nailer.services.sites import Site
from nailer.web.shell.doors import files_of, plans_of, session_of
from nailer.web.shell.pages import routed, zone_of
from nailer.web.shell.show import inside_text, shown_row

_ANSWERS = (FileKind.PAGE, FileKind.SCRIPT)  # what can be blank or broken for a visitor


async def inspector_values(request: Request, site: Site, ledger: Ledger, rows: list[LedgerRow]) -> dict[str, Any]:
    """What the panel beside the rows says of picked names."""
    plans = plans_of(request)
    here_rows = [row for row in rows if row.here is not None]
    there_rows = [row for row in rows if row.there is not None]
    one = rows[0] if len(rows) == 1 else None
    permissions = one.entry.permissions if one is not None else None
    copies: list[Change] = []
    address = None
    if one is not None and one.there is not None:
        path = ledger.there.child(one.name)
        address = address_of(path, site.document_roots, is_folder=one.opens_as_folder)
    if one is not None:
        for side, folder in ((SideName.THERE, ledger.there), (SideName.HERE, ledger.here)):
            copies += await plans.changes.of_path(site.id, side, folder.child(one.name), 8)
    copies.sort(key=lambda change: change.at, reverse=True)
    return {
        "site": site,
        "here": ledger.here,
        "there": ledger.there,
        "rows": rows,
        "one": one,
        "tray": await files_of(request).tray.of(session_of(request).account_id, site),
        "own_mark": await _own_mark(request, site, ledger, one),
        "one_shown": shown_row(one, datetime.now(UTC), zone_of(request)) if one else None,
        "title": names_text([row.name for row in rows], 2),
        "here_count": len(here_rows),
        "there_count": len(there_rows),
        "weight": _weight(rows),
        "will": _will(rows),
        "suggestion": suggested([row.standing.joint for row in rows], is_text=_is_text(one)),
        "may_edit": _may_edit(one),
        "is_page": one is not None and one.entry.is_file and kind_by_name(one.name) in _ANSWERS,
        "would_hold": await _would_hold(request, site, ledger, one),
        "is_archive": one is not None and is_archive(shown_name(one.name)),
        "has_shell": site.protocol.traits.commands,
        "address": address,
        "first_page_of": _first_page_of(site, ledger, one),
        "address_link": routed(request, address) if address else None,
        "bits": permission_rules.bits(permissions) if permissions is not None else (),
        "permissions": permissions,
        "permissions_trouble": _permissions_trouble(one),
        "phrases": permission_rules.phrases,
        "presets": permission_rules.PRESETS,
        "copies": [change for change in copies if change.can_be_taken_back][:8],
        "joint_word": JOINT_WORDS[one.standing.joint] if one else "",
        "counts": ledger.counts,
        "zip_names": "/".join(quote(name_token(row.name), safe="") for row in rows),
        "removed": [],
    }


def _first_page_of(site: Site, ledger: Ledger, one: LedgerRow | None) -> str | None:
    """The address of the folder there that a page could be the first page of; None where it is one, or is no page."""
    if one is None or is_index(one.name) or kind_by_name(one.name) is not FileKind.PAGE or not one.entry.is_file:
        return None
    return address_of(ledger.there, site.document_roots, is_folder=True)


async def _own_mark(request: Request, site: Site, ledger: Ledger, one: LedgerRow | None) -> KeepMark | None:
    """The keep mark of a name itself, there first."""
    if one is None or not one.kept:
        return None
    keeps = await files_of(request).keeping.of_site(site.id)
    there = keeps.own(SideName.THERE, ledger.there.child(one.name))
    return there or keeps.own(SideName.HERE, ledger.here.child(one.name))


def _weight(rows: list[LedgerRow]) -> str:
    """`15.1 kB here, 8.8 kB there, 1 folder`."""
    here = sum(row.here.size for row in rows if row.here)
    there = sum(row.there.size for row in rows if row.there)
    parts = []
    if any(row.here and row.here.is_file for row in rows):
        parts.append(f"{size_text(here)} here")
    if any(row.there and row.there.is_file for row in rows):
        parts.append(f"{size_text(there)} there")
    folders = [row for row in rows if row.is_folder]
    if len(folders) == 1 and len(rows) == 1:
        inside = folders[0].inside_there or folders[0].inside_here
        parts.append(f"a folder with {inside_text(inside)}" if inside else "a folder")
    elif folders:
        parts.append(f"{len(folders)} folder{'s' if len(folders) > 1 else ''}")
    return ", ".join(parts)


def _will(rows: list[LedgerRow]) -> list[str]:
    """What an upload or a download of the picked names would meet, said before anybody asks for it."""
    lines = []
    files = [row for row in rows if not row.is_folder]
    newer_there = [row.name for row in files if row.standing.joint is Joint.NEWER_THERE and row.here]
    replaced = [row.name for row in files if row.standing.joint is Joint.NEWER_HERE]
    new = [row.name for row in files if row.standing.joint is Joint.ONLY_HERE]
    gone = [row.name for row in files if row.standing.joint is Joint.ONLY_THERE]
    clash = [row.name for row in files if row.standing.joint is Joint.BOTH_CHANGED]
    if rows and all(row.standing.joint is Joint.SAME for row in rows):
        lines.append("Both sides are the same: there is nothing to transfer.")
    if replaced:
        lines.append(
            f"Upload replaces {names_text(replaced)} there. Nailer keeps the old version, so you can take it back."
        )
    if new:
        lines.append(f"Upload adds {names_text(new)} there.")
    if newer_there:
        lines.append(f"{names_text(newer_there)} is newer there. Download replaces it here.")
    if gone:
        lines.append(f"Download adds {names_text(gone)} here.")
    if clash:
        lines.append(
            f"{names_text(clash)} changed on both sides. Upload or download replaces one version; Nailer keeps it."
        )
    return lines


def _is_text(row: LedgerRow | None) -> bool:
    """True where the editor could open both sides of a name."""
    return (
        row is not None
        and row.here is not None
        and row.there is not None
        and row.here.is_file
        and row.there.is_file
        and _may_edit(row)
    )


def _may_edit(row: LedgerRow | None) -> bool:
    return row is not None and SearchWanted().may_hold_text(row.entry) and row.entry.size <= LARGEST_BYTES


def _permissions_trouble(row: LedgerRow | None) -> str:
    trouble = permission_rules.trouble(row.entry) if row is not None else None
    return f"Warning: {trouble}." if trouble else ""


async def _would_hold(request: Request, site: Site, ledger: Ledger, row: LedgerRow | None) -> list[str]:
    """Sieves that are switched off and would leave this name behind."""
    below = ledger.there.below(site.start_there)
    if row is None or below is None:
        return []
    return await files_of(request).sieves.off_that_would_hold(site, (*below, row.name), row.here, row.there)
