"""Done means seen: after a server has said yes, the names are looked at.

A server may take a command, answer that all went well, and have done nothing, or something else. What a side says is done
was seen to be so here: a renamed name is where it was to go, a removed one is gone. A server that needs a moment is given
one. What then is not so is `NotDone`, with everything where it was, or `NotVerified` where something is lost.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

from nailer.core.compare.joint import still_as
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath
from nailer.errors import NotDone, NotVerified

# Some servers carry a command out a moment after they have answered.
_PAUSES_S = (0.0, 0.25, 0.75, 1.5)
_NOTHING_KEPT = ("Check the free space of the account. Nothing was replaced.",)
_LOST = ("Look at the folder before anything else is done. What was replaced is among the kept copies.",)

Look = Callable[[SitePath], Awaitable[Entry | None]]
"""What stands under a name now; None where it is known that nothing does. Raises what looking raises."""


async def see_renamed(look: Look, old: SitePath, new: SitePath, was: Entry) -> None:
    """Return once what stood under a name stands under its new one: `was` is how it was seen to be. Raises NotDone where it
    stands under the old one still, NotVerified where it is under neither."""
    still = now = None
    for pause_s in _PAUSES_S:
        await asyncio.sleep(pause_s)
        now = await look(new)
        if now is not None and still_as(now, was):
            return
        still = await look(old)
        # A server that copies in order to rename may give it a new time.
        if still is None and now is not None and (now.kind, now.size) == (was.kind, was.size):
            return
    if still is not None:
        raise NotDone("The server said that it renamed {path}, and did not.", path=old)
    sentence = "It is under neither name now." if now is None else "Something else has the new name."
    raise NotVerified(f"The server said that it renamed {{path}}. {sentence}", path=old, advice=_LOST)


async def see_landed(look: Look, path: SitePath, size: int) -> Entry:
    """What stands under the name of a file that was written, once it has its size, or as it is after a moment. Raises
    NotVerified where there is nothing."""
    landed = None
    for pause_s in _PAUSES_S[:-1]:
        await asyncio.sleep(pause_s)
        landed = await look(path)
        if landed is not None and landed.size == size:
            break
    if landed is None:
        raise NotVerified("The server took all of {path} and kept nothing of it.", path=path, advice=_NOTHING_KEPT)
    return landed


async def see_made(look: Look, path: SitePath) -> None:
    """Return once something stands under a name. Raises NotDone."""
    for pause_s in _PAUSES_S:
        await asyncio.sleep(pause_s)
        if await look(path) is not None:
            return
    raise NotDone("The server said that it made {path}, and it is not there.", path=path)


async def see_gone(look: Look, path: SitePath) -> None:
    """Return once nothing stands under a name. Raises NotDone."""
    for pause_s in _PAUSES_S:
        await asyncio.sleep(pause_s)
        if await look(path) is None:
            return
    raise NotDone("The server said that it removed {path}, and it is still there.", path=path)
