"""Files edited with a program of one's own: each save here is sent, or offered, and never over somebody else's change."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

import pytest

from nailer.errors import Conflict, FileMissing, NotFound
from nailer.store.drafts import OwnFile
from tests.builders import NOON_S, write
from tests.world import THERE, World

PATH = THERE.child(b"site.css")


async def begin(world: World, *, sends: bool) -> OwnFile:
    return await world.nailer.editing.own.begin(world.account_id, world.site, PATH, sends=sends)


async def until(condition: Callable[[], bool]) -> None:
    async with asyncio.timeout(20):
        while not condition():
            await asyncio.sleep(0.05)


def now(world: World) -> OwnFile:
    (own,) = world.nailer.editing.own.of_account(world.account_id)
    return own


async def test_a_save_is_sent_by_itself_where_that_is_wanted(world: World) -> None:
    write(world.there, "site.css", "old")
    await begin(world, sends=True)
    assert (world.here / "site.css").read_text() == "old"

    for text in ("first save", "second save, longer"):
        await asyncio.to_thread((world.here / "site.css").write_text, text)
        await until(lambda text=text: (world.there / "site.css").read_text() == text)  # type: ignore[misc]
    await until(lambda: now(world).saved_at is None)


async def test_a_save_is_offered_and_sent_when_asked(world: World) -> None:
    write(world.there, "site.css", "old")
    await begin(world, sends=False)

    await asyncio.to_thread((world.here / "site.css").write_text, "saved here")
    await until(lambda: now(world).saved_at is not None)
    assert (world.there / "site.css").read_text() == "old"
    sent = await world.nailer.editing.own.send(now(world))

    assert (sent.trouble, sent.saved_at) == ("", None)
    assert (world.there / "site.css").read_text() == "saved here"


async def test_an_editor_that_writes_beside_and_renames_is_noticed(world: World) -> None:
    write(world.there, "site.css", "old")
    await begin(world, sends=True)

    def save() -> None:
        (world.here / "site.css.tmp").write_text("by rename")
        (world.here / "site.css.tmp").replace(world.here / "site.css")

    await asyncio.to_thread(save)
    await until(lambda: (world.there / "site.css").read_text() == "by rename")


async def test_somebody_elses_change_is_never_replaced(world: World) -> None:
    write(world.there, "site.css", "old")
    await begin(world, sends=True)
    write(world.there, "site.css", "theirs", NOON_S + 50)

    await asyncio.to_thread((world.here / "site.css").write_text, "mine")

    await until(lambda: "someone else" in now(world).trouble)
    assert (world.there / "site.css").read_text() == "theirs"


async def test_what_was_saved_while_nailer_was_stopped_is_found(world: World) -> None:
    write(world.there, "site.css", "old")
    await begin(world, sends=False)
    await world.nailer.editing.own.stop()
    await asyncio.to_thread((world.here / "site.css").write_text, "saved meanwhile")

    world.nailer.editing.own.start()

    await until(lambda: now(world).saved_at is not None)


async def test_a_copy_here_with_changes_of_its_own_is_not_replaced(world: World) -> None:
    write(world.there, "site.css", "old")
    write(world.here, "site.css", "changed here")

    with pytest.raises(Conflict, match="differs"):
        await begin(world, sends=True)
    assert (world.here / "site.css").read_text() == "changed here"
    (world.there / "site.css").unlink()
    with pytest.raises(FileMissing):
        await begin(world, sends=True)


async def test_a_file_that_is_let_go_is_not_sent_any_more(world: World) -> None:
    write(world.there, "site.css", "old")
    write(world.there, "print.css", "old")
    own = await begin(world, sends=True)
    beside = PATH.parent.child(b"print.css")
    await world.nailer.editing.own.begin(world.account_id, world.site, beside, sends=True)

    await world.nailer.editing.own.let_go(own)
    await asyncio.to_thread((world.here / "site.css").write_text, "later")
    await asyncio.to_thread((world.here / "print.css").write_text, "later")
    # A save after it, in the same folder, has been noticed and sent.
    await until(lambda: (world.there / "print.css").read_text() == "later")

    assert (world.there / "site.css").read_text() == "old"
    with pytest.raises(NotFound):
        await world.nailer.editing.own.get(world.account_id, own.id)
