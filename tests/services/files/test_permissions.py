"""Access of many: counted before, set only where it differs, read back, and each old value put back."""

from __future__ import annotations

import os
import stat
from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.files.permissions import PermissionsWish
from nailer.core.jobs.states import JobState
from nailer.errors import InvalidInput, Locked, NotFound
from nailer.services.files.permissions import PermissionsReading
from nailer.standins.sftp import _Files
from nailer.store.changes import What
from tests.builders import write
from tests.world import THERE, World

USUAL = PermissionsWish("644", "755", by_purpose=True)


def modes(root: Path) -> dict[str, int]:
    return {
        str(one.relative_to(root)): stat.S_IMODE(one.lstat().st_mode) for one in root.rglob("*") if not one.is_symlink()
    }


async def read(world: World, *names: bytes) -> PermissionsReading:
    return await world.nailer.files.permissions.read(world.account_id, world.site, SideName.THERE, THERE, names)


@pytest.fixture
def tree(world: World) -> Path:
    for name, mode in (
        ("a.html", 0o666),
        ("run.cgi", 0o644),
        (".env", 0o600),
        ("ok.css", 0o644),
        ("deep/b.html", 0o755),
    ):
        write(world.there, name, "x").chmod(mode)
    (world.there / "deep").chmod(0o777)
    (world.there / "shut").mkdir(mode=0o600)
    write(world.there, "img/p.svg", "x").chmod(0o640)
    (world.there / "link.html").symlink_to("/etc/passwd")
    return world.there


async def test_what_differs_is_set_and_each_old_value_comes_back(world: World, tree: Path) -> None:
    before = modes(tree)
    reading = await read(world)

    job = await world.ended(await world.nailer.files.permissions.carry_out(world.site, reading, USUAL))

    assert job.state is JobState.DONE
    assert modes(tree) == {
        **{"a.html": 0o644, "run.cgi": 0o755, ".env": 0o600, "ok.css": 0o644, "deep/b.html": 0o644},
        **{"deep": 0o755, "shut": 0o755, "img": 0o755, "img/p.svg": 0o644},
    }
    assert job.tally.done.files == 6, "only what differs is touched"
    back = await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))
    assert back.state is JobState.DONE
    assert modes(tree) == before


async def test_the_preview_counts_what_will_happen(world: World, tree: Path) -> None:
    found = world.nailer.files.permissions.preview(await read(world), USUAL)

    changing = {(oct(one.now), oct(one.then), one.what): one.count for one in found if not one.stays}
    assert changing == {
        ("0o666", "0o644", "anyone could write"): 1,
        ("0o777", "0o755", "folders anyone could write in"): 1,
        ("0o600", "0o755", "folders that no one could enter"): 1,
        ("0o644", "0o755", "scripts that could not run"): 1,
        ("0o755", "0o644", "runnable, but not a script"): 1,
        ("0o640", "0o644", "pages, styles, pictures"): 1,
    }
    risky = world.nailer.files.permissions.preview(await read(world), USUAL, only_risky=True)
    assert sum(one.count for one in risky) == 5


async def test_only_what_was_picked_is_read(world: World, tree: Path) -> None:
    reading = await read(world, b"deep", b"a.html")
    assert {path.name for path, _ in reading.entries} == {b"deep", b"b.html", b"a.html"}


async def test_a_closed_folder_is_opened_before_what_is_in_it_and_closed_after(world: World) -> None:
    write(world.there, "a/b/c.html", "x")
    before = modes(world.there)

    closing = await read(world, b"a")
    job = await world.ended(
        await world.nailer.files.permissions.carry_out(world.site, closing, PermissionsWish("600", "000"))
    )
    assert job.state is JobState.DONE
    assert modes(world.there)["a"] == 0
    back = await world.run(await world.nailer.plans.take_back.take_job_back(world.account_id, job.id))
    assert back.state is JobState.DONE
    assert modes(world.there) == before


async def test_a_server_that_does_otherwise_is_reported(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    write(world.there, "a.html", "x").chmod(0o600)

    def masked(self: _Files, path: bytes, attrs: object) -> None:
        os.chmod(self.map_path(path), getattr(attrs, "permissions", 0o600) & 0o7700)

    monkeypatch.setattr(_Files, "setstat", masked)
    monkeypatch.setattr(_Files, "lsetstat", masked, raising=False)
    job = await world.ended(
        await world.nailer.files.permissions.carry_out(world.site, await read(world), PermissionsWish("644", ""))
    )

    assert job.state is JobState.NEEDS_YOU
    (failure,) = await world.nailer.stores.jobs.failures(job.id)
    assert "did not apply it: /htdocs/a.html should be 644 and is 600" in failure.what


async def test_what_was_changed_meanwhile_is_left_alone(world: World) -> None:
    file = write(world.there, "a.html", "x")
    file.chmod(0o666)
    reading = await read(world)
    file.chmod(0o640)

    job = await world.ended(await world.nailer.files.permissions.carry_out(world.site, reading, USUAL))

    assert job.state is JobState.NEEDS_YOU
    assert modes(world.there)["a.html"] == 0o640


async def test_one_name_is_set_with_its_difference_and_taken_back(world: World) -> None:
    file = write(world.there, "a.html", "x")
    file.chmod(0o644)
    path = THERE.child(b"a.html")

    job = await world.ended(
        await world.nailer.files.permissions.set_one(world.account_id, world.site, SideName.THERE, path, 0o4755)
    )
    assert job.state is JobState.DONE
    assert stat.S_IMODE(file.stat().st_mode) == 0o4755
    (change,) = await world.nailer.stores.changes.of_path(world.site.id, SideName.THERE, path)
    assert (change.what, change.before_permissions, change.after_permissions) == (What.PERMISSIONS_SET, 0o644, 0o4755)
    back = await world.nailer.plans.take_back.take_change_back(world.account_id, world.site, change)
    assert back is not None
    await world.ended(back)
    assert stat.S_IMODE(file.stat().st_mode) == 0o644


async def test_names_in_a_locked_guarded_folder_are_left_out(world: World) -> None:
    write(world.there, "mail/box", "x").chmod(0o666)
    write(world.there, "a.html", "x").chmod(0o666)

    job = await world.ended(await world.nailer.files.permissions.carry_out(world.site, await read(world), USUAL))

    assert modes(world.there)["mail/box"] == 0o666
    assert modes(world.there)["a.html"] == 0o644
    assert job.tally.left.files >= 1
    with pytest.raises(Locked):
        world.nailer.files.guarded.check(world.account_id, world.site, SideName.THERE, THERE.join((b"mail", b"box")))


async def test_nothing_to_change_and_old_readings_are_said(world: World) -> None:
    write(world.there, "a.html", "x").chmod(0o644)
    reading = await read(world, b"a.html")

    with pytest.raises(InvalidInput, match="Nothing would change"):
        await world.nailer.files.permissions.carry_out(world.site, reading, USUAL)
    with pytest.raises(InvalidInput, match="not a valid expression"):
        world.nailer.files.permissions.preview(reading, PermissionsWish("u=q", ""))
    with pytest.raises(NotFound):
        world.nailer.files.permissions.reading(reading.token, world.account_id + 1)
