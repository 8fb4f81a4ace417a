"""Editing where the file lies: drafts stay, saving lands whole, and nobody's change is overwritten."""

from __future__ import annotations

import asyncio
import os
import stat
from dataclasses import replace

import pytest

from nailer.core.files.entry import SideName
from nailer.core.files.text import TextForm
from nailer.core.jobs.states import JobState
from nailer.errors import Conflict, FileMissing, InvalidInput, NotEditable, NotFound
from nailer.services.editing.drafts import Opened, Saved
from nailer.standins.faults import Full
from nailer.store.drafts import Draft
from tests.builders import NOON_S, tree, write
from tests.engine.test_carry import over_ftp
from tests.world import THERE, World, a_world

PATH = THERE.child(b"site.css")


async def opened(world: World, name: bytes = b"site.css") -> Opened:
    return await world.nailer.editing.drafts.open(world.account_id, world.site, SideName.THERE, THERE.child(name))


async def typed(world: World, text: str, name: bytes = b"site.css") -> Draft:
    draft = (await opened(world, name)).draft
    await world.nailer.editing.drafts.type(draft, text, None)
    return await world.nailer.editing.drafts.own(world.account_id, draft.id)


async def save(world: World, draft: Draft) -> Saved:
    return await world.nailer.editing.drafts.save(draft, world.site)


async def test_a_save_lands_whole_and_what_it_replaced_comes_back(world: World) -> None:
    write(world.there, "site.css", "a {}\n").chmod(0o640)
    draft = await typed(world, "a {}\nb {}\n")

    saved = await save(world, draft)

    assert saved.done
    assert tree(world.there) == {"site.css": b"a {}\nb {}\n"}
    assert stat.S_IMODE((world.there / "site.css").stat().st_mode) == 0o640
    (change,) = await world.nailer.stores.changes.of_path(world.site.id, SideName.THERE, PATH)
    job_id = await world.nailer.plans.take_back.take_change_back(world.account_id, world.site, change)
    assert job_id is not None
    await world.ended(job_id)
    assert tree(world.there) == {"site.css": b"a {}\n"}


async def test_what_is_typed_stays_over_a_restart(world: World, tmp_path, migrated_url: str) -> None:  # type: ignore[no-untyped-def]
    write(world.there, "site.css", "a {}\n")
    draft = (await opened(world)).draft
    await world.nailer.editing.drafts.type(draft, "typed\n", '{"history": 1}')
    await world.nailer.stop()

    async with a_world(tmp_path, migrated_url) as again:
        found = await again.nailer.editing.drafts.open(again.account_id, again.site, SideName.THERE, PATH)

    assert (found.text, found.base_text, found.draft.history) == ("typed\n", "a {}\n", '{"history": 1}')


async def test_somebody_elses_change_is_never_overwritten(world: World) -> None:
    write(world.there, "site.css", "a\nb\nc\n")
    draft = await typed(world, "A\nb\nc\n")
    write(world.there, "site.css", "a\nb\nC\n", NOON_S)  # the same size and time, by a hand from outside

    saved = await save(world, draft)

    assert not saved.done
    assert saved.merge is not None
    assert (saved.merge.conflicts, saved.merge.text) == ((), "A\nb\nC\n")
    assert (world.there / "site.css").read_text() == "a\nb\nC\n"
    await world.nailer.editing.drafts.settle(draft, world.site, saved.merge.text)
    assert (await save(world, await world.nailer.editing.drafts.own(world.account_id, draft.id))).done
    assert (world.there / "site.css").read_text() == "A\nb\nC\n"


async def test_the_same_lines_changed_by_two_are_shown_side_by_side(world: World) -> None:
    write(world.there, "site.css", "a\nb\n")
    draft = await typed(world, "mine\nb\n")
    write(world.there, "site.css", "theirs\nb\n")

    merge, theirs = await world.nailer.editing.drafts.merge(draft, world.site)

    assert [(one.mine, one.theirs, one.line) for one in merge.conflicts] == [("mine\n", "theirs\n", 1)]
    assert theirs == "theirs\nb\n"


async def test_a_change_between_the_look_and_the_rename_is_noticed_too(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    write(world.there, "site.css", "a\n")
    draft = await typed(world, "mine\n")
    add = world.nailer.plans.prepared.add

    async def meanwhile(*args: object, **more: object) -> int:
        await asyncio.to_thread(write, world.there, "site.css", "theirs, later\n", NOON_S + 60)
        return await add(*args, **more)  # type: ignore[arg-type]

    monkeypatch.setattr(world.nailer.editing.drafts._writing, "add", meanwhile)
    saved = await save(world, draft)

    assert saved.merge is not None
    assert not (await world.nailer.stores.jobs.overview()).needing_you
    assert (world.there / "site.css").read_text() == "theirs, later\n"
    assert (await world.nailer.editing.drafts.own(world.account_id, draft.id)).text == "mine\n"


async def test_a_draft_that_is_what_is_there_vanishes(world: World) -> None:
    write(world.there, "site.css", "a\n")
    await typed(world, "b\n")
    write(world.there, "site.css", "b\n")

    found = await opened(world)

    assert (found.draft.text, found.base_text, found.changed_there) == (None, "b\n", False)


async def test_a_file_opened_and_not_changed_follows_the_server(world: World) -> None:
    write(world.there, "site.css", "a\n")
    await opened(world)
    write(world.there, "site.css", "new\n")

    assert (await opened(world)).text == "new\n"


async def test_undoing_to_what_was_opened_leaves_no_draft(world: World) -> None:
    write(world.there, "site.css", "a\n")
    draft = await typed(world, "b\n")

    assert await world.nailer.editing.drafts.type(draft, "a\n", None) is False
    (file,) = await world.nailer.editing.drafts.open_files(world.account_id)
    assert not file.has_changes


@pytest.mark.parametrize("data", [b"\xef\xbb\xbfa\r\nb\r\n", b"caf\xe9\n", b"a\rb\r", b"a\r\nb\n", b"no end"])
async def test_the_form_of_a_file_stays_as_it_was(world: World, data: bytes) -> None:
    write(world.there, "site.css", data)
    found = await opened(world)
    draft = await typed(world, found.text + "x")

    assert (await save(world, draft)).done
    assert (world.there / "site.css").read_bytes() == data + b"x"


async def test_another_form_is_taken_over_with_the_next_save(world: World) -> None:
    write(world.there, "site.css", b"caf\xe9\n")
    draft = (await opened(world)).draft

    await world.nailer.editing.drafts.store_as(draft, TextForm("utf-8", line_end="\r\n"))
    await save(world, await world.nailer.editing.drafts.own(world.account_id, draft.id))

    assert (world.there / "site.css").read_bytes() == "café\r\n".encode()


async def test_a_letter_the_set_lacks_is_said_before_anything_is_written(world: World) -> None:
    write(world.there, "site.css", b"caf\xe9\n")
    draft = await typed(world, "café →\n")

    with pytest.raises(InvalidInput, match="cannot represent"):
        await save(world, draft)
    assert (world.there / "site.css").read_bytes() == b"caf\xe9\n"


async def test_a_file_removed_there_is_saved_as_a_new_one_only_when_asked(world: World) -> None:
    write(world.there, "site.css", "a\n")
    draft = await typed(world, "b\n")
    (world.there / "site.css").unlink()

    assert (await save(world, draft)).gone
    assert tree(world.there) == {}
    await world.nailer.editing.drafts.as_new(draft)
    assert (await save(world, await world.nailer.editing.drafts.own(world.account_id, draft.id))).done
    assert tree(world.there) == {"site.css": b"b\n"}


async def test_a_new_file_begins_as_a_draft_and_replaces_nothing(world: World) -> None:
    draft = await world.nailer.editing.drafts.begin_new(world.account_id, world.site, SideName.THERE, PATH, "new\n")
    assert tree(world.there) == {}
    write(world.there, "site.css", "somebody was faster\n")

    saved = await save(world, draft)

    assert saved.merge is not None
    assert (world.there / "site.css").read_text() == "somebody was faster\n"
    with pytest.raises(Conflict):
        other = THERE.child(b"other.css")
        write(world.there, "other.css", "x")
        await world.nailer.editing.drafts.begin_new(world.account_id, world.site, SideName.THERE, other, "")


async def test_no_room_there_keeps_the_draft_and_the_old_file(world: World) -> None:
    write(world.there, "site.css", "a\n")
    draft = await typed(world, "x" * 50_000)
    world.host.fault = Full(1000)

    saved = await save(world, draft)

    assert "no space" in saved.why_not
    assert tree(world.there) == {"site.css": b"a\n"}
    assert (await world.nailer.editing.drafts.own(world.account_id, draft.id)).text == "x" * 50_000


async def test_what_is_no_text_or_too_large_is_not_opened(world: World) -> None:
    write(world.there, "pier.png", b"\x89PNG\r\n\x1a\n\0")
    write(world.there, "large.css", b"a" * 2_000_001)
    (world.there / "folder").mkdir()

    for name, why in ((b"pier.png", "not a text file"), (b"large.css", "up to"), (b"folder", "not a file")):
        with pytest.raises(NotEditable, match=why):
            await opened(world, name)
    with pytest.raises(FileMissing):
        await opened(world, b"none.css")


async def test_a_link_is_edited_where_it_leads(world: World) -> None:
    write(world.there, "site.css", "a\n")
    (world.there / "link.css").symlink_to("site.css")

    assert (await save(world, await typed(world, "b\n", b"link.css"))).done

    assert os.readlink(world.there / "link.css") == "site.css"
    assert (world.there / "site.css").read_text() == "b\n"


async def test_two_people_see_each_other_and_not_each_others_drafts(world: World) -> None:
    write(world.there, "site.css", "a\n")
    draft = await typed(world, "maren's\n")
    other_id = await world.nailer.people.accounts.make("tam", "a-longer-password")
    other = (await world.nailer.editing.drafts.open(other_id, world.site, SideName.THERE, PATH)).draft

    assert await world.nailer.editing.drafts.others(other) == [("maren", True)]
    assert await world.nailer.editing.drafts.others(draft) == [("tam", False)]
    with pytest.raises(NotFound):
        await world.nailer.editing.drafts.own(other_id, draft.id)


async def test_the_other_side_is_edited_too(world: World) -> None:
    write(world.here, "site.css", "a\n")
    path = world.site.counterpart(SideName.THERE, PATH)
    assert path is not None
    draft = (await world.nailer.editing.drafts.open(world.account_id, world.site, SideName.HERE, path)).draft
    await world.nailer.editing.drafts.type(draft, "b\n", None)

    saved = await world.nailer.editing.drafts.save(replace(draft, text="b\n"), world.site)

    assert saved.job_id is not None
    assert (await world.nailer.stores.jobs.get(saved.job_id)).state is JobState.DONE
    assert tree(world.here) == {"site.css": b"b\n"}


@pytest.mark.parametrize("manners", [{}, {"lacks": ("MLST", "MLSD", "MFMT")}], ids=["with facts", "by LIST alone"])
async def test_a_file_is_edited_over_ftp_too(world: World, manners: dict[str, object]) -> None:
    async with over_ftp(world, **manners):
        write(world.there, "site.css", "a\n").chmod(0o640)
        assert (await save(world, await typed(world, "b\n"))).done
        assert (world.there / "site.css").read_text() == "b\n"
        assert (await save(world, await typed(world, "b, again\n"))).done
        write(world.there, "site.css", "theirs\n")
        draft = await typed(world, "mine\n")
        write(world.there, "site.css", "others\n")
        assert (await save(world, draft)).merge is not None
    assert (world.there / "site.css").read_text() == "others\n"
