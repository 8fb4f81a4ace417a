"""Looking at what is there by SFTP, also where one answer must be held against another.

Some servers name files and say nothing more of them in a listing, or say sizes of 0 there; some answer with an empty file
where there is nothing, or tell what is missing as a plain failure or a refusal. What one answer does not say is asked by
another, and a server that was found to contradict itself is asked the better way from then on.
"""

from __future__ import annotations

import asyncio
import contextlib
import secrets
from collections.abc import Awaitable
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeVar

from nailer.core.files.completeness import Incomplete, Lack, Listing, listing_of
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import SitePath
from nailer.errors import ConnectionDropped, FileMissing, PermissionRefused, ServerFailed, TransferError, WrongKind
from nailer.sides.sftp.names import entry_of
from nailer.sides.sftp.pipeline import read_folder

if TYPE_CHECKING:
    from nailer.sides.sftp.side import SftpSide

_R = TypeVar("_R")

_LINKS_AT_ONCE = 32
_NAMES_AT_ONCE = 64


@dataclass(slots=True)
class SftpLearned:
    """What looking has shown of a server, for all channels of a connection. None: not known yet.

    `shows_nothing_as_file`: an empty file where there is nothing. `lists_sizes`: a listing says sizes. `lists_links`: it
    shows links, and not what they lead to; `looks_at_links`: so does a look by name (SSH_FXP_LSTAT).
    """

    shows_nothing_as_file: bool | None = None
    lists_sizes: bool | None = None
    lists_links: bool | None = None
    looks_at_links: bool | None = None


class SftpLooking:
    """Looks at one side."""

    def __init__(self, side: SftpSide, learned: SftpLearned) -> None:
        self._side = side
        self._learned = learned

    async def one(self, path: SitePath) -> Entry:
        """What stands under a name, links not followed (SSH_FXP_LSTAT). Raises FileMissing."""
        try:
            entry = await self._asked(path)
        except (ServerFailed, PermissionRefused) as refused:
            return await self._in_its_folder(path, refused)
        if entry.is_file and not entry.size and await self._may_be_nothing(path):
            return await self._in_its_folder(path, FileMissing("{path} is not there.", path=path))
        if entry.kind is not Kind.LINK:
            return entry
        if self._learned.lists_links is None and entry.leads_to is not None:
            await self._try_links(path)
        return entry

    async def folder(self, folder: SitePath, *, careful: bool = False) -> Listing:
        """A folder's names, each with what it is. `careful`: what is listed as a folder is none that a link
        leads to. Raises FileMissing only where the folder is known not to be there."""
        side = self._side
        try:
            entries = await side.ask(read_folder(side.client, folder.raw), folder)
        except FileMissing as missing:
            # Servers call a file listed as a folder missing, too (OpenSSH reports ENOTDIR as 'no such file').
            if await side.taken(folder):
                raise WrongKind("{path} is not a folder.", path=folder, server_words=missing.server_words) from missing
            raise
        except (ServerFailed, PermissionRefused) as refused:
            if not folder.is_root and not (await self.one(folder)).opens_as_folder:
                raise WrongKind("{path} is not a folder.", path=folder, server_words=refused.server_words) from refused
            raise
        entries = [one for one in entries if one.name not in (b".", b"..")]
        odd = [one.name for one in entries if not one.name or b"/" in one.name or b"\0" in one.name]
        lack = Incomplete(Lack.UNREAD, repr(odd[0])[1:], len(odd)) if odd else None
        entries = [one for one in entries if one.name not in odd] if odd else entries
        entries, unasked = await self._told_in_full(folder, entries, careful=careful)
        return listing_of(entries, lack or unasked)

    async def _told_in_full(
        self, folder: SitePath, entries: list[Entry], *, careful: bool
    ) -> tuple[list[Entry], Incomplete | None]:
        """The entries with what the listing kept back: kinds and sizes by name, where links lead. A name that cannot be
        asked for is left out, and said."""
        if self._learned.lists_sizes is None:
            await self._try_sizes(folder, entries)
        if careful and self._learned.lists_links is None:
            await self._try_folders(folder, entries)
        by_name = {
            one.name
            for one in entries
            if (one.kind is Kind.OTHER and one.permissions is None)
            or self._learned.lists_links is False
            or (self._learned.lists_sizes is False and one.is_file and not one.size)
        }
        links = [one for one in entries if one.kind is Kind.LINK]
        if not (by_name or links):
            return entries, None
        gates = asyncio.Semaphore(_NAMES_AT_ONCE), asyncio.Semaphore(_LINKS_AT_ONCE)
        unasked: list[bytes] = []

        async def _full(entry: Entry) -> Entry | None:
            try:
                if entry.name in by_name:
                    async with gates[0]:
                        return await self._asked(folder.child(entry.name))
                async with gates[1]:
                    return await self._with_target(folder.child(entry.name), entry)
            except FileMissing:
                return None  # removed meanwhile
            except (ServerFailed, PermissionRefused):
                unasked.append(entry.name)
                return None

        rest = [one for one in entries if one.name not in by_name and one.kind is not Kind.LINK]
        asked = [one for one in entries if one.name in by_name or one.kind is Kind.LINK]
        told = [one for one in await asyncio.gather(*map(_full, asked)) if one is not None]
        # One that leads nowhere is listed as a link by servers that show what links lead to.
        if self._learned.lists_links is None and any(one.leads_to for one in told if one.name not in by_name):
            self._learned.lists_links = True
        return rest + told, Incomplete(Lack.UNREAD, repr(unasked[0])[1:], len(unasked)) if unasked else None

    async def _asked(self, path: SitePath) -> Entry:
        """What a look by name says. Some servers follow links even then: unless it is known that this one does not, the
        name is asked for a link's target in the same breath."""
        side, learned = self._side, self._learned

        async def _looked() -> Entry:
            return entry_of(path.name, await side.ask(side.client.lstat(path.raw), path))

        if learned.looks_at_links:
            entry, target = await _looked(), None
        else:
            # Made where it runs: cancelled before that, no request is left that nobody awaited.
            entry, target = await asyncio.gather(_looked(), self._target(path))
        if entry.kind is Kind.LINK:
            entry = await self._with_target(path, entry)
            if entry.leads_to is not None:
                learned.looks_at_links = True
        elif target is not None:
            if learned.looks_at_links is None:
                # Some servers name a target for what is no link: the listing decides.
                learned.looks_at_links = await self._listed_kind(path) is not Kind.LINK
            if learned.looks_at_links is False:
                return Entry(path.name, Kind.LINK, target=target, leads_to=entry.kind)
        return entry

    async def _target(self, path: SitePath) -> bytes | None:
        """Where a link leads (SSH_FXP_READLINK); None where the name is none."""
        said = await self._unless_refused(self._side.client.readlink(path.raw), path)
        return said.encode("utf-8", "surrogateescape") if isinstance(said, str) else said

    async def _unless_refused(self, request: Awaitable[_R], path: SitePath) -> _R | None:
        """What the server answers; None where it refuses. A line that is lost is no refusal."""
        try:
            return await self._side.ask(request, path)
        except ConnectionDropped:
            raise
        except TransferError:
            return None

    async def _try_sizes(self, folder: SitePath, entries: list[Entry]) -> None:
        """Whether listings say sizes, by the first file that is listed as empty."""
        empty = next((one for one in entries if one.is_file and not one.size), None)
        if empty is not None:
            with contextlib.suppress(TransferError):
                self._learned.lists_sizes = (await self._asked(folder.child(empty.name))).size == 0
        elif any(one.is_file for one in entries):
            self._learned.lists_sizes = True

    async def _try_folders(self, folder: SitePath, entries: list[Entry]) -> None:
        """Whether a link is among what is listed as folders: through it the files of another place would be taken for
        files of this one."""
        gate = asyncio.Semaphore(_NAMES_AT_ONCE)

        async def _is_link(entry: Entry) -> bool:
            async with gate:
                with contextlib.suppress(FileMissing, ServerFailed, PermissionRefused):
                    return (await self._asked(folder.child(entry.name))).kind is Kind.LINK
                return False

        if any(await asyncio.gather(*(_is_link(one) for one in entries if one.is_folder))):
            self._learned.lists_links = False

    async def _try_links(self, path: SitePath) -> None:
        """Whether listings show links, by one that leads somewhere and that a look has just shown."""
        with contextlib.suppress(TransferError):
            if (kind := await self._listed_kind(path)) is not None:
                self._learned.lists_links = kind is Kind.LINK

    async def _listed_kind(self, path: SitePath) -> Kind | None:
        """What its folder's listing calls a name; None where it is not in it."""
        entries = await self._side.ask(read_folder(self._side.client, path.parent.raw), path.parent)
        return next((one.kind for one in entries if one.name == path.name), None)

    async def _may_be_nothing(self, path: SitePath) -> bool:
        """True on a server that shows an empty file under a name that nobody has; tried once."""
        side = self._side
        if self._learned.shows_nothing_as_file is None:
            nobodys = path.parent.child(b"nobody-has-" + secrets.token_hex(8).encode())
            try:
                await side.ask(side.client.lstat(nobodys.raw), nobodys)
                self._learned.shows_nothing_as_file = True
            except (FileMissing, ServerFailed, PermissionRefused):
                self._learned.shows_nothing_as_file = False
        return self._learned.shows_nothing_as_file

    async def _in_its_folder(self, path: SitePath, refused: TransferError) -> Entry:
        """What its folder's listing says of a name that was refused: the listing decides whether it is there. Raises what
        was refused where it is, or where the listing may not be whole."""
        if path.is_root:
            raise refused
        listing = await self.folder(path.parent)
        found = next((one for one in listing.entries if one.name == path.name), None)
        if found is None and not listing.may_hide(path.name):
            raise FileMissing("{path} is not there.", path=path, server_words=refused.server_words)
        if found is not None and isinstance(refused, FileMissing):
            return found
        raise refused

    async def _with_target(self, path: SitePath, entry: Entry) -> Entry:
        leads_to: Kind | None = None
        if (target := await self._target(path)) is not None:
            led = await self._unless_refused(self._side.client.stat(path.raw), path)
            leads_to = entry_of(path.name, led).kind if led is not None else None
        return Entry(
            name=entry.name,
            kind=Kind.LINK,
            stamp=entry.stamp,
            permissions=entry.permissions,
            owner=entry.owner,
            group=entry.group,
            target=target,
            leads_to=leads_to,
            owner_id=entry.owner_id,
        )
