"""Where files are to land: the room there, and the folders that must be made first."""

from __future__ import annotations

from collections.abc import Sequence

from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import SitePath
from nailer.core.plans.plan import Action, Verdict
from nailer.errors import FileMissing, TransferError
from nailer.sides.side import Side
from nailer.store.jobs import NewItem


async def room_at(side: Side, folder: SitePath) -> int | None:
    """Bytes that are free where a folder is, or will be; None where the side does not say."""
    while True:
        try:
            room = await side.room(folder)
        except TransferError:
            if folder.is_root:
                return None
            folder = folder.parent
            continue
        return room.free_bytes if room is not None else None


async def missing_folders(side: Side, folder: SitePath) -> list[SitePath]:
    """The folders that must be made so that `folder` is there, the highest first."""
    missing: list[SitePath] = []
    while not folder.is_root:
        try:
            await side.stat(folder)
            break
        except FileMissing:
            missing.append(folder)
            folder = folder.parent
    return missing[::-1]


def folder_items(folders: Sequence[SitePath]) -> list[NewItem]:
    """Items that make missing folders, the outermost first."""
    return [
        NewItem(Action.MAKE_FOLDER, Verdict.NEW, "new folder", path, path, Entry(path.name, Kind.FOLDER))
        for path in folders
    ]
