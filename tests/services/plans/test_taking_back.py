"""Taking back everything since a moment, and kept copies within their limits."""

from __future__ import annotations

from datetime import timedelta

import pytest

from nailer.core.files.entry import SideName
from nailer.core.files.permissions import PermissionsWish
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Verdict
from nailer.errors import InvalidInput
from nailer.store.changes import Change, What
from nailer.store.database import utc_now
from tests.builders import NOON_S, tree, write
from tests.world import THERE, World


async def edit(world: World, name: bytes, text: str) -> None:
    draft = (
        await world.nailer.editing.drafts.open(world.account_id, world.site, SideName.THERE, THERE.child(name))
    ).draft
    await world.nailer.editing.drafts.type(draft, text, None)
    saved = await world.nailer.editing.drafts.save(
        await world.nailer.editing.drafts.own(world.account_id, draft.id), world.site
    )
    assert saved.done, saved


async def oldest(world: World) -> Change:
    return (await world.nailer.stores.changes.latest(world.site.id))[-1]


async def test_everything_since_a_moment_goes_back_newest_first(world: World) -> None:
    write(world.there, "a.html", "first", NOON_S).chmod(0o644)
    write(world.there, "gone/b.html", "b", NOON_S)
    before = tree(world.there)
    await edit(world, b"a.html", "second")
    await edit(world, b"a.html", "third, and longer")
    write(world.here, "new.html", "new")
    await world.upload("new.html")
    await world.nailer.files.change.rename(
        world.account_id, world.site, SideName.THERE, THERE.child(b"new.html"), b"other.html"
    )
    await world.remove(SideName.THERE, "gone")
    reading = await world.nailer.files.permissions.read(
        world.account_id, world.site, SideName.THERE, THERE, [b"a.html"]
    )
    await world.ended(await world.nailer.files.permissions.carry_out(world.site, reading, PermissionsWish("600", "")))

    job_id = await world.nailer.plans.take_back.take_back_since(world.account_id, world.site, await oldest(world))
    job = await world.run(job_id)

    assert job.state is JobState.DONE
    assert tree(world.there) == before
    assert (world.there / "a.html").stat().st_mode & 0o777 == 0o644


async def test_what_others_changed_since_is_left_and_said(world: World) -> None:
    write(world.there, "a.html", "a")
    write(world.there, "b.html", "b")
    await edit(world, b"a.html", "A!")
    await edit(world, b"b.html", "B!")
    write(world.there, "b.html", "somebody else's", NOON_S + 99)

    job_id = await world.nailer.plans.take_back.take_back_since(world.account_id, world.site, await oldest(world))
    plan = await world.nailer.plans.reader.read(job_id, world.site)
    left = [item for item in plan.items if item.verdict is Verdict.LEFT]
    assert [item.target.name for item in left] == [b"b.html"]
    assert "changed since" in left[0].reason
    assert (await world.run(job_id)).state is JobState.DONE
    assert tree(world.there) == {"a.html": b"a", "b.html": b"somebody else's"}


async def test_only_what_came_after_the_moment_goes_back(world: World) -> None:
    write(world.there, "a.html", "first")
    await edit(world, b"a.html", "second")
    await edit(world, b"a.html", "third, longer")
    newest = (await world.nailer.stores.changes.latest(world.site.id))[0]

    await world.run(await world.nailer.plans.take_back.take_back_since(world.account_id, world.site, newest))

    assert tree(world.there) == {"a.html": b"second"}


async def test_kept_copies_beyond_their_size_go_oldest_first(world: World) -> None:
    write(world.there, "a.html", "a" * 5000)
    write(world.there, "b.html", "b" * 5000)
    await edit(world, b"a.html", "A")
    await edit(world, b"b.html", "B")
    contents, stored = await world.nailer.stores.changes.kept_room()
    assert contents == 2

    gone = await world.nailer.plans.kept.limit(None, stored - 1)

    assert gone == 1
    changes = {one.path.name: one for one in await world.nailer.stores.changes.latest(world.site.id)}
    assert not changes[b"a.html"].can_be_taken_back
    assert changes[b"b.html"].can_be_taken_back
    kept = list((world.nailer.settings.home / "kept").rglob("*.zst"))
    assert len(kept) == 1


async def test_kept_copies_beyond_their_age_go(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    write(world.there, "a.html", "a")
    await edit(world, b"a.html", "A!")
    assert await world.nailer.plans.kept.limit(30, None) == 0

    monkeypatch.setattr("nailer.services.plans.kept_copies.utc_now", lambda: utc_now() + timedelta(days=31))
    assert await world.nailer.plans.kept.tidy() == 1
    assert (await world.nailer.stores.changes.kept_room())[0] == 0
    with pytest.raises(InvalidInput):
        await world.nailer.plans.kept.limit(0, None)


async def test_changes_are_found_by_path_person_and_side(world: World) -> None:
    write(world.there, "a_1.html", "a")
    write(world.here, "b.html", "b")
    await edit(world, b"a_1.html", "A!")
    await world.upload("b.html")
    latest = world.nailer.stores.changes.latest

    assert [one.path.name for one in await latest(world.site.id, wanted="a_1")] == [b"a_1.html"]
    assert await latest(world.site.id, wanted="a%1") == []
    assert len(await latest(world.site.id, wanted="maren")) == 2
    assert len(await latest(world.site.id, side="here")) == 0
    assert len(await latest(world.site.id, wanted="Upload of")) == 1


async def _renamed(world: World, old: str, new: bytes) -> None:
    await world.nailer.files.change.rename(
        world.account_id, world.site, SideName.THERE, THERE.join(tuple(old.encode().split(b"/"))), new
    )


async def test_what_was_changed_is_found_and_taken_back_in_a_renamed_folder(world: World) -> None:
    write(world.here, "old/a.html", "longer than before")
    write(world.there, "old/a.html", "before")
    job = await world.upload("old")
    await _renamed(world, "old", b"older")
    await _renamed(world, "older/a.html", b"b.html")
    now = THERE.child(b"older").child(b"b.html")

    copies = await world.nailer.plans.changes.of_path(world.site.id, SideName.THERE, now)

    assert [one.what for one in copies] == [What.RENAMED, What.REPLACED]
    assert await world.nailer.plans.changes.of_path(world.site.id, SideName.THERE, THERE.child(b"old")) == []
    await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))
    assert tree(world.there) == {"older/b.html": b"before"}


async def test_one_change_is_taken_back_after_a_rename_and_its_taking_back(world: World) -> None:
    write(world.there, "old/a.html", "before")
    write(world.here, "old/a.html", "longer than before")
    await world.upload("old")
    (change,) = [one for one in await world.nailer.stores.changes.latest(world.site.id) if one.what is What.REPLACED]
    await _renamed(world, "old", b"older")
    (rename,) = [one for one in await world.nailer.stores.changes.latest(world.site.id) if one.what is What.RENAMED]
    await world.nailer.plans.take_back.take_change_back(world.account_id, world.site, rename)
    assert tree(world.there) == {"old/a.html": b"longer than before"}

    job_id = await world.nailer.plans.take_back.take_change_back(world.account_id, world.site, change)

    assert job_id is not None
    await world.ended(job_id)
    assert tree(world.there) == {"old/a.html": b"before"}


async def test_everything_since_goes_back_through_a_renamed_folder(world: World) -> None:
    write(world.there, "old/a.html", "before")
    write(world.here, "old/a.html", "longer than before")
    await world.upload("old")
    await _renamed(world, "old", b"older")

    await world.run(
        await world.nailer.plans.take_back.take_back_since(world.account_id, world.site, await oldest(world))
    )

    assert tree(world.there) == {"old/a.html": b"before"}
