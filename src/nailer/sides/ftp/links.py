"""Links as FTP servers list them: where they lead, and what stands there."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from typing import TYPE_CHECKING

from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    FileMissing,
    NotSupported,
    PermissionRefused,
    ProtocolViolation,
    ServerFailed,
    TransferError,
    WrongKind,
)

if TYPE_CHECKING:
    from nailer.sides.ftp.look import Looking

REFUSED = (ServerFailed, WrongKind, NotSupported, FileMissing, PermissionRefused)


class Links:
    """Follows links that a listing shows."""

    def __init__(self, looking: Looking) -> None:
        self._looking = looking

    async def with_links(self, folder: SitePath, entries: list[Entry]) -> list[Entry]:
        """MLSD may show a link as what it leads to. LIST shows it: what is a link there is one."""
        learned = self._looking.learned
        text, _ = await self._looking.text(folder)
        links = {one.name: one for one in text if one.kind is Kind.LINK}
        seen = {one.name: one.kind for one in entries}
        if any(name in seen and seen[name] is not Kind.LINK for name in links):
            learned.tells_links = False
        # A link that leads nowhere, in a circle or out of the account is left out of MLSD altogether.
        broken = [one for name, one in links.items() if name not in seen]
        learned.hides_links = learned.hides_links or bool(broken) or learned.tells_links is False
        return broken + [replace(links[one.name], stamp=one.stamp) if one.name in links else one for one in entries]

    async def link_at(self, path: SitePath, *, found: bool, surely: bool) -> Entry | None:
        """The link under a name that facts show as what it leads to, or not at all; None where there is no link. A folder
        is listed for that once a minute at most, as far as the server is not known to tell links in its facts."""
        learned = self._looking.learned
        known, entry = (False, None) if surely and not learned.tells_links else learned.folders.one(path)
        if not known:
            if found and not surely and learned.tells_links is None and not learned.hides_links:
                return None  # no link was ever met on this server
            with contextlib.suppress(*REFUSED, ProtocolViolation):
                entries, lack = await (
                    self._looking.text(path.parent) if surely else self._looking.read(path.parent, True)
                )
                learned.folders.put(path.parent, entries, lack)
                known, entry = learned.folders.one(path)
        if entry is None or entry.kind is not Kind.LINK:
            return None
        if not found:
            # Remembered only: whether it is still there a look tells.
            text, _ = await self._looking.text(path.parent)
            entry = next((one for one in text if one.name == path.name and one.kind is Kind.LINK), None)
        return entry

    async def led(self, path: SitePath, entry: Entry) -> Entry:
        """A link with the kind it leads to: what can be entered is a folder, what has a size is a file."""
        if entry.kind is not Kind.LINK:
            return entry
        leads_to: Kind | None = None
        if (await self._looking.line.ask(b"CWD " + path.raw)).is_good:
            return replace(entry, size=0, leads_to=Kind.FOLDER)
        reply = await self._looking.line.ask(b"SIZE " + path.raw)
        if reply.is_good:
            leads_to = Kind.FILE
        elif reply.code in (500, 502) and entry.target is not None:
            start, names = from_link(path.parent, entry.target)
            with contextlib.suppress(TransferError):
                around, _ = await self._looking.text(start.join(tuple(names)).parent)
                leads_to = next((one.kind for one in around if names and one.name == names[-1]), None)
        return replace(entry, size=0, leads_to=None if leads_to is Kind.LINK else leads_to)


def from_link(folder: SitePath, target: bytes) -> tuple[SitePath, list[bytes]]:
    """Where a link's text leads, seen from its folder: a start, and the names still to go."""
    start = SitePath() if target.startswith(b"/") else folder
    names: list[bytes] = []
    for name in target.split(b"/"):
        if name == b"..":
            if names:
                names.pop()
            else:
                start = start.parent
        elif name not in (b"", b"."):
            names.append(name)
    return start, names
