"""One item of a job: look at both ends again, keep what is there, land the new whole, remember how to take it back.

A safe write goes through these steps, and may be killed between any two of them without losing or halving anything:

    1  both ends are as the plan saw them, else the item fails as changed meanwhile
    2  the bytes go to a hidden name beside the target; meanwhile what is there is kept
    3  size, time and access of the hidden file are set and read back
    4  the change is announced in the database, with what takes it back
    5  the target is still as it was; the hidden file is renamed over it
    6  the change is confirmed, with the item's receipt and the new baseline, in one transaction

How the hidden file takes its name where no one step does it is told in `swap.py`. Where the server renames nothing, and the
site allows it, a file is overwritten in place: its old content is kept first, and put back where the new one does not come.

A runner that finds an announced change of a dead one looks at the target: if it is as announced, step 5 had happened.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncGenerator, AsyncIterator, Coroutine, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

from nailer.core.compare.joint import Seen, same_content, same_time, seen, still_as
from nailer.core.files.access import DEFAULT_FILE, carried_access, fitting, octal
from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.names import aside_name, part_name
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import ItemState
from nailer.core.plans.plan import Action
from nailer.engine.across import copied_tree, remove_copied
from nailer.engine.group import GroupCommit, Statement
from nailer.engine.keep import KeptContent, KeptStore
from nailer.engine.limits import SpeedLimits, lines_of
from nailer.engine.live import LiveJob
from nailer.engine.parts import by_its_own_name, cleared
from nailer.engine.sending import Access, Ends, Sending, SendingTools, proved_point
from nailer.engine.swap import settled, swap_in, tries_renaming
from nailer.errors import (
    AlreadyThere,
    Conflict,
    ConnectionDropped,
    FileMissing,
    FolderNotEmpty,
    NailerError,
    NotSupported,
    NotVerified,
    PermissionRefused,
    RenameRefused,
    ServerFailed,
    TransferError,
    WrongKind,
)
from nailer.sides.side import CHUNK_BYTES, Side, once, tolerated
from nailer.store.changes import ChangeStore, Level, NewChange, What, change_row, pair_key
from nailer.store.database import utc_now
from nailer.store.jobs import Item, Job
from nailer.store.parts import PartStore, begin_row
from nailer.unbroken import unbroken

_LEVELS = (Action.CARRY, Action.MAKE_FOLDER, Action.REMOVE, Action.REMOVE_FOLDER)

_A = TypeVar("_A")
_B = TypeVar("_B")


@dataclass(frozen=True, slots=True)
class Outcome:
    """How an item ended well: done or left out, why, and the rows that must be written with that."""

    state: ItemState
    reason: str
    content_hash: bytes | None = None
    statements: tuple[Statement, ...] = ()


@dataclass(slots=True)
class Carrier:
    """Carries the items of one job. `announced` is what a dead runner had announced, `levels` the baseline, by item."""

    job: Job
    sides: dict[SideName, Side]
    changes: ChangeStore
    kept: KeptStore
    parts: PartStore
    group: GroupCommit
    live: LiveJob
    keep_largest_bytes: int
    limits: SpeedLimits
    may_resume: bool = False
    source_site: Side | None = None
    announced: dict[int, tuple[What, Seen | None]] = field(default_factory=dict)
    hidden_parts: bool = True
    levels: dict[int, Level] = field(default_factory=dict)
    renames: bool = True
    tried: bool = False
    uncleared: set[tuple[int, bytes]] = field(default_factory=set)

    async def learn_levels(self, items: Sequence[Item]) -> None:
        """Ask once what the baseline says of many items that are about to be carried out."""
        owner = self.job.pair_site_id if self.job.kind == "sync" else self.job.site_id
        if self.job.kind not in ("carry", "sync") or owner is None:
            return
        kinds = (Action.CARRY,) if self.job.kind == "carry" else _LEVELS
        level = [item for item in items if item.action in kinds and item.source.name == item.target.name]
        pairs = [self._pair(item) for item in level]
        found = await self.changes.levels(owner, pairs, other_site_id=self.job.pair_other_id)
        self.levels |= {item.id: level for item, level in zip(level, found, strict=True)}

    def _pair(self, item: Item) -> tuple[SitePath, SitePath]:
        """An item's two ends: here, there."""
        ends = (item.source, item.target)
        return ends if self.job.changes_end is SideName.THERE else ends[::-1]

    def _is_level(
        self, level: Level | None, changed: Entry, other: Entry, digest: bytes | None = None
    ) -> list[Statement]:
        """The row that says of an item's two ends, of which one was changed, that they are level."""
        if level is None:
            return []
        here, there = (other, changed) if self.job.changes_end is SideName.THERE else (changed, other)
        return [("baselines.write", level.written(here, there, digest))]

    @property
    def _ahead(self) -> int | None:
        """How much to ask for ahead: a slice where the speed is limited."""
        return self.limits.slice_bytes(*lines_of(self.job))

    @property
    def target(self) -> Side:
        return self.sides[self.job.to_side]

    @property
    def source(self) -> Side:
        if self.source_site is not None:
            return self.source_site
        return self.sides[self.job.to_side if self.job.kind in ("copy", "move") else self.job.to_side.other]

    async def carry(self, item: Item, content: AsyncIterator[bytes] | None = None) -> Outcome:
        """Carry out one item. `content` is given where a browser sends it. Raises NailerErrors, which call the file by its
        own name."""
        try:
            return await self._act(item, content)
        except NailerError as error:
            error.what = by_its_own_name(item, error.what)
            error.server_words = by_its_own_name(item, error.server_words) if error.server_words else None
            raise

    async def _act(self, item: Item, content: AsyncIterator[bytes] | None) -> Outcome:
        if item.id in self.announced and (ended := await self._ended_before(item)):
            return ended
        match item.action:
            case Action.MAKE_FOLDER:
                return await self._make_folder(item)
            case Action.CARRY:
                return await self._carry_file(item, content)
            case Action.RESTORE:
                return await self._restore(item)
            case Action.REMOVE:
                return await self._remove_file(item)
            case Action.MOVE:
                return await self._move(item)
            case Action.REMOVE_FOLDER:
                return await self._remove_folder(item)
            case Action.SET_ACCESS:
                return await self._set_access(item)

    async def begin_parts(self, items: Sequence[Item]) -> None:
        """Write down the temporary files of items that are about to be carried: whatever happens, they have an owner."""
        await self.parts.begin([self._part_row(one) for one in items if one.action in (Action.CARRY, Action.RESTORE)])

    def _part_row(self, item: Item) -> Mapping[str, Any]:
        return begin_row(item.id, item.job_id, self.job.site_id, self.job.to_side, self._part(item))

    async def clear_part(self, item: Item) -> None:
        """Remove the file under a temporary name that a cut carry may have left. Only what is known to be gone loses its
        owner."""
        if await cleared(self.target, item.target.parent, item.job_id, item.id):
            self.uncleared = {one for one in self.uncleared if one[0] != item.id}
            await self.group.submit(("parts.gone", {"item_id": item.id}))

    async def settle(self, item: Item) -> Outcome | None:
        """What became of an item whose change was announced and not confirmed; None where it was not made."""
        return await self._ended_before(item) if item.id in self.announced else None

    async def _ended_before(self, item: Item) -> Outcome | None:
        """The outcome of an item whose change had been made when its runner died, or None where it had not."""
        what, after = self.announced.pop(item.id)
        now = await self._look(self.target, item.target)
        if after is not None and what in (What.MADE, What.REPLACED):
            landed = now is not None and _as_announced(now, after)
            await settled(self.target, item.target, self._aside(item), landed=landed)
            if now is None:
                now = await self._look(self.target, item.target)  # put back just now
        if after is None and what in (What.MADE, What.REPLACED):
            await self._put_content_back(item, now)
            return None
        if what in (What.REMOVED, What.LINK_REMOVED, What.FOLDER_REMOVED):
            happened = now is None
        elif what is What.RENAMED:
            happened = now is not None and await self._look(self.target, item.source) is None
        elif what is What.ACCESS_SET:
            happened = now is not None and now.access == item.entry.access
        elif what in (What.FOLDER_MADE, What.LINK_MADE):
            happened = now is not None
        else:
            happened = now is not None and after is not None and _as_announced(now, after)
        if happened:
            statements = (_confirm(item), *await self._taken_back(item))
            return Outcome(ItemState.DONE, "had landed before Nailer was stopped", None, statements)
        await self.group.submit(("changes.withdraw", {"item_id": item.id}))
        return None

    async def _make_folder(self, item: Item) -> Outcome:
        level = self._is_level(self.levels.pop(item.id, None), item.entry, item.entry)
        try:
            await self._change_at_once(item, What.FOLDER_MADE, self.target.make_folder(item.target))
        except AlreadyThere:
            there = await self._look(self.target, item.target)
            if there is not None and there.opens_as_folder:
                return Outcome(ItemState.DONE, "is there already", None, tuple(level))
            raise
        access = item.entry.access if item.undoes is not None else self._usual(self.job.folder_access)
        if access is not None:
            await tolerated(self.target.set_attributes(item.target, access=access))
        return Outcome(ItemState.DONE, item.reason, None, (_confirm(item), *await self._taken_back(item), *level))

    def _usual(self, access: int | None) -> int | None:
        """What the site says that new names there get; here the site has no say."""
        return access if self.job.to_side is SideName.THERE else None

    async def _carry_file(self, item: Item, content: AsyncIterator[bytes] | None) -> Outcome:
        sent = content
        if content is None:
            source, there, content = await self._source_of(item)
        else:
            source, there = item.entry, await self._look_first(item)
        if there is not None and there.is_file and item.seen is None and same_content(seen(there), seen(source)):
            return Outcome(ItemState.DONE, "is there already, the same")
        _check_as_seen(item, there)
        level = self.levels.pop(item.id, None)
        access = self._access_of(source, there)
        try:
            digest, landed = await self._land(item, content, source, there, access, level)
        except (RenameRefused, PermissionRefused, NotSupported):
            # Nothing can be made beside it, or take its name from there; the file itself may be writable all the same.
            if not self.job.in_place or self.job.to_side is SideName.HERE:
                raise
            if sent is None:
                source, there, content = await self._source_of(item)
            digest, landed = await self._overwrite(item, content, source, there, access, level)
        except Conflict:
            # What nobody looked for before may be there, and may be the same.
            met = await self._look(self.target, item.target) if there is None and item.seen is None else None
            if met is not None and met.is_file and same_content(seen(met), seen(source)):
                return Outcome(ItemState.DONE, "is there already, the same")
            raise
        return Outcome(
            ItemState.DONE, item.reason, digest, (_confirm(item), *self._is_level(level, landed, source, digest))
        )

    def _access_of(self, source: Entry, there: Entry | None) -> Access:
        """What a file keeps or gets: what it replaces decides, else what was chosen for the site, else what the file has
        where it comes from, as far as its new side makes files so open."""
        if there is not None:
            return Access(there.access)
        named = replace(source, kind=Kind.FILE)
        chosen = self._usual(self.job.file_access)
        if chosen is not None:
            return Access(fitting(named, chosen))
        if source.access is None:
            return Access(at_most=fitting(named))
        return Access(at_most=carried_access(named))

    async def _source_of(self, item: Item) -> tuple[Entry, Entry | None, AsyncIterator[bytes]]:
        """What is at the source, still as the plan saw it, what is at the target, and the source's bytes. A small file
        is read in one go; a larger one is looked at again once it was read."""
        if self.job.kind == "copy" and self.source is self.target:
            source, there = await _both(self.source.stat(item.source), self._look_first(item))
            content = self._read_still(item, 0)
        elif item.entry.size <= CHUNK_BYTES and self._ahead is None:
            if self._looks_first(item):
                (source, data), there = await _both(
                    self.source.whole(item.source), self._look(self.target, item.target)
                )
            else:
                (source, data), there = await self.source.whole(item.source), None
            content = once(data)
        else:
            source, there = await _both(self.source.stat(item.source), self._look_first(item))
            content = self._read_still(item, 0)
        if not still_as(source, item.entry):
            raise Conflict(f"{item.source} was changed after the plan was made.")
        return source, there, content

    async def _read_still(self, item: Item, start: int) -> AsyncGenerator[bytes, None]:
        """The bytes of the source; raises Conflict at their end where it changed while they were read."""
        async with contextlib.aclosing(self.source.read(item.source, start=start, ahead=self._ahead)) as chunks:
            async for chunk in chunks:
                yield chunk
        await self._check_source_still(item)

    async def _restore(self, item: Item) -> Outcome:
        there = await self._look(self.target, item.target)
        _check_as_seen(item, there)
        if item.entry.kind is Kind.LINK:
            link = self.target.make_link(item.target, item.entry.target or b"")
            await self._change_at_once(item, What.LINK_MADE, link)
            return Outcome(ItemState.DONE, item.reason, None, (_confirm(item), *await self._taken_back(item)))
        content = self.kept.read(item.kept_hash or b"")
        access = item.entry.access if item.entry.access is not None else DEFAULT_FILE
        digest, _ = await self._land(item, content, item.entry, there, Access(access))
        return Outcome(ItemState.DONE, item.reason, digest, (_confirm(item), *await self._taken_back(item)))

    async def _remove_file(self, item: Item) -> Outcome:
        there = await self._look_before_removal(item)
        level = self._forgotten(item)
        if there is None:
            return self._gone_already(item, level)
        _check_as_seen(item, there)
        kept = await self._keep(item, there) if there.is_file else None
        what = What.LINK_REMOVED if there.kind is Kind.LINK else What.REMOVED
        removal = self.target.remove_file(item.target)
        await self._change_at_once(item, what, removal, before=there, before_hash=kept.hash if kept else None)
        return Outcome(ItemState.DONE, item.reason, None, (_confirm(item), *await self._taken_back(item), *level))

    def _gone_already(self, item: Item, level: list[Statement]) -> Outcome:
        """Nothing is there to be removed. Of a change that was to be taken back nobody knows then what became of it: its
        folder may have another name by now. It stays on offer."""
        if item.undoes is not None:
            return Outcome(ItemState.LEFT, "is not there any more: moved or removed by somebody else")
        return Outcome(ItemState.DONE, "was gone already", None, tuple(level))

    async def _look_before_removal(self, item: Item) -> Entry | None:
        """What is at the target. A name that a pair is to lose must still be gone from its other end: a listing that was cut
        short must not cost a file. Raises Conflict."""
        if self.job.kind != "sync":
            return await self._look(self.target, item.target)
        there, other = await _both(self._look(self.target, item.target), self._look_across(item.source))
        if other is not None and other.kind is item.entry.kind:
            raise Conflict(f"{item.source} is there after all, so {item.target} stays.")
        return there

    async def _look_across(self, path: SitePath) -> Entry | None:
        try:
            return await self._look(self.source, path)
        except WrongKind:
            return None  # a file where one of the folders above was

    def _forgotten(self, item: Item) -> list[Statement]:
        """The row that takes a name out of the baseline which both ends have lost then."""
        level = self.levels.pop(item.id, None)
        return [("baselines.forget", level.key)] if level is not None else []

    async def _move(self, item: Item) -> Outcome:
        """Rename within the side; a name that is taken by then stays as it is."""
        before = await self._look(self.target, item.source)
        if before is None:
            raise Conflict(f"{item.source} was moved or removed after the plan was made.")
        if self.job.kind == "sync" and before.size != item.entry.size:
            raise Conflict(f"{item.source} was changed after the plan was made.")
        moving = self.target.rename(item.source, item.target)
        try:
            await self._change_at_once(item, What.RENAMED, moving, before=before, path=item.source, other=item.target)
        except AlreadyThere as error:
            raise Conflict(f"{item.target} appeared after the plan was made.") from error
        except (ServerFailed, NotSupported):
            # Often the two lie on file systems of their own, and no server says so.
            if not before.is_file and not before.is_folder:
                raise
            await self._announce(item, What.RENAMED, before=before, path=item.source, other=item.target)
            await self._move_by_copy(item, before)
        return Outcome(
            ItemState.DONE, item.reason, None, (_confirm(item), *await self._taken_back(item), *self._moved_along(item))
        )

    async def _move_by_copy(self, item: Item, before: Entry) -> None:
        """Copy, compare, and only then remove the old: for a move that the server cannot make by renaming. The copy lies
        under a temporary name until it is whole."""
        part = self._part(item)
        await self.clear_part(item)  # what an earlier try copied before it was killed
        await self.parts.begin([self._part_row(item)])
        self.uncleared.add((item.id, part.name))
        try:
            copied = await copied_tree(self.target, item.source, part, before)
            await self.target.rename(part, item.target, looked=False)
        except BaseException:
            await asyncio.shield(self._clear_after_failure(item))
            await self._withdraw(item)
            raise
        self.uncleared.discard((item.id, part.name))
        await self.group.submit(("parts.gone", {"item_id": item.id}))
        await remove_copied(self.target, item.source, copied)

    def _moved_along(self, item: Item) -> list[Statement]:
        """The row that lets the baseline follow a name which is renamed at one end as it was at the other."""
        owner, near, far = self.job.pair_site_id, self.job.source_folder, self.job.target_folder
        old, new = item.source.below(far), item.target.below(far)
        if self.job.kind != "sync" or owner is None or old is None or new is None:
            return []
        tops = (near, far) if self.job.changes_end is SideName.THERE else (far, near)

        def key(below: tuple[bytes, ...]) -> bytes:
            return pair_key(tops[0].join(below[:-1]), tops[1].join(below[:-1]), self.job.pair_other_id)

        values = {"old_key": key(old), "old_name": old[-1], "new_key": key(new), "new_name": new[-1]}
        return [("baselines.move", {"site_id": owner} | values)]

    async def _set_access(self, item: Item) -> Outcome:
        """Set the twelve bits and read them back: a server may take the command and do as it likes."""
        wanted = item.entry.access
        there = await self._look(self.target, item.target)
        if there is None or wanted is None:
            raise Conflict(f"{item.target} was removed after the plan was made.")
        taken_back = await self._taken_back(item)
        if there.access == wanted:
            return Outcome(ItemState.DONE, "is so already", None, taken_back)
        if item.seen is not None and item.seen.access != there.access:
            raise Conflict(f"The access of {item.target} was changed after the plan was made.")
        setting = self.target.set_attributes(item.target, access=wanted)
        after = replace(there, access=wanted)
        await self._change_at_once(item, What.ACCESS_SET, setting, before=there, after=after)
        now = await self._look(self.target, item.target)
        if now is None or now.access != wanted:
            await self._withdraw_or_correct(item, there, now)
            is_now = "gone" if now is None else octal(now.access) if now.access is not None else "not said"
            raise NotVerified(
                f"The server took the command and did otherwise: {item.target} was to get {octal(wanted)} and is {is_now}.",
                server_words=None,
            )
        return Outcome(ItemState.DONE, item.reason, None, (_confirm(item), *taken_back))

    async def _withdraw_or_correct(self, item: Item, before: Entry, now: Entry | None) -> None:
        """What was announced did not come about; where something else did, that is what can be taken back."""
        await self._withdraw(item)
        if now is not None and now.access != before.access:
            await self._announce(item, What.ACCESS_SET, before=before, after=now)
            await self.group.submit(_confirm(item))

    async def _copied_there(self, item: Item, source: Entry, access: Access, sending: Sending) -> Entry | None:
        """A copy that the side makes by itself, under the temporary name; None where it cannot."""
        within = self.job.kind == "copy" and self.source is self.target and self._ahead is None
        if not within or not await self.target.copy(item.source, self._part(item)):
            return None
        sending.taken_as_sent(source.size)
        bits = access.exact if access.exact is not None else access.at_most
        await tolerated(self.target.set_attributes(self._part(item), access=bits, stamp=source.stamp))
        return await self.target.stat(self._part(item))

    async def _remove_folder(self, item: Item) -> Outcome:
        there = await self._look_before_removal(item)
        level = self._forgotten(item)
        if there is None:
            return self._gone_already(item, level)
        if not there.is_folder:
            raise Conflict(f"{item.target} is no folder any more.")
        try:
            removal = self.target.remove_folder(item.target)
            await self._change_at_once(item, What.FOLDER_REMOVED, removal, before=there)
        except FolderNotEmpty:
            if item.undoes is None:
                raise
            return Outcome(ItemState.LEFT, "holds other files by now")
        return Outcome(ItemState.DONE, item.reason, None, (_confirm(item), *await self._taken_back(item), *level))

    async def _land(
        self,
        item: Item,
        content: AsyncIterator[bytes],
        source: Entry,
        there: Entry | None,
        access: Access,
        level: Level | None = None,
    ) -> tuple[bytes | None, Entry]:
        """Steps 2 to 5 of a safe write. Returns the content's hash and the entry that now stands at the target."""
        if not await self._may_rename(item):
            return await self._overwrite(item, content, source, there, access, level)
        sending = self._sending(content, item, source)
        if self.may_resume and item.action is Action.CARRY and self.job.kind in ("carry", "sync"):
            await self._resume(sending, item, source)
        try:
            if there is None:
                part, landed, kept = *await self._send_beside(sending, item, source, access, item.target), None
            else:
                landing = self._send_beside(sending, item, source, access, None)
                (part, landed), kept = await _both(landing, self._keep(item, there, level))
            if landed.size != sending.size:
                words = f"{landed.size} bytes landed, {sending.size} were sent"
                raise NotVerified(f"{item.target} did not land whole.", server_words=words)
            after = replace(landed, name=item.target.name)
            what = What.MADE if there is None else What.REPLACED
            await self._announce(
                item,
                what,
                before=there,
                before_hash=kept.hash if kept else None,
                after=after,
                after_hash=sending.digest,
                level_before=level,
            )
            try:
                await unbroken(self._rename_over(item, part, there))
            except ConnectionDropped:
                # Whether it was renamed nobody knows; the next try looks.
                self.announced[item.id] = (what, seen(after))
                raise
            except NailerError:
                await self._withdraw_or_remember(item, there, kept)
                raise
        except AlreadyThere as error:
            await asyncio.shield(self._clear_after_failure(item))
            raise Conflict(f"{item.target} appeared after the plan was made.") from error
        except (ConnectionDropped, asyncio.CancelledError):
            # What has gone of a large file is used when it is tried again, and cleared where it is not.
            if source.size <= CHUNK_BYTES:
                await asyncio.shield(self._clear_after_failure(item))
            raise
        except BaseException:
            await asyncio.shield(self._clear_after_failure(item))
            raise
        return sending.digest, after

    def part_ended(self, item: Item) -> tuple[Statement, ...]:
        """The row that says that an item's temporary file is gone; none where it may still be there."""
        left = any(item_id == item.id for item_id, _ in self.uncleared)
        made = item.action in (Action.CARRY, Action.RESTORE) and not left
        return (("parts.gone", {"item_id": item.id}),) if made else ()

    async def _resume(self, sending: Sending, item: Item, source: Entry) -> None:
        """Let the carry of a large file go on where an earlier try was cut. Nothing is done where neither side is this
        machine."""
        near = next((side for name, side in self.sides.items() if name is SideName.HERE), None)
        if near is None or self.source is self.target:
            return
        ends = Ends(self.source, item.source, self.target, self._part(item), from_here=self.source is near)
        if (proof := await proved_point(ends, source, await self.parts.proofs_of(item.id))) is None:
            return
        reading = self.source.read(item.source) if ends.from_here else self.target.read(ends.part)
        await sending.begin_at(proof, reading, self._read_still(item, proof.at))

    async def _send_beside(
        self, sending: Sending, item: Item, source: Entry, access: Access, free: SitePath | None
    ) -> tuple[SitePath, Entry]:
        """Write under a temporary name beside the target; return that and what stands there then."""
        try:
            if (copied := await self._copied_there(item, source, access, sending)) is not None:
                return self._part(item), copied
            return self._part(item), await self._send(self._part(item), sending, item, source, access, free)
        except (NotSupported, PermissionRefused):
            if not self.hidden_parts or sending.begun:
                raise
            # Some hosts refuse every name that begins with a dot.
            self.hidden_parts = False
            try:
                return self._part(item), await self._send(self._part(item), sending, item, source, access, free)
            except BaseException:
                self.hidden_parts = True
                raise

    async def _send(
        self, part: SitePath, sending: Sending, item: Item, source: Entry, access: Access, free: SitePath | None
    ) -> Entry:
        async with contextlib.aclosing(sending.chunks()) as chunks:
            self.uncleared.add((item.id, part.name))
            landed = await self.target.land(
                part,
                chunks,
                start=sending.start,
                access=access.exact,
                at_most=access.at_most,
                stamp=source.stamp,
                free=free,
            )
        if sending.size != source.size:
            words = f"{sending.size} bytes came, {source.size} were expected"
            raise Conflict(f"{item.source} changed while it was read: {words}.")
        return landed

    async def _check_source_still(self, item: Item) -> None:
        now = await self.source.stat(item.source)
        if not still_as(now, item.entry):
            raise Conflict(f"{item.source} changed while it was read.")

    async def _rename_over(self, item: Item, part: SitePath, there: Entry | None) -> None:
        if there is None:
            try:
                await self.target.rename(part, item.target, looked=True)
            except AlreadyThere as error:
                raise Conflict(f"{item.target} appeared after the plan was made.") from error
            self.uncleared.discard((item.id, part.name))
            return
        now = await self._look(self.target, item.target)
        if now is None or not still_as(now, there):
            raise Conflict(f"{item.target} was changed by somebody while the new one was on its way.")
        away = await swap_in(self.target, part, item.target, self._aside(item))
        self.uncleared.discard((item.id, part.name))
        if not away:
            self.uncleared.add((item.id, self._aside(item).name))

    async def _may_rename(self, item: Item) -> bool:
        """False where files are to be overwritten in place: the site allows it, and its server renames nothing."""
        if self.renames and self.job.in_place and not self.tried and self.job.to_side is SideName.THERE:
            self.tried = True
            self.renames = await tries_renaming(self.target, item.target.parent) is not False
        return self.renames

    async def _withdraw_or_remember(self, item: Item, there: Entry | None, kept: KeptContent | None) -> None:
        """Nothing came of an announced change, unless the old file lost its name on the way: that can be taken back then."""
        await self._withdraw(item)
        if there is None or kept is None or await self._look(self.target, item.target) is not None:
            return
        await self._announce(item, What.REMOVED, before=there, before_hash=kept.hash)
        await self.group.submit(_confirm(item))

    async def _overwrite(
        self,
        item: Item,
        content: AsyncIterator[bytes],
        source: Entry,
        there: Entry | None,
        access: Access,
        level: Level | None,
    ) -> tuple[bytes | None, Entry]:
        """Write a file under its own name, where nothing can be renamed: its old content is kept first, and put back where
        the new one does not come whole. Announced without what it will be: until it is confirmed it may be a half."""
        kept = await self._keep(item, there, level)
        if there is not None and there.is_file and kept is None:
            sentence = f"{item.target} is too large to be kept, so it is not overwritten in place."
            raise RenameRefused(sentence, server_words=None)
        if there is None and await self._look(self.target, item.target) is not None:
            raise Conflict(f"{item.target} appeared after the plan was made.")
        before_hash = kept.hash if kept else None
        what = What.MADE if there is None else What.REPLACED
        await self._announce(item, what, before=there, before_hash=before_hash, level_before=level)
        sending = self._sending(content, item, source)
        try:
            landed = await self._send(item.target, sending, item, source, access, None)
            if landed.size != sending.size:
                words = f"{landed.size} bytes landed, {sending.size} were sent"
                raise NotVerified(f"{item.target} did not land whole.", server_words=words)
        except (ConnectionDropped, asyncio.CancelledError):
            self.announced[item.id] = (what, None)
            raise
        except NailerError:
            await self._put_content_back(item, await self._look(self.target, item.target), before_hash, there)
            raise
        self.uncleared.discard((item.id, item.target.name))
        after = replace(landed, name=item.target.name)
        await self._withdraw(item)
        await self._announce(
            item,
            what,
            before=there,
            before_hash=before_hash,
            after=after,
            after_hash=sending.digest,
            level_before=level,
        )
        return sending.digest, after

    async def _put_content_back(
        self, item: Item, now: Entry | None, before_hash: bytes | None = None, before: Entry | None = None
    ) -> None:
        """Undo a writing in place that did not end: the old content comes back, and what was new goes. What stands there is
        kept all the same: it may be somebody else's by now."""
        before = before or item.seen
        if before_hash is None and before is not None:
            before_hash = await self.changes.before_of_item(item.id)
        untouched = now is not None and before is not None and still_as(now, before)
        if untouched or (before is not None and before_hash is None) or (before is None and now is None):
            await self._withdraw(item)
            return
        half = await self._keep(item, now)
        if before is not None and before_hash is not None:
            old = self.kept.read(before_hash)
            landed = await self.target.land(item.target, old, access=before.access, stamp=before.stamp)
            if landed.size != before.size:
                raise NotVerified(f"The old content of {item.target} did not come back whole.")
            what, after = (What.MADE if now is None else What.REPLACED), landed
        elif now is not None and now.is_file and half is not None:
            await self.target.remove_file(item.target)
            what, after = What.REMOVED, None
        else:
            return
        await self._withdraw(item)
        await self._announce(item, what, before=now, before_hash=half.hash if half else None, after=after)
        await self.group.submit(_confirm(item))

    async def _keep(self, item: Item, there: Entry | None, level: Level | None = None) -> KeptContent | None:
        """Keep what is at the target, unless the store is known to have it. None: there is nothing, or it is too large
        to keep, as the plan said."""
        if there is None or not there.is_file or there.size > self.keep_largest_bytes:
            return None
        known = await self._known_content(there, level)
        if known is not None:
            return known
        async with contextlib.aclosing(self.target.read(item.target)) as chunks:
            kept = await self.kept.put(self._moving(item, chunks))
        if kept.size != there.size:
            raise Conflict(f"{item.target} changed while it was being kept.")
        return kept

    async def _moving(self, item: Item, chunks: AsyncIterator[bytes]) -> AsyncGenerator[bytes, None]:
        """Chunks that count as a sign of life of their item, though not as progress."""
        async for chunk in chunks:
            self.live.sent(item.id, 0)
            yield chunk

    async def _known_content(self, there: Entry, level: Level | None) -> KeptContent | None:
        """What the target holds, where the baseline proves it and the store has it: no byte is fetched then."""
        known = level.content(self.job.changes_end) if level is not None else None
        if known is None:
            return None
        was, digest = known
        if same_content(seen(there), was) and await self.changes.is_kept(digest):
            return KeptContent(digest, there.size)
        return None

    async def _change_at_once(
        self,
        item: Item,
        what: What,
        act: Coroutine[Any, Any, None],
        *,
        before: Entry | None = None,
        before_hash: bytes | None = None,
        path: SitePath | None = None,
        other: SitePath | None = None,
        after: Entry | None = None,
    ) -> None:
        """Announce a change and make it; withdraw the announcement where it cannot be made."""
        try:
            await self._announce(
                item, what, before=before, before_hash=before_hash, path=path, other=other, after=after
            )
        except BaseException:
            act.close()
            raise
        try:
            await unbroken(act)
        except ConnectionDropped:
            # Whether it was made nobody knows; the next try looks.
            self.announced[item.id] = (what, None)
            raise
        except TransferError:
            await self._withdraw(item)
            raise

    async def _announce(
        self,
        item: Item,
        what: What,
        *,
        before: Entry | None = None,
        before_hash: bytes | None = None,
        after: Entry | None = None,
        after_hash: bytes | None = None,
        level_before: Level | None = None,
        path: SitePath | None = None,
        other: SitePath | None = None,
    ) -> None:
        change = NewChange(
            site_id=self.job.site_id,
            side=self.job.to_side,
            path=path or item.target,
            other_path=other,
            what=what,
            account_id=self.job.account_id,
            before=before,
            before_hash=before_hash,
            after=after,
            after_hash=after_hash,
            job_id=self.job.id,
            item_id=item.id,
            level_before=level_before,
        )
        await self.group.submit(("changes.add", change_row(change)))

    async def _taken_back(self, item: Item) -> tuple[Statement, ...]:
        """The rows that mark the change this item undoes, and put the baseline back to what it said before it."""
        if item.undoes is None:
            return ()
        marked: Statement = ("changes.taken_back", {"id": item.undoes, "now": utc_now()})
        level = (await self.changes.get(item.undoes)).level_before
        return (marked, level.to_put_back) if level is not None else (marked,)

    async def _withdraw(self, item: Item) -> None:
        await self.group.submit(("changes.withdraw", {"item_id": item.id}))

    async def _clear_after_failure(self, item: Item) -> None:
        with contextlib.suppress(TransferError, TimeoutError):
            async with asyncio.timeout(10):
                await self.clear_part(item)

    def _sending(self, content: AsyncIterator[bytes], item: Item, source: Entry) -> Sending:
        return Sending(content, item, source, SendingTools(self.job, self.live, self.limits, self.parts))

    async def _look_first(self, item: Item) -> Entry | None:
        """What is at the target. Nobody looks first where a small new file is sent: landing tells whether the name is
        free, and the look would cost as much as the file."""
        return await self._look(self.target, item.target) if self._looks_first(item) else None

    def _looks_first(self, item: Item) -> bool:
        return item.seen is not None or item.entry.size > CHUNK_BYTES

    async def _look(self, side: Side, path: SitePath) -> Entry | None:
        try:
            return await side.stat(path)
        except FileMissing:
            return None

    def _aside(self, item: Item) -> SitePath:
        return item.target.parent.child(aside_name(item.job_id, item.id, hidden=self.hidden_parts))

    def _part(self, item: Item) -> SitePath:
        return item.target.parent.child(part_name(item.job_id, item.id, hidden=self.hidden_parts))


async def _both(one: Coroutine[Any, Any, _A], other: Coroutine[Any, Any, _B]) -> tuple[_A, _B]:
    """Two requests at the same time; where one fails the other is cancelled, and the first error is raised."""
    first, second = asyncio.create_task(one), asyncio.create_task(other)
    try:
        done, _ = await asyncio.wait({first, second}, return_when=asyncio.FIRST_EXCEPTION)
        for task in done:
            task.result()
        return await first, await second
    finally:
        first.cancel()
        second.cancel()
        await asyncio.gather(first, second, return_exceptions=True)


def _check_as_seen(item: Item, there: Entry | None) -> None:
    """Return where the target is as the plan saw it. Raises Conflict."""
    if item.seen is None and there is None:
        return
    if item.seen is None:
        raise Conflict(f"{item.target} appeared after the plan was made.")
    if there is None:
        raise Conflict(f"{item.target} was removed after the plan was made.")
    if not still_as(there, item.seen):
        raise Conflict(f"{item.target} was changed after the plan was made.")


def _as_announced(now: Entry, after: Seen) -> bool:
    return now.is_file and now.size == after.size and (after.stamp is None or same_time(now.stamp, after.stamp))


def _confirm(item: Item) -> Statement:
    return ("changes.confirm", {"item_id": item.id})
