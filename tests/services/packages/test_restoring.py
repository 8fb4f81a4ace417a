"""A copy is brought elsewhere, laid down here, compared with what is there now, packed, and taken by timer."""

from __future__ import annotations

import io
import json
import tarfile
import time
import zipfile
from datetime import UTC, datetime, timedelta

import pytest
import zstandard
from blake3 import blake3

from nailer.acting import Acting, acting_as
from nailer.core.files.entry import SideName
from nailer.core.packages.keeping import KeepingRule
from nailer.core.packages.manifest import Difference
from nailer.core.people.rights import Grant, Person, Right
from nailer.core.work.states import CopyState
from nailer.errors import Conflict, InvalidInput, NotAllowed, NotFound
from nailer.services.packages import Form, RestoreTarget
from nailer.store.packages.copies import VerifiedCopy
from tests.builders import path, tree, write
from tests.services.packages.test_copies import lay_out, look, taken
from tests.world import World


async def test_a_copy_is_laid_down_here_with_permissions_and_links(world: World) -> None:
    lay_out(world)
    copy = await taken(world)
    restoring = world.nailer.packages.restoring
    place = path("/studio/copies/moss_2026-11-29")
    job = await world.run(await restoring.here(world.account_id, world.site, copy.id, place))
    assert job.state == "done", job
    assert job.to_side is SideName.HERE
    laid = world.here.parent / "copies" / "moss_2026-11-29"
    told = json.loads((laid / "MANIFEST.json").read_text())
    assert told["files"] == copy.files
    (laid / "MANIFEST.json").unlink()
    assert look(laid) == look(world.there)


async def test_a_copy_never_lies_in_what_is_published_or_among_other_things(world: World) -> None:
    lay_out(world)
    copy = await taken(world)
    restoring = world.nailer.packages.restoring
    with pytest.raises(InvalidInput, match="is on the web"):
        await restoring.here(world.account_id, world.site, copy.id, path("/studio/moss/copies"))
    write(world.here.parent, "mine/letter.txt", "mine")
    with pytest.raises(Conflict, match="empty folder"):
        await restoring.here(world.account_id, world.site, copy.id, path("/studio/mine"))


async def test_a_copy_goes_to_another_site(world: World) -> None:
    lay_out(world)
    copy = await taken(world)
    restoring = world.nailer.packages.restoring
    target = RestoreTarget(world.site, SideName.THERE, path("/elsewhere/new"))
    job = await world.run(await restoring.restore(world.account_id, world.site, copy.id, (), target))
    assert job.state == "done", job
    assert look(world.there.parent / "elsewhere" / "new") == look(world.there)


async def test_a_copy_stands_beside_what_is_there_now(world: World) -> None:
    write(world.there, "a/same.txt", "1")
    write(world.there, "a/changed.txt", "1")
    write(world.there, "a/gone.txt", "1")
    write(world.there, "a/open.txt", "1")
    copy = await taken(world)
    write(world.there, "a/changed.txt", "12")
    (world.there / "a/gone.txt").unlink()
    (world.there / "a/open.txt").chmod(0o666)
    write(world.there, "a/came.txt", "1")
    restoring = world.nailer.packages.restoring
    _, rows = await restoring.folder(world.site, copy.id, (b"a",))
    assert {row.name.decode(): row.difference for row in rows} == {
        "same.txt": Difference.SAME,
        "changed.txt": Difference.CHANGED,
        "gone.txt": Difference.GONE,
        "open.txt": Difference.PERMISSIONS,
        "came.txt": Difference.CAME,
    }
    _, found = await restoring.compared(world.site, copy.id)
    assert len(found) == 4
    with pytest.raises(NotFound):
        await restoring.folder(world.site, copy.id, (b"none",))


async def test_a_change_that_no_time_shows_is_told_by_its_content(world: World) -> None:
    moment = time.time()
    write(world.there, "a.txt", "then", moment)
    write(world.there, "b.txt", "then", moment)
    copy = await taken(world)
    write(world.there, "a.txt", "else", moment)
    restoring = world.nailer.packages.restoring
    _, found = await restoring.compared(world.site, copy.id)
    assert found == (((b"a.txt",), Difference.CHANGED),)
    job = await world.run(await restoring.restore(world.account_id, world.site, copy.id))
    assert job.state == "done", job
    assert tree(world.there) == {"a.txt": b"then", "b.txt": b"then"}


async def all_of(world: World, copy: VerifiedCopy, form: Form) -> tuple[str, bytes]:
    name, content = await world.nailer.packages.copies.packed(world.site, copy.id, form)
    return name, b"".join([part async for part in content])


async def test_a_zip_holds_every_file_and_the_manifest(world: World) -> None:
    lay_out(world)
    write(world.there, "MANIFEST.json", "its own")
    copy = await taken(world)
    name, data = await all_of(world, copy, Form.ZIP)
    assert name == f"moss-lane_htdocs_{copy.begun_at:%Y-%m-%d}.zip"
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        assert archive.testzip() is None
        told = json.loads(archive.read("_MANIFEST.json"))
        files = {one["name"]: one for one in told["names"] if one["kind"] == "file"}
        there = {name: content for name, content in tree(world.there).items() if name != "link"}
        assert {name: archive.read(name) for name in files} == there
        for name, one in files.items():
            assert blake3(archive.read(name)).hexdigest() == one["hash"]
            assert archive.getinfo(name).external_attr >> 16 & 0o777 == (world.there / name).stat().st_mode & 0o777
        assert archive.read("link") == b"twice/a.txt"


async def test_a_tar_is_unpacked_to_what_it_was(world: World, tmp_path) -> None:  # type: ignore[no-untyped-def]
    lay_out(world)
    write(world.there, "f\udce9.txt", "stray byte")
    copy = await taken(world)
    _, data = await all_of(world, copy, Form.TAR)
    with tarfile.open(fileobj=io.BytesIO(zstandard.ZstdDecompressor().decompressobj().decompress(data))) as archive:
        archive.extractall(tmp_path / "out", filter="fully_trusted")  # noqa: S202 - made by this test
    (tmp_path / "out" / "MANIFEST.json").unlink()
    assert look(tmp_path / "out") == look(world.there)


async def test_a_timer_copies_tests_its_restore_and_lets_go_by_its_rule(world: World) -> None:
    lay_out(world)
    packages = world.nailer.packages
    by_hand = await taken(world)
    rule = KeepingRule(2, 0, 0)
    await packages.copy_times.add(world.account_id, world.site, world.top, "03:15", "Europe/Berlin", rule)
    (timer,) = await packages.copy_times.of(world.site)
    assert timer.next_at > datetime.now(UTC)
    for _ in range(3):
        await packages.copy_times.run(timer)
    mine = [one for one in await packages.copies.of(world.site) if one.time_id == timer.id]
    assert len(mine) == 1, "three of one day: the newest stays"
    assert mine[0].restore_test == "16 files restored exactly"
    assert mine[0].fetched == 0, "Unchanged files are not downloaded again"
    assert by_hand.id in {one.id for one in await packages.copies.of(world.site)}
    (timer,) = await packages.copy_times.of(world.site)
    assert "1 older copy deleted" in timer.words
    await packages.copy_times.drop(world.site, timer.id)
    assert await packages.copy_times.of(world.site) == []


async def test_a_timer_whose_time_has_come_is_run_once(world: World) -> None:
    lay_out(world)
    packages = world.nailer.packages
    await packages.copy_times.add(world.account_id, world.site, world.top, "03:15", "UTC", KeepingRule())
    past = (datetime.now(UTC) - timedelta(hours=1)).replace(tzinfo=None)
    (timer,) = await packages.copy_times.of(world.site)
    put_off = {"id": timer.id, "was": timer.next_at.replace(tzinfo=None), "next_at": past}
    await world.nailer.stores.database.write(lambda work: work.run("copy_times.put_off", **put_off))
    assert [one.id for one in await world.nailer.stores.copy_times.claim_due()] == [timer.id]
    assert await world.nailer.stores.copy_times.claim_due() == []


async def test_a_timer_that_fails_says_so(world: World) -> None:
    packages = world.nailer.packages
    await packages.copy_times.add(world.account_id, world.site, path("/none"), "03:15", "UTC", KeepingRule())
    (timer,) = await packages.copy_times.of(world.site)
    await packages.copy_times.run(timer)
    (timer,) = await packages.copy_times.of(world.site)
    assert "/none does not exist" in timer.words
    assert [one.state for one in await packages.copies.of(world.site)] == [CopyState.FAILED]
    write(world.there.parent, "none/now.txt", "it is there by now")
    await packages.copy_times.run(timer)
    assert [one.state for one in await packages.copies.of(world.site)] == [CopyState.VERIFIED], "failed ones go"
    with pytest.raises(InvalidInput):
        await packages.copy_times.add(world.account_id, world.site, world.top, "25:99", "UTC", KeepingRule())


async def test_who_may_only_look_takes_nothing_away(world: World) -> None:
    lay_out(world)
    copy = await taken(world)
    looks = Person(99, "orla", grants={world.site.id: Grant(frozenset({Right.LOOK}))})
    packages = world.nailer.packages
    with acting_as(Acting(looks)):
        for refused in (
            packages.copies.packed(world.site, copy.id, Form.ZIP),
            packages.copy_times.add(world.account_id, world.site, world.top, "03:15", "UTC", KeepingRule()),
            packages.restoring.here(world.account_id, world.site, copy.id, path("/studio/copies/x")),
        ):
            with pytest.raises(NotAllowed):
                await refused
