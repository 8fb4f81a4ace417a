"""Archives: packed here, and unpacked by the server itself where the account has a shell."""

from __future__ import annotations

import io
import tarfile
import zipfile
from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.states import JobState
from nailer.errors import AlreadyThere, InvalidInput, NotSupported, ServerFailed
from nailer.services.plans.unpacking.server_commands import Staged
from nailer.store.changes import What
from tests.builders import tree, write
from tests.world import HERE, THERE, World


def a_tar(path: Path, files: dict[str, bytes], *, links: dict[str, str] | None = None) -> None:
    with tarfile.open(path, "w:gz") as archive:
        for name, data in files.items():
            info = tarfile.TarInfo(name)
            info.size, info.mode = len(data), 0o644
            archive.addfile(info, io.BytesIO(data))
        for name, target in (links or {}).items():
            info = tarfile.TarInfo(name)
            info.type, info.linkname = tarfile.SYMTYPE, target
            archive.addfile(info)


@pytest.fixture
def shell(world: World) -> World:
    world.host.shell = True
    return world


async def unpack(world: World, name: str, *, without_top: bool | None = None) -> tuple[Staged, int]:
    staged = await world.nailer.plans.server.unpack(world.site, THERE.child(name.encode()))
    job_id = await world.nailer.plans.unpacking.unpacked_there(
        world.account_id, world.site, staged.folder, THERE, name, without_top
    )
    assert (await world.run(job_id)).state is JobState.DONE
    await world.nailer.plans.notices._clear(await world.nailer.stores.jobs.get(job_id))
    return staged, job_id


async def test_the_server_unpacks_and_no_byte_of_it_passes_here(shell: World) -> None:
    a_tar(shell.there / "it's a skin.tar.gz", {"skin/a.css": b"a" * 300_000, "skin/deep/b.css": b"b"})
    packed = (shell.there / "it's a skin.tar.gz").read_bytes()
    before = shell.host.bytes_passed

    staged, _ = await unpack(shell, "it's a skin.tar.gz")

    assert (staged.files, staged.links) == (2, 0)
    assert shell.host.bytes_passed == before
    assert tree(shell.there) == {"it's a skin.tar.gz": packed, "skin/a.css": b"a" * 300_000, "skin/deep/b.css": b"b"}
    assert not list(shell.there.glob(".nailer*")), "the hidden folder stayed"


async def test_what_an_archive_replaces_is_kept_and_comes_back(shell: World) -> None:
    write(shell.there, "index.html", "old")
    with zipfile.ZipFile(shell.there / "site.zip", "w") as archive:
        archive.writestr("index.html", "new one")
        archive.writestr("img/a.svg", "<svg/>")
    before = tree(shell.there)

    _, job_id = await unpack(shell, "site.zip")
    assert (shell.there / "index.html").read_text() == "new one"
    await shell.run(await shell.nailer.plans.take_back.take_job_back(shell.account_id, job_id))

    assert tree(shell.there) == before


async def test_what_is_in_the_only_folder_goes_where_it_lines_up(shell: World) -> None:
    write(shell.there, "index.html", "old")
    a_tar(shell.there / "site-1.2.tar.gz", {"site-1.2/index.html": b"new one", "site-1.2/style.css": b"s"})

    await unpack(shell, "site-1.2.tar.gz")

    assert (shell.there / "index.html").read_text() == "new one"
    assert not (shell.there / "site-1.2").exists()


@pytest.mark.parametrize("name", ["../outside.txt", "/etc/outside.txt", "a/../../outside.txt"])
async def test_names_that_lead_out_are_refused_before_anything_is_unpacked(shell: World, name: str) -> None:
    a_tar(shell.there / "bad.tar.gz", {"good.txt": b"good", name: b"out"})

    with pytest.raises(InvalidInput, match="leads out"):
        await unpack(shell, "bad.tar.gz")

    assert [one.name for one in shell.there.iterdir()] == ["bad.tar.gz"]


async def test_links_are_taken_out_and_never_gone_through(shell: World) -> None:
    a_tar(shell.there / "links.tar.gz", {"good.txt": b"good"}, links={"away": "/etc", "up": "../.."})
    staged, _ = await unpack(shell, "links.tar.gz")
    assert staged.links == 2
    assert set(tree(shell.there)) == {"good.txt", "links.tar.gz"}

    with tarfile.open(shell.there / "through.tar.gz", "w:gz") as archive:
        link = tarfile.TarInfo("away")
        link.type, link.linkname = tarfile.SYMTYPE, "/tmp"
        archive.addfile(link)
        archive.addfile(tarfile.TarInfo("away/inside.txt"), io.BytesIO(b""))
    with pytest.raises(InvalidInput, match="a file and a folder"):
        await unpack(shell, "through.tar.gz")


async def test_an_archive_that_would_fill_the_disk_is_not_unpacked(
    shell: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nailer.services.plans.unpacking.server_commands._RATIO_FREE_BYTES", 1_000_000)
    a_tar(shell.there / "bomb.tar.gz", {"zeros": bytes(30_000_000)})

    with pytest.raises(InvalidInput, match="without end"):
        await unpack(shell, "bomb.tar.gz")

    assert [one.name for one in shell.there.iterdir()] == ["bomb.tar.gz"]


async def test_a_broken_archive_says_what_the_server_said(shell: World) -> None:
    (shell.there / "broken.tar.gz").write_bytes(b"this is no archive")

    with pytest.raises(ServerFailed, match="could not unpack") as failed:
        await unpack(shell, "broken.tar.gz")

    assert "tar" in (failed.value.server_words or "")


async def test_an_account_without_a_shell_is_told_so(world: World) -> None:
    a_tar(world.there / "skin.tar.gz", {"a": b"a"})

    with pytest.raises(NotSupported, match="no shell") as refused:
        await unpack(world, "skin.tar.gz")

    assert refused.value.server_words == "This service allows sftp connections only."


async def test_clearing_removes_nothing_but_what_was_unpacked(shell: World) -> None:
    write(shell.there, "skins/a.css", "a")

    await shell.nailer.plans.server.clear(shell.site, THERE.child(b"skins"))

    assert (shell.there / "skins" / "a.css").exists()


@pytest.mark.parametrize("ending", ["zip", "tar.gz"])
async def test_names_are_packed_here_and_that_can_be_taken_back(world: World, ending: str) -> None:
    write(world.here, "sub/a.txt", "a")
    write(world.here, "b.txt", "b")
    pack = world.nailer.files.change.pack
    name = f"both.{ending}".encode()

    path = await pack(world.account_id, world.site, HERE, [b"sub", b"b.txt"], name)

    packed = world.here / f"both.{ending}"
    if ending == "zip":
        with zipfile.ZipFile(packed) as archive:
            assert {one for one in archive.namelist() if one[-1] != "/"} == {"sub/a.txt", "b.txt"}
    else:
        with tarfile.open(packed) as archive:
            assert {one.name for one in archive if one.isfile()} == {"sub/a.txt", "b.txt"}
    with pytest.raises(AlreadyThere):
        await pack(world.account_id, world.site, HERE, [b"b.txt"], name)
    (change,) = await world.nailer.stores.changes.of_path(world.site.id, SideName.HERE, path)
    assert change.what is What.MADE
    job_id = await world.nailer.plans.take_back.take_change_back(world.account_id, world.site, change)
    assert job_id is not None
    await world.ended(job_id)
    assert set(tree(world.here)) == {"sub/a.txt", "b.txt"}


async def test_an_archive_of_an_unknown_kind_is_not_begun(world: World) -> None:
    write(world.here, "b.txt", "b")

    with pytest.raises(InvalidInput, match="ends in"):
        await world.nailer.files.change.pack(world.account_id, world.site, HERE, [b"b.txt"], b"both.rar")
