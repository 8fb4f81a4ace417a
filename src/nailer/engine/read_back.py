"""Reading back what was uploaded, where a site wants that: who lies in every answer is found out by the bytes alone."""

from __future__ import annotations

from contextlib import aclosing

from blake3 import blake3

from nailer.core.files.entry import SideName
from nailer.core.plans.plan import Action
from nailer.engine.context import JobContext
from nailer.engine.receipts import confirmed
from nailer.errors import NotVerified, TransferError
from nailer.store.jobs import Item


def is_read_back(context: JobContext, item: Item) -> bool:
    """True where what is sent for this item is to be read back."""
    return context.job.reads_back and context.job.to_side is SideName.THERE and item.action is Action.TRANSFER


async def read_back(context: JobContext, item: Item, sent: bytes | None) -> None:
    """Return where the target holds what was sent, by its BLAKE3 hash, or where the site does not want it read. Raises
    NotVerified; the change that was made is confirmed then, and stays on offer to be taken back."""
    if not is_read_back(context, item) or sent is None:
        return
    hashed, words = blake3(), None
    sentence = "{path} was read back, and the content there now is not what was sent."
    try:
        async with aclosing(context.target.read(item.target)) as chunks:
            async for chunk in chunks:
                hashed.update(chunk)
    except TransferError as error:
        sentence, words = f"{{path}} was sent, and could not be read back. {error.what}", error.server_words
    else:
        if hashed.digest() == sent:
            return
    await context.group.submit(confirmed(item))
    advice = ("Take the job back, or send the file again: what was replaced is kept.",)
    raise NotVerified(sentence, path=item.target, server_words=words, advice=advice)
