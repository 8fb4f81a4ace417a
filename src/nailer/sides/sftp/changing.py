"""Making, renaming and removing names by SFTP: a look by name leaves in the same breath, and is held against the answer."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Coroutine
from functools import partial
from typing import TYPE_CHECKING, Any

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    AlreadyThere,
    CannotReplace,
    FileMissing,
    FolderNotEmpty,
    NotDone,
    NotSupported,
    PermissionRefused,
    RenameRefused,
    ServerFailed,
    TransferError,
)
from nailer.sides.seen import see_gone, see_made, see_renamed
from nailer.sides.sftp.open_file import SentLook
from nailer.sides.sftp.pipeline import replaces_in_one_step
from nailer.sides.sftp.requests import abandon, sent_removal, sent_rename
from nailer.sides.side import Names, look, refused

if TYPE_CHECKING:
    from nailer.sides.sftp.side import SftpSide

# A look that left with the act may have been answered before it was done, or not at all: then it is made again.
_LOOK_AGAIN = (FileMissing, PermissionRefused, ServerFailed)


class Changing:
    """Changes the names of one side."""

    def __init__(self, side: SftpSide) -> None:
        self._side = side
        self._over_works = True

    @property
    def replaces_in_one_step(self) -> bool:
        """True where the server offers posix-rename@openssh.com, and was not found to lie about it."""
        return self._over_works and replaces_in_one_step(self._side.client)

    async def make_folder(self, path: SitePath) -> None:
        """Make a folder (SSH_FXP_MKDIR); version 3 says only that it failed, so a failure is explained by looking."""
        side = self._side
        await self._or_because(side.client.mkdir(path.raw), path, side.taken)
        await see_made(partial(look, side), path)

    async def make_link(self, path: SitePath, target: bytes) -> None:
        """Make a symbolic link (SSH_FXP_SYMLINK)."""
        side = self._side
        await self._or_because(side.client.symlink(target, path.raw), path, side.taken)
        await see_made(partial(look, side), path)

    async def remove_file(self, path: SitePath) -> None:
        """Remove a file or a link (SSH_FXP_REMOVE)."""
        removal, looking = sent_removal(self._side.client, path.raw), self._side.sent_look(path)
        try:
            await self._side.ask(removal, path)
            await self._see_gone(looking, path)
        finally:
            abandon(removal, looking)

    async def remove_folder(self, path: SitePath) -> None:
        """Remove an empty folder (SSH_FXP_RMDIR); a failure is explained by looking."""
        removal, looking = sent_removal(self._side.client, path.raw, folder=True), self._side.sent_look(path)
        try:
            await self._or_because(removal, path, self._filled)
            await self._see_gone(looking, path)
        finally:
            abandon(removal, looking)

    async def rename(self, old: SitePath, new: SitePath, *, replace: bool, looked: bool, landed: Entry | None) -> None:
        """As `Side.rename`, in one step over a taken name where the server offers posix-rename@openssh.com."""
        side = self._side
        was = landed if landed is not None else await side.stat(old)
        if not replace:
            # Version 3 says that renaming over a name fails; servers differ, so we look first.
            if not (looked or side.rename_refuses) and await side.taken(new):
                raise AlreadyThere("{path} exists already.", path=new)
            await self._rename(old, new, was)
            return
        try:
            await self._rename(old, new, was, over=self.replaces_in_one_step)
        except (AlreadyThere, PermissionRefused, NotSupported, RenameRefused, ServerFailed) as why:
            if not await side.taken(new):
                raise
            raise CannotReplace("{path} is taken.", path=new, server_words=why.server_words) from why

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        """Both requests leave as one packet; a server carries out what concerns one name in its order (draft 02, 4). One
        that does not refuses the second, whose name is taken still."""
        stood = await asyncio.gather(*(look(self._side, old) for old, _ in (first, second)))
        one, other = await asyncio.gather(
            *(refused(self._rename_seen(*names, was)) for names, was in zip((first, second), stood, strict=True))
        )
        return one, other

    async def _rename_seen(self, old: SitePath, new: SitePath, was: Entry | None) -> None:
        if was is None:
            raise FileMissing("{path} is not there.", path=old)
        await self._rename(old, new, was)

    async def _rename(self, old: SitePath, new: SitePath, was: Entry, *, over: bool = False) -> None:
        """Rename and look, together. Raises RenameRefused with everything as it was, also where the server only said yes."""
        side = self._side
        asked, looking = sent_rename(side.client, old.raw, new.raw, over=over), side.sent_look(new)
        try:
            if over:
                await side.ask(asked, new)
            else:
                await self._or_because(asked, new, side.taken)
            await self._see_renamed(looking, old, new, was)
        except NotDone as lie:
            if over:
                self._over_works = False
            else:
                side.renames = False
            raise RenameRefused(lie.sentence, path=old) from lie
        except (PermissionRefused, NotSupported) as why:
            if over:
                raise
            sentence = "The server does not allow renaming {path}."
            raise RenameRefused(sentence, path=old, server_words=why.server_words) from why
        finally:
            abandon(asked, looking)

    async def _see_renamed(self, looking: SentLook, old: SitePath, new: SitePath, was: Entry) -> None:
        try:
            if still_as(await self._side.ask(looking.entry(new.name), new), was):
                return
        except _LOOK_AGAIN:
            pass
        await see_renamed(partial(look, self._side), old, new, was)

    async def _see_gone(self, looking: SentLook, path: SitePath) -> None:
        try:
            await self._side.ask(looking.entry(path.name), path)
        except FileMissing:
            return
        except _LOOK_AGAIN:
            pass
        await see_gone(partial(look, self._side), path)

    async def _or_because(
        self, request: Awaitable[object], path: SitePath, test: Callable[[SitePath], Coroutine[Any, Any, bool]]
    ) -> None:
        """Await a request; where the server only says 'failure', look for the reason it most likely means."""
        try:
            await self._side.ask(request, path)
        except ServerFailed as failed:
            if await test(path):
                kind = FolderNotEmpty if test == self._filled else AlreadyThere
                sentence = "The folder {path} is not empty." if kind is FolderNotEmpty else "{path} exists already."
                raise kind(sentence, path=path, server_words=failed.server_words) from failed
            raise

    async def _filled(self, path: SitePath) -> bool:
        return bool(await self._side.ask(self._side.client.listdir(path.raw), path))
