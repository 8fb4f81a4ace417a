"""Temporary files of items: how they are called to a person, and how they are known to be gone."""

from __future__ import annotations

from nailer.core.files.names import aside_name, part_name
from nailer.core.files.sitepath import SitePath
from nailer.engine.across import removed_tree
from nailer.errors import FileMissing, TransferError, WrongKind
from nailer.sides.side import Side, is_there
from nailer.store.jobs import Item


def temporary_names(item: Item) -> list[str]:
    """Every name that an item's content may have for a while, as it is shown."""
    return [
        make(item.job_id, item.id, hidden=hidden).decode()
        for make in (part_name, aside_name)
        for hidden in (True, False)
    ]


async def cleared(side: Side, folder: SitePath, job_id: int, item_id: int) -> bool:
    """Remove an item's temporary file, or the folder that it copied, by either name; True where it is known to be gone."""
    gone = True
    for hidden in (True, False):
        path = folder.child(part_name(job_id, item_id, hidden=hidden))
        try:
            await side.remove_file(path)
        except FileMissing:
            continue
        except TransferError:
            gone = await _no_file_there(side, path) and gone
    return gone


async def _no_file_there(side: Side, path: SitePath) -> bool:
    """What could not be removed as a file may be the folder of a move that was cut; that goes with all in it. True where
    nothing is there then."""
    try:
        if (await side.stat(path)).is_folder:
            await removed_tree(side, path)
        return not await is_there(side, path)
    except WrongKind:
        return True  # a folder on the way is none any more
    except TransferError as error:
        return isinstance(error, FileMissing)
