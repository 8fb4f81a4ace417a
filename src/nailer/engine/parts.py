"""Temporary files of items: how they are called to a person, and how they are known to be gone."""

from __future__ import annotations

from nailer.core.names import aside_name, part_name
from nailer.core.sitepath import SitePath, shown_name
from nailer.errors import FileMissing, TransferError, WrongKind
from nailer.sides.side import Side
from nailer.store.jobs import Item


def by_its_own_name(item: Item, text: str) -> str:
    """A sentence about a temporary name, said of the file itself: nobody knows it by another."""
    for hidden in (True, False):
        for name in (part_name(item.job_id, item.id, hidden=hidden), aside_name(item.job_id, item.id, hidden=hidden)):
            text = text.replace(name.decode(), shown_name(item.target.name))
    return text


async def cleared(side: Side, folder: SitePath, job_id: int, item_id: int) -> bool:
    """Remove an item's temporary file, by either of its names; True where it is known to be gone."""
    gone = True
    for hidden in (True, False):
        try:
            await side.remove_file(folder.child(part_name(job_id, item_id, hidden=hidden)))
        except FileMissing:
            continue
        except WrongKind:
            continue  # a folder on the way is none any more
        except TransferError:
            gone = False
    return gone
