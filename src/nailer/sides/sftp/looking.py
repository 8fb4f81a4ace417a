"""Looking at what is there by SFTP, also where one answer must be held against another.

Some servers name files and say nothing more of them in a listing, or say sizes of 0 there; some answer with an empty file
where there is nothing, or tell what is missing as a plain failure or a refusal. What one answer does not say is asked by
another, and a server that was found to contradict itself is asked the better way from then on.
"""

from __future__ import annotations

import asyncio
import contextlib
import secrets
from typing import TYPE_CHECKING

import asyncssh

from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import SitePath
from nailer.core.files.whole import Lack, Listing, NotWhole, listing_of
from nailer.errors import FileMissing, PermissionRefused, ServerFailed, TransferError, WrongKind
from nailer.sides.sftp.names import entry_of
from nailer.sides.sftp.pipeline import read_folder

if TYPE_CHECKING:
    from nailer.sides.sftp.side import SftpSide

_LINKS_AT_ONCE = 32
_NAMES_AT_ONCE = 64


class SftpLooking:
    """Looks at one side. None: not known yet of its server."""

    def __init__(self, side: SftpSide) -> None:
        self._side = side
        self._shows_nothing_as_file: bool | None = None
        self._lists_sizes: bool | None = None

    async def one(self, path: SitePath) -> Entry:
        """What stands under a name, links not followed (SSH_FXP_LSTAT). Raises FileMissing."""
        side = self._side
        try:
            entry = entry_of(path.name, await side.ask(side.client.lstat(path.raw), path))
        except (ServerFailed, PermissionRefused) as refused:
            return await self._in_its_folder(path, refused)
        if entry.is_file and not entry.size and await self._may_be_nothing(path):
            return await self._in_its_folder(path, FileMissing("{path} is not there.", path=path))
        return await self._with_target(path, entry) if entry.kind is Kind.LINK else entry

    async def folder(self, folder: SitePath) -> Listing:
        """A folder's names, each with what it is. Raises FileMissing only where the folder is known not to be there."""
        side = self._side
        try:
            entries = await side.ask(read_folder(side.client, folder.raw), folder)
        except FileMissing as missing:
            # Servers call a file listed as a folder missing, too (OpenSSH reports ENOTDIR as 'no such file').
            if await side.taken(folder):
                raise WrongKind("{path} is no folder.", path=folder, server_words=missing.server_words) from missing
            raise
        except (ServerFailed, PermissionRefused) as refused:
            if not folder.is_root and not (await self.one(folder)).opens_as_folder:
                raise WrongKind("{path} is no folder.", path=folder, server_words=refused.server_words) from refused
            raise
        entries = [one for one in entries if one.name not in (b".", b"..")]
        odd = [one.name for one in entries if not one.name or b"/" in one.name or b"\0" in one.name]
        lack = NotWhole(Lack.UNREAD, repr(odd[0])[1:], len(odd)) if odd else None
        entries = [one for one in entries if one.name not in odd] if odd else entries
        entries, unasked = await self._told_in_full(folder, entries)
        return listing_of(entries, lack or unasked)

    async def _told_in_full(self, folder: SitePath, entries: list[Entry]) -> tuple[list[Entry], NotWhole | None]:
        """The entries with what the listing kept back: kinds and sizes by name, where links lead. A name that cannot be
        asked for is left out, and said."""
        if self._lists_sizes is None:
            await self._try_sizes(folder, entries)
        by_name = {
            one.name
            for one in entries
            if (one.kind is Kind.OTHER and one.access is None)
            or (self._lists_sizes is False and one.is_file and not one.size)
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
        return rest + told, NotWhole(Lack.UNREAD, repr(unasked[0])[1:], len(unasked)) if unasked else None

    async def _asked(self, path: SitePath) -> Entry:
        side = self._side
        entry = entry_of(path.name, await side.ask(side.client.lstat(path.raw), path))
        return await self._with_target(path, entry) if entry.kind is Kind.LINK else entry

    async def _try_sizes(self, folder: SitePath, entries: list[Entry]) -> None:
        """Whether listings say sizes, by the first file that is listed as empty."""
        empty = next((one for one in entries if one.is_file and not one.size), None)
        if empty is not None:
            with contextlib.suppress(TransferError):
                self._lists_sizes = (await self._asked(folder.child(empty.name))).size == 0
        elif any(one.is_file for one in entries):
            self._lists_sizes = True

    async def _may_be_nothing(self, path: SitePath) -> bool:
        """True on a server that shows an empty file under a name that nobody has; tried once."""
        side = self._side
        if self._shows_nothing_as_file is None:
            nobodys = path.parent.child(b"nobody-has-" + secrets.token_hex(8).encode())
            try:
                await side.ask(side.client.lstat(nobodys.raw), nobodys)
                self._shows_nothing_as_file = True
            except (FileMissing, ServerFailed, PermissionRefused):
                self._shows_nothing_as_file = False
        return self._shows_nothing_as_file

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
        target: bytes | None = None
        leads_to: Kind | None = None
        client = self._side.client
        with contextlib.suppress(asyncssh.SFTPError):
            said = await client.readlink(path.raw)
            target = said if isinstance(said, bytes) else (said or "").encode("utf-8", "surrogateescape")
            leads_to = entry_of(path.name, await client.stat(path.raw)).kind
        return Entry(
            name=entry.name,
            kind=Kind.LINK,
            stamp=entry.stamp,
            access=entry.access,
            owner=entry.owner,
            group=entry.group,
            target=target,
            leads_to=leads_to,
            owner_id=entry.owner_id,
        )
