"""The side here never leaves its roots, whatever is asked and whatever changes meanwhile."""

from __future__ import annotations

import asyncio
import os
import threading
from contextlib import aclosing
from pathlib import Path

import pytest

from nailer.core.files.entry import Kind
from nailer.core.files.sitepath import SitePath
from nailer.errors import AlreadyThere, FileMissing, OutsideRoot, TransferError, WrongKind
from nailer.sides import disk
from nailer.sides.here import HereSide
from nailer.sides.side import once
from tests.builders import path, write

SECRET = b"root:secret"


@pytest.fixture
def roots(tmp_path: Path) -> tuple[HereSide, Path]:
    """A side with one root, and beside it a folder that must never be reached."""
    root = tmp_path / "allowed"
    root.mkdir()
    write(tmp_path / "outside", "secret.txt", SECRET)
    return HereSide({b"studio": root}), root


async def read(side: HereSide, one: SitePath) -> bytes:
    async with aclosing(side.read(one)) as chunks:
        return b"".join([chunk async for chunk in chunks])


@pytest.mark.parametrize(
    "target", ["../outside/secret.txt", "/etc/passwd", "../../../../../../etc/passwd", "in/../../outside/secret.txt"]
)
async def test_a_link_that_leads_out_is_not_followed(roots: tuple[HereSide, Path], target: str) -> None:
    side, root = roots
    (root / "in").mkdir()
    (root / "trap").symlink_to(target)

    with pytest.raises(OutsideRoot):
        await read(side, path("/studio/trap"))
    with pytest.raises(OutsideRoot):
        await side.resolve(path("/studio/trap"))
    (entry,) = [one for one in (await side.list(path("/studio"))).entries if one.name == b"trap"]
    assert (entry.kind, entry.leads_to) == (Kind.LINK, None)


async def test_nothing_is_written_through_a_folder_that_leads_out(roots: tuple[HereSide, Path]) -> None:
    side, root = roots
    (root / "trap").symlink_to("../outside")

    for action in (
        side.write(path("/studio/trap/new.txt"), once(b"x")),
        side.make_folder(path("/studio/trap/new")),
        side.remove_file(path("/studio/trap/secret.txt")),
        side.set_attributes(path("/studio/trap/secret.txt"), permissions=0o777),
        side.rename(path("/studio/trap/secret.txt"), path("/studio/mine")),
        side.list(path("/studio/trap")),
    ):
        with pytest.raises(OutsideRoot):
            await action

    assert os.listdir(root.parent / "outside") == ["secret.txt"]


async def test_writing_onto_a_link_is_refused(roots: tuple[HereSide, Path]) -> None:
    side, root = roots
    (root / "trap").symlink_to("../outside/secret.txt")

    with pytest.raises(TransferError):
        await side.write(path("/studio/trap"), once(b"overwritten"))

    assert (root.parent / "outside" / "secret.txt").read_bytes() == SECRET


async def test_a_folder_exchanged_for_a_link_meanwhile_gives_nothing_away(roots: tuple[HereSide, Path]) -> None:
    """A racing process swaps a folder for a link to outside, thousands of times; no look may get through."""
    side, root = roots
    write(root / "folder", "secret.txt", b"harmless")
    stop = threading.Event()

    def swap() -> None:
        while not stop.is_set():
            os.rename(root / "folder", root / "aside")
            os.symlink("../outside", root / "folder")
            os.unlink(root / "folder")
            os.rename(root / "aside", root / "folder")

    swapper = threading.Thread(target=swap)
    swapper.start()
    seen = set()
    try:
        for _ in range(400):
            try:
                seen.add(await read(side, path("/studio/folder/secret.txt")))
            except TransferError:
                await asyncio.sleep(0)
    finally:
        stop.set()
        swapper.join()

    assert seen == {b"harmless"}


async def test_absolute_links_within_the_root_are_followed(roots: tuple[HereSide, Path]) -> None:
    side, root = roots
    write(root, "real/a.txt", b"inside")
    (root / "link").symlink_to(root / "real")

    assert await read(side, path("/studio/link/a.txt")) == b"inside"


async def test_roots_are_listed_by_their_labels_and_stay(roots: tuple[HereSide, Path]) -> None:
    side, _ = roots

    assert [entry.name for entry in (await side.list(SitePath())).entries] == [b"studio"]
    for action in (side.make_folder(path("/other")), side.remove_folder(path("/studio")), side.remove_file(SitePath())):
        with pytest.raises(OutsideRoot):
            await action
    with pytest.raises(FileMissing):
        await side.list(path("/elsewhere/x"))


async def test_a_pipe_is_shown_and_never_waited_for(roots: tuple[HereSide, Path]) -> None:
    side, root = roots
    os.mkfifo(root / "pipe")

    (entry,) = (await side.list(path("/studio"))).entries
    assert entry.kind is Kind.OTHER
    with pytest.raises(WrongKind):
        await read(side, path("/studio/pipe"))


async def test_the_permissions_of_a_link_itself_are_not_changed(roots: tuple[HereSide, Path]) -> None:
    side, root = roots
    write(root, "a.txt")
    (root / "link").symlink_to("a.txt")

    with pytest.raises(WrongKind):
        await side.set_attributes(path("/studio/link"), permissions=0o600)

    assert (root / "a.txt").stat().st_mode & 0o777 != 0o600


async def test_of_many_who_want_one_name_one_gets_it(roots: tuple[HereSide, Path]) -> None:
    side, root = roots
    for number in range(30):
        write(root, f"{number}", f"content {number}")

    results = await asyncio.gather(
        *(side.rename(path(f"/studio/{number}"), path("/studio/wanted")) for number in range(30)),
        return_exceptions=True,
    )

    assert [type(one) for one in results].count(AlreadyThere) == 29
    assert len(os.listdir(root)) == 30, "nobody's file was replaced"


async def test_file_systems_without_one_step_renames_are_looked_at_first(
    roots: tuple[HereSide, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    side, root = roots
    write(root, "one", "1")
    write(root, "other", "2")
    monkeypatch.setattr(disk, "_LIBC", object())

    with pytest.raises(AlreadyThere):
        await side.rename(path("/studio/one"), path("/studio/other"))
    await side.rename(path("/studio/one"), path("/studio/free"))

    assert sorted(os.listdir(root)) == ["free", "other"]
