"""Verified copies over a real server: whole or none, content once, restore tested, restored byte for byte."""

from __future__ import annotations

import asyncio
import os
import random
from pathlib import Path
from shutil import rmtree

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.people.rights import Grant, Person, Right
from nailer.core.work.kinds import WorkKind
from nailer.core.work.states import CopyState
from nailer.errors import Conflict, InvalidInput, NoSpaceLeft, NotAllowed, NotFound, UnderWay
from nailer.sides.side import once
from nailer.store.packages.copies import VerifiedCopy
from tests.builders import tree, write
from tests.world import World


async def taken(world: World) -> VerifiedCopy:
    copies = world.nailer.packages.copies
    await copies.take(world.account_id, world.site, world.top, "Moss Lane")
    await copies.wait(world.site.id)
    return (await copies.of(world.site))[0]


def look(folder: Path) -> dict[str, tuple[bytes | str, int]]:
    """Everything below a folder: content (of a link its target) and permissions."""
    found: dict[str, tuple[bytes | str, int]] = {}
    for one in sorted(folder.rglob("*")):
        name = str(one.relative_to(folder))
        if one.is_symlink():
            found[name] = (os.readlink(one), 0)
        else:
            found[name] = (one.read_bytes() if one.is_file() else "folder", one.stat().st_mode & 0o777)
    return found


def lay_out(world: World, seed: int = 1) -> None:
    noise = random.Random(seed)
    for number in range(14):
        name = f"{'skins/' * (number % 3)}part{number % 4}/file-{number}.bin"
        write(world.there, name, noise.randbytes(noise.randrange(0, 40_000))).chmod(noise.choice((0o644, 0o600, 0o755)))
    write(world.there, "twice/a.txt", "the same")
    write(world.there, "twice/b.txt", "the same")
    (world.there / "empty").mkdir()
    (world.there / "empty").chmod(0o700)
    (world.there / "link").symlink_to("twice/a.txt")


async def restored(world: World, copy: VerifiedCopy, *below: bytes) -> None:
    job = await world.run(await world.nailer.packages.restoring.restore(world.account_id, world.site, copy.id, below))
    assert job.state == "done", job


@pytest.mark.parametrize("seed", range(5))
async def test_a_copy_restored_is_byte_for_byte_permissions_and_links_what_it_was(world: World, seed: int) -> None:
    lay_out(world, seed)
    before = look(world.there)
    copy = await taken(world)
    assert (copy.state, copy.files) == (CopyState.VERIFIED, 16)

    chance = random.Random(seed)
    for one in sorted(world.there.rglob("*"), reverse=True):
        if one.is_file() and not one.is_symlink():
            what = chance.randrange(4)
            if what == 0:
                one.unlink()
            elif what == 1:
                one.write_bytes(b"changed by hand")
            elif what == 2:
                one.chmod(0o666)
    (world.there / "link").unlink()
    (world.there / "empty").rmdir()
    await restored(world, copy)
    assert look(world.there) == before


async def test_all_of_it_comes_back_where_the_folder_is_gone(world: World) -> None:
    write(world.there, "skins/harbour/skin.json", "{}")
    write(world.there, "skins/harbour/img/a.png", b"\x89PNG").chmod(0o600)
    before = look(world.there / "skins")
    copies = world.nailer.packages.copies
    await copies.take(world.account_id, world.site, world.top.child(b"skins"), "skins")
    await copies.wait(world.site.id)
    (copy,) = await copies.of(world.site)
    await world.remove_there("skins")
    await restored(world, copy)
    assert look(world.there / "skins") == before


async def test_one_folder_or_one_file_comes_back_alone(world: World) -> None:
    write(world.there, "a/one.txt", "1")
    write(world.there, "b/two.txt", "2")
    copy = await taken(world)
    for name in ("a/one.txt", "b/two.txt"):
        (world.there / name).unlink()
    await restored(world, copy, b"a", b"one.txt")
    assert tree(world.there) == {"a/one.txt": b"1"}
    await restored(world, copy, b"b")
    assert tree(world.there) == {"a/one.txt": b"1", "b/two.txt": b"2"}
    with pytest.raises(InvalidInput, match="Nothing has changed"):
        await world.nailer.packages.restoring.restore(world.account_id, world.site, copy.id)
    with pytest.raises(NotFound):
        await world.nailer.packages.restoring.restore(world.account_id, world.site, copy.id, (b"none",))


async def test_a_restore_can_be_taken_back_and_leaves_what_is_new(world: World) -> None:
    write(world.there, "a.txt", "then")
    copy = await taken(world)
    write(world.there, "a.txt", "now, longer")
    write(world.there, "new.txt", "put there since")
    now = tree(world.there)
    job = await world.run(await world.nailer.packages.restoring.restore(world.account_id, world.site, copy.id))
    assert tree(world.there) == {"a.txt": b"then", "new.txt": b"put there since"}
    await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))
    assert tree(world.there) == now


async def test_the_second_copy_fetches_only_what_changed(world: World) -> None:
    lay_out(world)
    assert (await taken(world)).fetched == 16
    write(world.there, "twice/a.txt", "another", at_s=1_790_000_500)
    again = await taken(world)
    assert (again.fetched, again.files) == (1, 16)
    await restored(world, (await world.nailer.packages.copies.of(world.site))[1])
    assert (world.there / "twice/a.txt").read_text() == "the same"


async def test_what_changes_while_it_is_taken_is_taken_again(world: World) -> None:
    for number in range(60):
        write(world.there, f"file-{number:02d}.bin", bytes(30_000))
    copies = world.nailer.packages.copies
    await copies.take(world.account_id, world.site, world.top, "Moss Lane")
    while (standing := copies.standing(world.site.id)) is not None and standing.done < 5:
        await asyncio.sleep(0.005)
    write(world.there, "file-00.bin", b"changed meanwhile", at_s=1_790_000_900)
    write(world.there, "late.txt", b"came meanwhile")
    (world.there / "file-59.bin").unlink()
    await copies.wait(world.site.id)
    (copy,) = await copies.of(world.site)
    assert copy.state is CopyState.VERIFIED, copy.problem
    _, manifest = await copies.look_inside(world.site, copy.id)
    sizes = {one.below[-1]: one.entry.size for one in manifest.files}
    assert (sizes[b"file-00.bin"], sizes[b"late.txt"], b"file-59.bin" in sizes) == (17, 14, False)


async def test_a_line_that_is_cut_is_dialled_anew_and_what_came_is_kept(world: World) -> None:
    for number in range(80):
        write(world.there, f"file-{number:02d}.bin", bytes([number]) * 40_000)
    before = look(world.there)
    copies = world.nailer.packages.copies
    await copies.take(world.account_id, world.site, world.top, "Moss Lane")
    while (standing := copies.standing(world.site.id)) is not None and standing.done < 10:
        await asyncio.sleep(0.002)
    await world.nailer.sites.pool.close_site(world.site.id)
    await copies.wait(world.site.id)
    (copy,) = await copies.of(world.site)
    assert copy.state is CopyState.VERIFIED, copy.problem
    assert copy.files == 80
    assert copy.fetched <= 80 + 8, "only what was under way as the connection was lost is fetched twice"
    (world.there / "file-07.bin").unlink()
    await restored(world, copy)
    assert look(world.there) == before


async def test_a_folder_that_cannot_be_read_makes_no_copy(world: World) -> None:
    write(world.there, "a.txt", "1")
    write(world.there, "shut/b.txt", "2")
    (world.there / "shut").chmod(0)
    copy = await taken(world)
    if os.geteuid() != 0:  # nothing is shut to whoever runs the machine
        assert copy.state is CopyState.FAILED
        assert "could not be read" in copy.problem
    (world.there / "shut").chmod(0o755)


async def test_a_copy_cut_by_the_end_of_nailer_is_none(world: World) -> None:
    lay_out(world)
    copies = world.nailer.packages.copies
    await copies.take(world.account_id, world.site, world.top, "Moss Lane")
    await world.nailer.engine.work.stop()
    (copy,) = await copies.of(world.site)
    assert copy.state is CopyState.FAILED
    with pytest.raises(NotFound):
        await world.nailer.packages.restoring.restore(world.account_id, world.site, copy.id)


async def test_a_copy_of_a_killed_nailer_is_none_and_one_of_another_nailer_goes_on(world: World) -> None:
    """Whose it is is asked: a start ends what nobody does any more, and nothing else."""
    lay_out(world)
    works, add = world.nailer.stores.works, world.nailer.stores.copies.beginning
    killed, lives = [
        await works.add(
            WorkKind.COPY,
            world.site.id,
            world.account_id,
            add(world.site.id, world.account_id, world.top, owner),
            owner=owner,
            lease_s=lease_s,
            alone=False,
            busy="",
        )
        for owner, lease_s in (("another-machine:1:killed", -1.0), ("another-machine:2:lives", 60.0))
    ]
    await world.nailer.engine.work.start()
    await world.nailer.engine.work.ended(WorkKind.COPY, killed.subject_id)
    found = {one.id: one.state for one in await world.nailer.packages.copies.of(world.site)}
    assert found == {killed.subject_id: CopyState.FAILED, lives.subject_id: CopyState.COPYING}


async def test_a_copy_whose_contents_went_is_never_called_verified(world: World) -> None:
    """Whatever took them: what is called verified is looked at in the transaction that says so."""
    lay_out(world)
    packages = world.nailer.packages
    whole = await packages.copies.taken(world.account_id, world.site, world.top, "whole")
    manifest = await world.nailer.stores.copies.manifest(whole.id)
    store = world.nailer.stores.copies
    other = await store.begin(world.site.id, world.account_id, world.top, "other")
    with pytest.raises(Conflict, match="no longer kept"):
        await store.verified(other, manifest, 0)
    await store.hold(other, [one.digest for one in manifest.names if one.digest is not None])
    await store.fail(other, "ended by another")
    with pytest.raises(Conflict, match="it is failed now"):
        await store.verified(other, manifest, 0)


async def test_what_a_copy_holds_is_not_let_go_and_what_it_held_alone_is(world: World) -> None:
    write(world.there, "a.txt", "held by a copy")
    copy = await taken(world)
    kept = world.nailer.plans.kept
    assert await kept.limit(None, 1) == 0
    (world.there / "a.txt").unlink()
    await restored(world, copy)
    await world.nailer.packages.copies.drop(world.site, copy.id)
    assert await kept.tidy() >= 1


async def test_what_a_copy_takes_hold_of_while_old_contents_are_looked_for_stays(world: World) -> None:
    kept, stores = world.nailer.engine.kept, world.nailer.stores
    content = await kept.put(once(b"kept by a change"))
    assert [one for one, _, _ in await stores.changes.oldest_kept(9)] == [content.hash]
    copy_id = await stores.copies.begin(world.site.id, world.account_id, world.top, "x")
    await kept.put(once(b"kept by a change"), held_by=copy_id)
    assert await stores.changes.forget_kept([content.hash]) == []
    assert b"".join([part async for part in kept.read(content.hash)]) == b"kept by a change"


async def test_a_rehearsal_says_what_came_back(world: World) -> None:
    lay_out(world)
    copy = await taken(world)
    copies = world.nailer.packages.copies
    assert (await copies.test_restore(world.site, copy.id)).words == "16 files restored exactly"
    _, manifest = await copies.look_inside(world.site, copy.id)
    digest = manifest.files[0].digest or b""
    await world.nailer.engine.kept.let_go([digest])
    assert "not restored correctly" in (await copies.test_restore(world.site, copy.id)).words
    (known,) = await copies.of(world.site)
    assert known.restore_tested_at is not None


async def test_a_rehearsal_lays_down_permissions_times_and_links_and_leaves_nothing(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    lay_out(world)
    write(world.there, "shut/inside/note.txt", "x").chmod(0o400)
    (world.there / "shut" / "inside").chmod(0o500)
    copy = await taken(world)
    copies, kept = world.nailer.packages.copies, world.nailer.engine.kept
    assert (await copies.test_restore(world.site, copy.id)).words == "17 files restored exactly"
    assert [one.name for one in kept.folder.iterdir() if one.name.startswith("restore-test")] == []

    with monkeypatch.context() as patched:
        patched.setattr("nailer.services.packages.restore_tests.os.chmod", lambda *_: None)
        patched.setattr("nailer.services.packages.restore_tests._remove", rmtree)
        assert "not restored correctly" in (await copies.test_restore(world.site, copy.id)).words
    with monkeypatch.context() as patched:
        patched.setattr("nailer.services.packages.restore_tests._SPARE_BYTES", 2**60)
        with pytest.raises(NoSpaceLeft, match="Not enough space"):
            await copies.test_restore(world.site, copy.id)


async def test_one_copy_at_a_time_and_only_by_who_may(world: World) -> None:
    lay_out(world)
    copies = world.nailer.packages.copies
    looks = Person(99, "orla", grants={world.site.id: Grant(frozenset({Right.LOOK}))})
    with acting_as(Acting(looks)), pytest.raises(NotAllowed):
        await copies.take(world.account_id, world.site, world.top, "x")
    await copies.take(world.account_id, world.site, world.top, "x")
    with pytest.raises(UnderWay):
        await copies.take(world.account_id, world.site, world.top, "x")
    await copies.wait(world.site.id)
    (copy,) = await copies.of(world.site)
    with acting_as(Acting(looks)), pytest.raises(NotAllowed):
        await world.nailer.packages.restoring.restore(world.account_id, world.site, copy.id)
    with acting_as(Acting(looks)), pytest.raises(NotAllowed):
        await copies.drop(world.site, copy.id)
