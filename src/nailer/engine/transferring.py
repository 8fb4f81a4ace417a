"""One item of a job: look at both ends again, keep what is there, land the new whole, remember how to take it back.

A safe write goes through these steps, and may be killed between any two of them without losing or halving anything:

    1  both ends are as the plan saw them, else the item fails as changed meanwhile
    2  the bytes go to a hidden name beside the target; meanwhile what is there is kept
    3  size, time and permissions of the hidden file are set and read back
    4  the change is announced in the database, with what takes it back
    5  the target is still as it was; the hidden file is renamed over it
    6  the change is confirmed, with the item's receipt and the new baseline, in one transaction

How the hidden file takes its name where no one step does it is told in `swap.py`. Where the server renames nothing, and the
site allows it, a file is overwritten in place: its old content is kept first, and put back where the new one does not come.

A runner that finds an announced change of a dead one looks at the target: if it is as announced, step 5 had happened.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import dataclass, replace

from nailer.core.compare.joint import Seen, same_content, same_time, seen, still_as
from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.permissions import DEFAULT_FILE, carried_permissions, fitting, octal, opened_beyond
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import ItemState
from nailer.core.plans.plan import Action
from nailer.engine.across import copied_tree, remove_copied
from nailer.engine.context import JobContext, both
from nailer.engine.group_commit import Statement
from nailer.engine.in_place import InPlace
from nailer.engine.keeper import Keeper
from nailer.engine.landing import Landing
from nailer.engine.parts import temporary_names
from nailer.engine.read_back import is_read_back, read_back
from nailer.engine.receipts import Receipts, confirmed
from nailer.engine.sender import Sender
from nailer.engine.sending import Permissions
from nailer.engine.source_reader import SourceReader
from nailer.engine.swap import settled
from nailer.errors import (
    AlreadyThere,
    Conflict,
    FolderNotEmpty,
    NailerError,
    NotSupported,
    NotVerified,
    PermissionRefused,
    RenameRefused,
    ServerFailed,
    WrongKind,
)
from nailer.sides.side import tolerated
from nailer.store.changes import What
from nailer.store.jobs import Item


@dataclass(frozen=True, slots=True)
class Outcome:
    """How an item ended well: done or left out, why, and the rows that must be written with that."""

    state: ItemState
    reason: str
    content_hash: bytes | None = None
    statements: tuple[Statement, ...] = ()


_TAKES_AWAY = (Action.REMOVE, Action.REMOVE_FOLDER, Action.MOVE)


class Transferrer:
    """Carries the items of one job: one small function an action."""

    def __init__(self, context: JobContext) -> None:
        self.context = context
        self.receipts = Receipts(context)
        self.keeper = Keeper(context)
        self.reader = SourceReader(context)
        self.sender = Sender(context, self.reader)
        self.in_place = InPlace(context, self.receipts, self.keeper, self.sender)
        self.landing = Landing(context, self.receipts, self.keeper, self.sender, self.in_place)

    async def transfer(self, item: Item, content: AsyncIterator[bytes] | None = None) -> Outcome:
        """Carry out one item. `content` is given where a browser sends it. Raises NailerErrors, which call the file by its
        own name."""
        try:
            return await self._act(item, content)
        except NailerError as error:
            error.of_name(item.target, temporary_names(item))
            raise

    async def _act(self, item: Item, content: AsyncIterator[bytes] | None) -> Outcome:
        if item.id in self.context.announced and (ended := await self._ended_before(item)):
            return ended
        if item.action in _TAKES_AWAY and (why := self._kept_because(item)):
            return Outcome(ItemState.LEFT, why)
        match item.action:
            case Action.MAKE_FOLDER:
                return await self._make_folder(item)
            case Action.TRANSFER:
                return await self._transfer_file(item, content)
            case Action.RESTORE:
                return await self._restore(item)
            case Action.REMOVE:
                return await self._remove_file(item)
            case Action.MOVE:
                return await self._move(item)
            case Action.REMOVE_FOLDER:
                return await self._remove_folder(item)
            case Action.SET_PERMISSIONS:
                return await self._set_permissions(item)

    def _kept_because(self, item: Item) -> str:
        """Why nothing may take this name away; '' where it may go. The mark may be younger than the plan."""
        path = item.source if item.action is Action.MOVE else item.target
        return self.context.keeps.because(self.context.job.to_side, path)

    async def settle(self, item: Item) -> Outcome | None:
        """What became of an item whose change was announced and not confirmed; None where it was not made."""
        return await self._ended_before(item) if item.id in self.context.announced else None

    async def _ended_before(self, item: Item) -> Outcome | None:
        """The outcome of an item whose change had been made when its runner died, or None where it had not."""
        what, after = self.context.announced.pop(item.id)
        now = await self.context.look(self.context.target, item.target)
        if after is not None and what in (What.MADE, What.REPLACED):
            landed = now is not None and _as_announced(now, after)
            await settled(self.context.target, item.target, self.context.aside(item), landed=landed)
            if now is None:
                now = await self.context.look(self.context.target, item.target)  # put back just now
        if after is None and what in (What.MADE, What.REPLACED):
            await self.in_place.put_content_back(item, now)
            return None
        if what in (What.REMOVED, What.LINK_REMOVED, What.FOLDER_REMOVED):
            happened = now is None
        elif what is What.RENAMED:
            happened = now is not None and await self.context.look(self.context.target, item.source) is None
        elif what is What.PERMISSIONS_SET:
            happened = now is not None and now.permissions == item.entry.permissions
        elif what in (What.FOLDER_MADE, What.LINK_MADE):
            happened = now is not None
        else:
            happened = now is not None and after is not None and _as_announced(now, after)
        if happened:
            statements = (confirmed(item), *await self.receipts.taken_back(item))
            reason = "was complete before Nailer stopped"
            if is_read_back(self.context, item):
                reason += "; it was not read back"
            return Outcome(ItemState.DONE, reason, None, statements)
        await self.context.group.submit(("changes.withdraw", {"item_id": item.id}))
        return None

    async def _make_folder(self, item: Item) -> Outcome:
        level = self.receipts.is_level(self.context.levels.pop(item.id, None), item.entry, item.entry)
        try:
            await self.receipts.change_at_once(item, What.FOLDER_MADE, self.context.target.make_folder(item.target))
        except AlreadyThere:
            there = await self.context.look(self.context.target, item.target)
            if there is not None and there.opens_as_folder:
                return Outcome(ItemState.DONE, "already exists", None, tuple(level))
            raise
        permissions = (
            item.entry.permissions
            if item.undoes is not None
            else self.context.usual(self.context.job.folder_permissions)
        )
        if permissions is not None:
            await tolerated(self.context.target.set_attributes(item.target, permissions=permissions))
        return Outcome(
            ItemState.DONE, item.reason, None, (confirmed(item), *await self.receipts.taken_back(item), *level)
        )

    async def _transfer_file(self, item: Item, content: AsyncIterator[bytes] | None) -> Outcome:
        sent = content
        if content is None:
            source, there, content = await self.reader.source_of(item)
        else:
            source, there = item.entry, await self.context.look_first(item)
        if there is not None and there.is_file and item.seen is None and same_content(seen(there), seen(source)):
            return Outcome(ItemState.DONE, "already exists and is the same")
        _check_as_seen(item, there)
        level = self.context.levels.pop(item.id, None)
        permissions = self._permissions_of(source, there)
        try:
            digest, landed = await self.landing.land(item, content, source, there, permissions, level)
        except (RenameRefused, PermissionRefused, NotSupported):
            # Nothing can be made beside it, or take its name from there; the file itself may be writable all the same.
            if not self.context.job.in_place or self.context.job.to_side is SideName.HERE:
                raise
            if sent is None:
                source, there, content = await self.reader.source_of(item)
            digest, landed = await self.in_place.overwrite(item, content, source, there, permissions, level)
        except Conflict:
            # What nobody looked for before may be there, and may be the same.
            met = (
                await self.context.look(self.context.target, item.target)
                if there is None and item.seen is None
                else None
            )
            if met is not None and met.is_file and same_content(seen(met), seen(source)):
                return Outcome(ItemState.DONE, "already exists and is the same")
            raise
        await read_back(self.context, item, digest)
        return Outcome(
            ItemState.DONE,
            _more_open(landed, permissions) or item.reason,
            digest,
            (confirmed(item), *self.receipts.is_level(level, landed, source, digest)),
        )

    def _permissions_of(self, source: Entry, there: Entry | None) -> Permissions:
        """What a file keeps or gets: what it replaces decides, else what was chosen for the site, else what the file has
        where it comes from, as far as its new side makes files so open."""
        if there is not None:
            return Permissions(there.permissions)
        named = replace(source, kind=Kind.FILE)
        chosen = self.context.usual(self.context.job.file_permissions)
        if chosen is not None:
            return Permissions(fitting(named, chosen))
        if source.permissions is None:
            return Permissions(at_most=fitting(named))
        return Permissions(at_most=carried_permissions(named))

    async def _restore(self, item: Item) -> Outcome:
        there = await self.context.look(self.context.target, item.target)
        _check_as_seen(item, there)
        if item.entry.kind is Kind.LINK:
            link = self.context.target.make_link(item.target, item.entry.target or b"")
            await self.receipts.change_at_once(item, What.LINK_MADE, link)
            return Outcome(ItemState.DONE, item.reason, None, (confirmed(item), *await self.receipts.taken_back(item)))
        permissions = Permissions(item.entry.permissions if item.entry.permissions is not None else DEFAULT_FILE)

        async def _land() -> bytes | None:
            content = self.context.kept.read(item.kept_hash or b"")
            return (await self.landing.land(item, content, item.entry, there, permissions))[0]

        hidden = self.context.hidden_parts  # as it is now: another item may find out meanwhile
        try:
            digest = await _land()
        except PermissionRefused:
            if not hidden:
                raise
            # The host may refuse every name that begins with a dot, and have said so only when the bytes were on their way.
            self.context.hidden_parts = False
            digest = await _land()
        return Outcome(ItemState.DONE, item.reason, digest, (confirmed(item), *await self.receipts.taken_back(item)))

    async def _remove_file(self, item: Item) -> Outcome:
        there = await self._look_before_removal(item)
        level = self.receipts.forgotten(item)
        if there is None:
            return self._gone_already(item, level)
        _check_as_seen(item, there)
        kept = await self.keeper.keep(item, there) if there.is_file else None
        what = What.LINK_REMOVED if there.kind is Kind.LINK else What.REMOVED
        removal = self.context.target.remove_file(item.target)
        await self.receipts.change_at_once(item, what, removal, before=there, before_hash=kept.hash if kept else None)
        return Outcome(
            ItemState.DONE, item.reason, None, (confirmed(item), *await self.receipts.taken_back(item), *level)
        )

    def _gone_already(self, item: Item, level: list[Statement]) -> Outcome:
        """Nothing is there to be removed. Of a change that was to be taken back nobody knows then what became of it: its
        folder may have another name by now. It stays on offer."""
        if item.undoes is not None:
            return Outcome(ItemState.LEFT, "no longer exists: moved or removed by someone else")
        return Outcome(ItemState.DONE, "was already removed", None, tuple(level))

    async def _look_before_removal(self, item: Item) -> Entry | None:
        """What is at the target. A name that a pair is to lose must still be gone from its other end: a listing that was cut
        short must not cost a file. Raises Conflict."""
        if self.context.job.kind is not JobKind.SYNC:
            return await self.context.look(self.context.target, item.target)
        there, other = await both(self.context.look(self.context.target, item.target), self._look_across(item.source))
        if other is not None and other.kind is item.entry.kind:
            raise Conflict(f"{item.source} still exists, so {item.target} was not removed.")
        return there

    async def _look_across(self, path: SitePath) -> Entry | None:
        try:
            return await self.context.look(self.context.source, path)
        except WrongKind:
            return None  # a file where one of the folders above was

    async def _move(self, item: Item) -> Outcome:
        """Rename within the side; a name that is taken by then stays as it is."""
        before = await self.context.look(self.context.target, item.source)
        if before is None:
            raise Conflict(f"{item.source} was moved or removed after the plan was made.")
        if self.context.job.kind is JobKind.SYNC and before.size != item.entry.size:
            raise Conflict(f"{item.source} was changed after the plan was made.")
        moving = self.context.target.rename(item.source, item.target)
        try:
            await self.receipts.change_at_once(
                item, What.RENAMED, moving, before=before, path=item.source, other=item.target
            )
        except AlreadyThere as error:
            raise Conflict(f"{item.target} appeared after the plan was made.") from error
        except (ServerFailed, NotSupported):
            # Often the two lie on file systems of their own, and no server says so.
            if not before.is_file and not before.is_folder:
                raise
            await self.receipts.announce(item, What.RENAMED, before=before, path=item.source, other=item.target)
            await self._move_by_copy(item, before)
        return Outcome(
            ItemState.DONE,
            item.reason,
            None,
            (confirmed(item), *await self.receipts.taken_back(item), *self.receipts.moved_along(item)),
        )

    async def _move_by_copy(self, item: Item, before: Entry) -> None:
        """Copy, compare, and only then remove the old: for a move that the server cannot make by renaming. The copy lies
        under a temporary name until it is whole."""
        part = self.context.part(item)
        await self.context.clear_part(item)  # what an earlier try copied before it was killed
        await self.context.parts.begin([self.context.part_row(item)])
        self.context.uncleared.add((item.id, part.name))
        try:
            copied = await copied_tree(self.context.target, item.source, part, before)
            await self.context.target.rename(part, item.target, looked=False)
        except BaseException:
            await asyncio.shield(self.context.clear_after_failure(item))
            await self.receipts.withdraw(item)
            raise
        self.context.uncleared.discard((item.id, part.name))
        await self.context.group.submit(("parts.gone", {"item_id": item.id}))
        await remove_copied(self.context.target, item.source, copied)

    async def _set_permissions(self, item: Item) -> Outcome:
        """Set the twelve bits and read them back: a server may take the command and do as it likes."""
        wanted = item.entry.permissions
        there = await self.context.look(self.context.target, item.target)
        if there is None or wanted is None:
            raise Conflict(f"{item.target} was removed after the plan was made.")
        taken_back = await self.receipts.taken_back(item)
        if there.permissions == wanted:
            return Outcome(ItemState.DONE, "already set", None, taken_back)
        if item.seen is not None and item.seen.permissions != there.permissions:
            raise Conflict(f"The permissions of {item.target} were changed after the plan was made.")
        setting = self.context.target.set_attributes(item.target, permissions=wanted)
        after = replace(there, permissions=wanted)
        await self.receipts.change_at_once(item, What.PERMISSIONS_SET, setting, before=there, after=after)
        now = await self.context.look(self.context.target, item.target)
        if now is None or now.permissions != wanted:
            await self.receipts.withdraw_or_correct(item, there, now)
            is_now = "gone" if now is None else octal(now.permissions) if now.permissions is not None else "not said"
            raise NotVerified(
                (
                    f"The server accepted the command but did not apply it: {item.target} should be {octal(wanted)} "
                    f"and is {is_now}."
                ),
                server_words=None,
            )
        return Outcome(ItemState.DONE, item.reason, None, (confirmed(item), *taken_back))

    async def _remove_folder(self, item: Item) -> Outcome:
        there = await self._look_before_removal(item)
        level = self.receipts.forgotten(item)
        if there is None:
            return self._gone_already(item, level)
        if not there.is_folder:
            raise Conflict(f"{item.target} is no longer a folder.")
        try:
            removal = self.context.target.remove_folder(item.target)
            await self.receipts.change_at_once(item, What.FOLDER_REMOVED, removal, before=there)
        except FolderNotEmpty:
            if item.undoes is None:
                raise
            return Outcome(ItemState.LEFT, "now contains other files")
        return Outcome(
            ItemState.DONE, item.reason, None, (confirmed(item), *await self.receipts.taken_back(item), *level)
        )


def _more_open(landed: Entry, permissions: Permissions) -> str:
    """What is said of a file that others may read against what was wanted; '' where that is not so."""
    wanted = permissions.exact if permissions.exact is not None else permissions.at_most
    if landed.permissions is None or wanted is None or not opened_beyond(landed.permissions, wanted):
        return ""
    are, meant = octal(landed.permissions), octal(wanted)
    return f"is open to more people than intended ({are}, not {meant}): the server did not set it"


def _check_as_seen(item: Item, there: Entry | None) -> None:
    """Return where the target is as the plan saw it. Raises Conflict."""
    if item.seen is None and there is None:
        return
    if item.seen is None:
        raise Conflict(f"{item.target} appeared after the plan was made.")
    if there is None:
        raise Conflict(f"{item.target} was removed after the plan was made.")
    if there.kind is Kind.LINK and item.seen.kind is not Kind.LINK:
        raise Conflict(f"{item.target} is a link, but the plan treated it as its target. Make a new plan.")
    if not still_as(there, item.seen):
        raise Conflict(f"{item.target} was changed after the plan was made.")


def _as_announced(now: Entry, after: Seen) -> bool:
    return now.is_file and now.size == after.size and (after.stamp is None or same_time(now.stamp, after.stamp))
