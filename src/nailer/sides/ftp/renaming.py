"""Renaming by FTP (RFC 959, 4.1.3): RNFR and RNTO, and what servers make of them."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    AlreadyThere,
    CannotReplace,
    ConnectionDropped,
    FileMissing,
    NotDone,
    NotSupported,
    PermissionRefused,
    RenameRefused,
    ServerFailed,
    TransferError,
)
from nailer.sides.ftp.line import FtpLine, line_break
from nailer.sides.ftp.look import shown_in
from nailer.sides.ftp.replies import Reply, has_line_break
from nailer.sides.seen import see_renamed
from nailer.sides.side import Names, look, refused
from nailer.sides.translate import from_reply

if TYPE_CHECKING:
    from nailer.sides.ftp.side import FtpSide

_Replies = list[Reply]


class Renaming:
    """Renames names of one side."""

    def __init__(self, side: FtpSide) -> None:
        self._side = side

    async def rename(
        self,
        old: SitePath,
        new: SitePath,
        *,
        replace: bool = False,
        looked: bool = False,
        landed: Entry | None = None,
    ) -> None:
        """As `Side.rename`. RFC 959 does not say what becomes of a taken name: it is looked at first."""
        was = landed if landed is not None else await self._side.stat(old)
        if not (replace or looked):
            self._side._learned.folders.doubt(new.parent)  # somebody else may have taken the name a moment ago
            async with self._side.connection.line(self._side.lane) as line:
                if await self._side.looking(line).is_there(new):
                    # RFC 959 does not say what happens to a name that is taken; most servers replace it.
                    raise AlreadyThere("{path} exists already.", path=new)
                moving = self._moving(old, new, was)
                await self.send_moving(line, [moving], [], then_more=False)
            try:
                await self._ended(moving)
            except NotDone as lie:
                raise self._refused(lie) from lie
            return
        try:
            await self._move(self._moving(old, new, was))
        except RenameRefused:
            self._side._learned.renames = False
            raise
        except NotDone as lie:
            if not (replace and await self._is_taken(new)):
                raise self._refused(lie) from lie
            raise self._cannot_replace(new, lie) from lie
        except (AlreadyThere, ServerFailed, PermissionRefused, NotSupported) as refused:
            if not (replace and await self._is_taken(new)):
                raise
            raise self._cannot_replace(new, refused) from refused
        self._side._learned.renames = True
        if replace:
            self._side._learned.swaps = self._side._learned.swaps is not False

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        """All four commands leave together over one line, which a server answers in their order."""
        stood = [await look(self._side, old) for old, _ in (first, second)]
        moves = [
            self._moving(*names, was) if was is not None else None
            for names, was in zip((first, second), stood, strict=True)
        ]
        sent = [one for one in moves if one is not None]
        if any(has_line_break(command) for one in sent for command in one.renaming):
            raise line_break()
        async with self._side.connection.line(self._side.lane) as line:
            await self.send_moving(line, sent, [], then_more=False)
        one, other = [
            await refused(self._ended(move)) if move is not None else FileMissing("{path} is not there.", path=names[0])
            for names, move in zip((first, second), moves, strict=True)
        ]
        return one, other

    async def _is_taken(self, path: SitePath) -> bool:
        async with self._side.connection.line(self._side.lane) as line:
            return await self._side.looking(line).is_there(path)

    def _cannot_replace(self, path: SitePath, why: TransferError) -> CannotReplace:
        self._side._learned.swaps = False
        return CannotReplace("{path} already exists.", path=path, server_words=why.server_words)

    def _refused(self, lie: NotDone) -> RenameRefused:
        """Where the server only said that it renamed, it renames nothing."""
        self._side._learned.renames = False
        return RenameRefused(lie.sentence, path=lie.path)

    def _moving(self, old: SitePath, new: SitePath, was: Entry) -> Moving:
        looks = self._side._learned.look_commands(new) if was.is_file or self._side._learned.tells_facts else []
        return Moving(old, new, was, asyncio.get_running_loop().create_future(), tuple(looks))

    async def _ended(self, moving: Moving) -> None:
        """Wait for a renaming that is being sent, and see that it is so. Raises why not."""
        if (error := await moving.ended) is not None:
            raise error
        learned = self._side._learned
        if moving.seen is None or not still_as(moving.seen, moving.was):
            for folder in (moving.old.parent, moving.new.parent):
                learned.folders.doubt(folder)
            await see_renamed(self._side.look_anew, moving.old, moving.new, moving.was)
        learned.folders.moved(moving.old, moving.new)

    async def _move(self, moving: Moving) -> None:
        """Rename over the first line that is free, or along with what another line sends next: of many small files each
        saves a round trip by that."""
        if any(has_line_break(command) for command in moving.renaming):
            raise line_break()  # before it could spoil what it goes along with
        waiting = self._side.connection.moving
        waiting.append(moving)

        async def _by_itself() -> None:
            async with self._side.connection.line(self._side.lane) as line:
                if moving in waiting:
                    waiting.remove(moving)
                    await self.send_moving(line, [moving], [], then_more=False)

        own = asyncio.create_task(_by_itself())
        try:
            either: set[asyncio.Future[Any]] = {own, moving.ended}
            await asyncio.wait(either, return_when=asyncio.FIRST_COMPLETED)
            if moving in waiting:
                await own  # there was no line to be had: say why
            await moving.ended
        finally:
            if moving in waiting:
                waiting.remove(moving)
            own.cancel()
            await asyncio.gather(own, return_exceptions=True)
        await self._ended(moving)

    async def send_moving(
        self, line: FtpLine, moves: Sequence[Moving], commands: Sequence[bytes], *, then_more: bool
    ) -> _Replies:
        """Send commands, and renamings behind them, together; return the replies to the commands."""
        # The looks come last: between two renamings that belong together nothing is waited for.
        renamings = [command for one in moves for command in one.renaming]
        everything = [*commands, *renamings, *(command for one in moves for command in one.looks)]
        try:
            replies = await line.ask_together(everything, then_more=then_more)
        except BaseException as failed:
            lost = failed if isinstance(failed, TransferError) else ConnectionDropped("The connection was closed.")
            for one in moves:
                one.end(lost)
            raise
        told, looked = replies[len(commands) :], replies[len(commands) + len(renamings) :]
        for number, one in enumerate(moves):
            one.told(told[2 * number], told[2 * number + 1], looked[: len(one.looks)])
            looked = looked[len(one.looks) :]
        return replies[: len(commands)]


@dataclass(slots=True, eq=False)
class Moving:
    """A renaming that waits to be sent: on a free line, or together with the next commands of a line that is in use. `was`
    is what stood under the old name, `looks` the commands that look at the new one in the same breath. `ended` is set by
    whoever sends it, to an error or to None, and `seen` to what the look showed."""

    old: SitePath
    new: SitePath
    was: Entry
    ended: asyncio.Future[TransferError | None]
    looks: tuple[bytes, ...] = ()
    seen: Entry | None = None

    @property
    def renaming(self) -> list[bytes]:
        """The two commands of a renaming."""
        return [b"RNFR " + self.old.raw, b"RNTO " + self.new.raw]

    def told(self, began: Reply, ended: Reply, looked: Sequence[Reply]) -> None:
        """Take the replies to its commands, and to the look."""
        self.seen = shown_in(looked, self.new)
        error = None
        if not began.is_good:
            error = from_reply(began.code, began.text, self.old.shown)
            if not isinstance(error, FileMissing | ConnectionDropped):
                sentence = "The server does not allow renaming {path}."
                error = RenameRefused(sentence, path=self.old, server_words=error.server_words)
        elif not ended.is_good:
            error = from_reply(ended.code, ended.text, self.new.shown)
        self.end(error)

    def end(self, error: TransferError | None) -> None:
        """Set how the renaming ended. Only the first call counts."""
        if not self.ended.done():
            self.ended.set_result(error)
