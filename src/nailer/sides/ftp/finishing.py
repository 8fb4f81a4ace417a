"""What follows a file that was sent by FTP: time, permissions, a look, and the port of the next one, together."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.listing import time_text
from nailer.core.files.permissions import DEFAULT_FILE, opened_beyond, within
from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    AlreadyThere,
)
from nailer.sides.ftp.line import FtpLine
from nailer.sides.ftp.look import told
from nailer.sides.ftp.replies import Reply

if TYPE_CHECKING:
    from nailer.sides.ftp.side import FtpSide

_MOVED_ALONG = 4  # renamings that go along with the commands of one file


class Finishing:
    """Finishes files of one side."""

    def __init__(self, side: FtpSide) -> None:
        self._side = side

    async def finish(
        self, line: FtpLine, path: SitePath, wanted: WantedPermissions, stamp: Stamp | None, free: SitePath | None
    ) -> Entry:
        """Set time and permissions, look at the file and at the name that must be free: in one round trip where the server
        is known to answer all of it."""
        learned = self._side._learned
        permissions = wanted.to_set(learned.new_files)
        known = (
            learned.tells_facts
            and (stamp is None or learned.sets_times is not None)
            and (permissions is None or learned.sets_permissions is not None)
            and (wanted.at_most is None or learned.new_files is not None)
        )
        if not known or learned.sets_ahead_s:
            entry = await self._finish_by_steps(line, path, wanted, stamp)
            if free is not None and await self._side.looking(line).is_there(free):
                raise AlreadyThere(f"{free} exists already.")
            return entry
        commands = []
        if stamp is not None and learned.sets_times:
            commands.append(self._time_command(path, stamp))
        if permissions is not None and learned.sets_permissions:
            commands.append(b"SITE CHMOD %o " % permissions + path.raw)
        commands += [b"MLST " + path.raw, *([b"MLST " + free.raw] if free is not None else [])]
        connection = self._side.connection
        moves, connection.moving[:_MOVED_ALONG] = connection.moving[:_MOVED_ALONG], []
        *_, last = replies = await self._side.renaming.send_moving(line, moves, commands, then_more=True)
        if free is not None:
            replies.pop()
            if last.is_good:
                raise AlreadyThere(f"{free} exists already.")
        landed = told(replies[-1], path)
        if landed is None or landed.kind is Kind.LINK:
            return await self._side.looking(line).one(path)
        if stamp is not None and _hours_off(landed.stamp, stamp):
            return await self._finish_by_steps(line, path, WantedPermissions(), stamp)
        learned.folders.made(path, landed)
        return landed

    async def _finish_by_steps(
        self, line: FtpLine, path: SitePath, wanted: WantedPermissions, stamp: Stamp | None
    ) -> Entry:
        """Set time and permissions one after another, and look. A time that was set by another clock than the one we were
        told is set once more, by that clock."""
        learned = self._side._learned
        if stamp is not None and learned.sets_times is not False:
            await self.set_time(line, path, stamp)
        if wanted.at_most is not None and learned.new_files is None:
            learned.new_files = (await self._side.looking(line).one(path)).permissions
        permissions = wanted.to_set(learned.new_files)
        if permissions is not None and learned.sets_permissions is not False:
            await self.set_permissions(line, path, permissions)
        entry = await self._side.looking(line).one(path)
        if stamp is not None and learned.sets_times and (off_s := _hours_off(entry.stamp, stamp)):
            learned.sets_ahead_s -= off_s
            await self.set_time(line, path, stamp)
            entry = await self._side.looking(line).one(path)
            if _hours_off(entry.stamp, stamp):
                learned.sets_ahead_s += off_s  # no clock of its own: it sets what it likes
        learned.folders.made(path, entry)
        return entry

    def begins_shut(self, permissions: int | None) -> bool:
        """Whether a file must be made, empty, before its content comes: the server makes new files more open than
        `permissions`, and what is not for others is not to lie open while it comes."""
        learned = self._side._learned
        can = learned.sets_permissions is not False and learned.stores_over is not False
        return can and opened_beyond(learned.new_files or DEFAULT_FILE, permissions)

    async def set_time(self, line: FtpLine, path: SitePath, stamp: Stamp) -> None:
        learned = self._side._learned
        learned.sets_times = _learned_of(learned.sets_times, await line.ask(self._time_command(path, stamp)))

    def _time_command(self, path: SitePath, stamp: Stamp) -> bytes:
        features = self._side._learned.features
        command = b"MFMT" if "MFMT" in features or not features else b"MDTM"
        shifted = Stamp(stamp.at_ns + self._side._learned.sets_ahead_s * NS, stamp.precision_ns)
        return command + b" " + time_text(shifted) + b" " + path.raw

    async def set_permissions(self, line: FtpLine, path: SitePath, permissions: int) -> Reply:
        learned = self._side._learned
        reply = await line.ask(b"SITE CHMOD %o " % permissions + path.raw)
        learned.sets_permissions = _learned_of(learned.sets_permissions, reply)
        known, entry = learned.folders.one(path)
        if reply.is_good and known and entry is not None:
            learned.folders.made(path, replace(entry, permissions=permissions))
        return reply


def _hours_off(found: Stamp | None, wanted: Stamp) -> int:
    """What a time that was set is off by, in seconds: whole quarter hours up to a day, as clocks of zones differ; else 0."""
    if found is None or found.precision_ns > 60 * NS:
        return 0
    off_s = (found.at_ns - wanted.at_ns) / NS
    quarters = round(off_s / 900)
    near = abs(off_s - quarters * 900) <= max(2, found.precision_ns / NS)
    return quarters * 900 if near and 0 < abs(quarters) <= 96 else 0


def _learned_of(before: bool | None, reply: Reply) -> bool | None:
    """What a reply tells about an ability: a command the server does not know is never asked again."""
    if reply.is_good:
        return True
    return False if reply.code in (500, 501, 502, 504) and before is None else before


@dataclass(frozen=True, slots=True)
class WantedPermissions:
    """The permissions a file is to get: `exact`, or `at_most` as far as the server gives it to new files by itself."""

    exact: int | None = None
    at_most: int | None = None

    def to_set(self, given: int | None) -> int | None:
        """What must be set where new files are made with `given` (None: the server does not say); None for nothing."""
        if self.exact is not None or self.at_most is None:
            return self.exact
        wanted = within(self.at_most, given) if given is not None else self.at_most
        return None if wanted == given else wanted
