"""Renaming by FTP (RFC 959, 4.1.3): RNFR and RNTO, and what servers make of them."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    AlreadyThere,
    CannotReplace,
    ConnectionDropped,
    FileMissing,
    NotSupported,
    PermissionRefused,
    RenameRefused,
    ServerFailed,
    TransferError,
)
from nailer.sides.ftp.line import FtpLine, line_break
from nailer.sides.ftp.replies import Reply, has_line_break
from nailer.sides.side import Names
from nailer.sides.translate import from_reply

if TYPE_CHECKING:
    from nailer.sides.ftp.side import FtpSide

_Replies = list[Reply]


class Renaming:
    """Renames names of one side."""

    def __init__(self, side: FtpSide) -> None:
        self._side = side

    async def rename(self, old: SitePath, new: SitePath, *, replace: bool = False, looked: bool = False) -> None:
        """As `Side.rename`. RFC 959 does not say what becomes of a taken name: it is looked at first."""
        if not (replace or looked):
            self._side._learned.folders.doubt(new.parent)  # somebody else may have taken the name a moment ago
            async with self._side.connection.line(self._side.lane) as line:
                if await self._side.looking(line).is_there(new):
                    # RFC 959 does not say what happens to a name that is taken; most servers replace it.
                    raise AlreadyThere("{path} exists already.", path=new)
                await self._rename(line, old, new)
            return
        try:
            await self._move(old, new)
        except RenameRefused:
            self._side._learned.renames = False
            raise
        except (AlreadyThere, ServerFailed, PermissionRefused, NotSupported) as refused:
            if not replace:
                raise
            async with self._side.connection.line(self._side.lane) as line:
                if not await self._side.looking(line).is_there(new):
                    raise
            self._side._learned.swaps = False
            raise CannotReplace("{path} is taken.", path=new, server_words=refused.server_words) from refused
        self._side._learned.renames = True
        if replace:
            self._side._learned.swaps = self._side._learned.swaps is not False

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        """All four commands leave together over one line, which a server answers in their order."""
        moves = [Moving(*one, asyncio.get_running_loop().create_future()) for one in (first, second)]
        if any(has_line_break(command) for one in moves for command in one.commands):
            raise line_break()
        async with self._side.connection.line(self._side.lane) as line:
            await self.send_moving(line, moves, [], then_more=False)
        errors = [await one.ended for one in moves]
        for one, error in zip(moves, errors, strict=True):
            if error is None:
                self._side._learned.folders.moved(one.old, one.new)
            elif error.heals:
                raise error
        return errors[0], errors[1]

    async def _move(self, old: SitePath, new: SitePath) -> None:
        """Rename over the first line that is free, or along with what another line sends next: of many small files each
        saves a round trip by that."""
        moving = Moving(old, new, asyncio.get_running_loop().create_future())
        if any(has_line_break(command) for command in moving.commands):
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
            error = await moving.ended
        finally:
            if moving in waiting:
                waiting.remove(moving)
            own.cancel()
            await asyncio.gather(own, return_exceptions=True)
        if error is not None:
            raise error
        self._side._learned.folders.moved(old, new)

    async def send_moving(
        self, line: FtpLine, moves: Sequence[Moving], commands: Sequence[bytes], *, then_more: bool
    ) -> _Replies:
        """Send commands, and renamings behind them, together; return the replies to the commands."""
        everything = [*commands, *(command for one in moves for command in one.commands)]
        try:
            replies = await line.ask_together(everything, then_more=then_more)
        except BaseException as failed:
            lost = failed if isinstance(failed, TransferError) else ConnectionDropped("The line was given up.")
            for one in moves:
                one.end(lost)
            raise
        for number, one in enumerate(moves):
            one.told(*replies[len(commands) + 2 * number : len(commands) + 2 * number + 2])
        return replies[: len(commands)]

    async def _rename(self, line: FtpLine, old: SitePath, new: SitePath) -> None:
        moving = Moving(old, new, asyncio.get_running_loop().create_future())
        await self.send_moving(line, [moving], [], then_more=False)
        if (error := await moving.ended) is not None:
            raise error
        self._side._learned.folders.moved(old, new)


@dataclass(frozen=True, slots=True, eq=False)
class Moving:
    """A renaming that waits to be sent: on a free line, or together with the next commands of a line that is in use.
    `ended` is set by whoever
    sends it, to an error or to None."""

    old: SitePath
    new: SitePath
    ended: asyncio.Future[TransferError | None]

    @property
    def commands(self) -> list[bytes]:
        """The two commands of a renaming."""
        return [b"RNFR " + self.old.raw, b"RNTO " + self.new.raw]

    def told(self, began: Reply, ended: Reply) -> None:
        """Take the replies to its two commands."""
        error = None
        if not began.is_good:
            error = from_reply(began.code, began.text, self.old.shown)
            if not isinstance(error, FileMissing | ConnectionDropped):
                sentence = "The server does not let {path} be renamed."
                error = RenameRefused(sentence, path=self.old, server_words=error.server_words)
        elif not ended.is_good:
            error = from_reply(ended.code, ended.text, self.new.shown)
        self.end(error)

    def end(self, error: TransferError | None) -> None:
        """Set how the renaming ended. Only the first call counts."""
        if not self.ended.done():
            self.ended.set_result(error)
