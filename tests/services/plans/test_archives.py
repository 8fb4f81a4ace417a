"""Archives, harmless and not, and what becomes of them on the way."""

from __future__ import annotations

import asyncio
import io
import os
import random
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import pytest
import zstandard

from nailer.core.files.entry import SideName
from nailer.core.jobs.states import JobState
from nailer.errors import InvalidInput, NoSpaceLeft, NotFound
from nailer.services.plans.unpacking import archives as unpacking
from nailer.services.plans.unpacking.archives import Archives, Unpacked
from nailer.sides.side import once
from tests.builders import tree, write
from tests.world import THERE, World

FILES = {"harbour/skin.css": b"blue", "harbour/img/pier.png": b"\x89PNG" * 1000}


def a_zip(files: dict[str, bytes], *, links: dict[str, str] | None = None) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            archive.writestr(name, content)
        for name, target in (links or {}).items():
            info = zipfile.ZipInfo(name)
            info.external_attr = 0o120777 << 16
            archive.writestr(info, target)
    return out.getvalue()


def a_tar(files: dict[str, bytes], mode: str = "w:gz", *, links: dict[str, str] | None = None) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode=mode) as archive:  # type: ignore[call-overload]
        for name, content in files.items():
            info = tarfile.TarInfo(name)
            info.size, info.mode, info.mtime = len(content), 0o755, 1_700_000_000
            archive.addfile(info, io.BytesIO(content))
        for name, target in (links or {}).items():
            info = tarfile.TarInfo(name)
            info.type, info.linkname = tarfile.SYMTYPE, target
            archive.addfile(info)
    return out.getvalue()


async def unpacked(tmp_path: Path, name: str, content: bytes) -> tuple[Unpacked, Path]:
    unpack = Archives(tmp_path / "spool")
    await asyncio.to_thread(unpack.clear_old)
    made = await unpack.take(name, once(content))
    return made, tmp_path / "spool" / made.token / "files"


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("skin.zip", a_zip(FILES)),
        ("skin.tar", a_tar(FILES, "w")),
        ("skin.tar.gz", a_tar(FILES, "w:gz")),
        ("skin.tgz", a_tar(FILES, "w:gz")),
        ("skin.tar.xz", a_tar(FILES, "w:xz")),
        ("skin.tar.bz2", a_tar(FILES, "w:bz2")),
        ("skin.TAR.ZST", zstandard.compress(a_tar(FILES, "w"))),
    ],
    ids=lambda one: one if isinstance(one, str) else "",
)
async def test_every_kind_is_unpacked_whole(tmp_path: Path, name: str, content: bytes) -> None:
    made, folder = await unpacked(tmp_path, name, content)

    assert tree(folder) == FILES
    assert (made.names, made.only_folder, made.left) == ((b"harbour",), b"harbour", ())


@pytest.mark.parametrize("make", [a_zip, a_tar], ids=["zip", "tar"])
async def test_nothing_leads_out_of_the_folder(tmp_path: Path, make: Callable[..., bytes]) -> None:
    wicked = {
        "../../out.txt": b"x",
        "/etc/out.txt": b"x",
        "a/../../out.txt": b"x",
        "C:\\out.txt": b"x",
        "good.txt": b"good",
    }
    name = "x.zip" if make is a_zip else "x.tar.gz"

    made, folder = await unpacked(tmp_path, name, make(wicked, links={"way": "/etc", "way2": "../.."}))

    assert tree(folder) == {"good.txt": b"good"}
    assert not (folder / "way").is_symlink()
    assert len(made.left) == 6
    assert "out.txt" not in {name for _, _, names in os.walk(tmp_path) for name in names}


async def test_a_name_twice_keeps_the_first_and_says_so(tmp_path: Path) -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("a.txt", "first")
        with pytest.warns(UserWarning, match="Duplicate"):
            archive.writestr("a.txt", "second")
        archive.writestr("a.txt/b.txt", "a file cannot hold one")

    made, folder = await unpacked(tmp_path, "x.zip", out.getvalue())

    assert tree(folder) == {"a.txt": b"first"}
    assert len(made.left) == 2


async def test_names_of_old_zips_are_read(tmp_path: Path) -> None:
    raw = a_zip({"m_n_.html": b"old", "x.html": b"y"})

    _, old = await unpacked(tmp_path / "1", "x.zip", raw.replace(b"m_n_.html", b"m\x86n_.html"))
    _, new = await unpacked(tmp_path / "2", "x.zip", raw.replace(b"m_n_.html", "mön.html".encode()))

    assert "mån_.html" in tree(old)
    assert "mön.html" in tree(new)


async def test_what_grows_without_end_is_stopped(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(unpacking, "_RATIO_FREE_BYTES", 1_000_000)
    with pytest.raises(InvalidInput, match="unreasonable size"):
        await unpacked(tmp_path, "x.zip", a_zip({"zero": bytes(20_000_000)}))
    assert list((tmp_path / "spool").iterdir()) == [], "nothing of it is left"


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("x.zip", b"no zip at all"),
        ("x.zip", a_zip(FILES)[:-30]),
        ("x.tar.gz", a_tar({"a": os.urandom(200_000)})[:-40_000]),
        ("x.tar.zst", b"\x28\xb5\x2f\xfd broken"),
        ("x.zip", a_zip({})),
        ("x.rar", b"Rar!"),
    ],
)
async def test_what_cannot_be_read_is_said(tmp_path: Path, name: str, content: bytes) -> None:
    with pytest.raises(InvalidInput):
        await unpacked(tmp_path, name, content)
    assert list((tmp_path / "spool").iterdir()) == []


@pytest.mark.parametrize(("there", "without"), [("skin.css", True), ("harbour/skin.css", False), ("other.txt", False)])
async def test_the_reading_that_lines_up_is_picked_and_carried(world: World, there: str, without: bool) -> None:
    write(world.there, there, "old")
    nailer = world.nailer
    made = await nailer.plans.archives.take("skin.zip", once(a_zip(FILES)))

    job_id = await nailer.plans.unpacking.unpack(world.account_id, world.site, SideName.THERE, THERE, made, "skin.zip")
    job = await world.run(job_id)

    assert job.state is JobState.DONE, await nailer.stores.jobs.failures(job_id)
    root = world.there if without else world.there / "harbour"
    assert (root / "skin.css").read_bytes() == b"blue"
    assert (root / "img" / "pier.png").read_bytes() == FILES["harbour/img/pier.png"]
    back = await nailer.plans.take_back.take_job_back(world.account_id, job_id)
    assert (await world.run(back)).state is JobState.DONE
    assert tree(world.there) == {there: b"old"}


async def test_an_archive_does_not_fill_the_disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What it grows to is counted as it is written: what its index says of it may be a lie."""
    free = unpacking._SPARE_BYTES + 100_000
    monkeypatch.setattr(unpacking.shutil, "disk_usage", lambda _: SimpleNamespace(free=free))
    with pytest.raises(NoSpaceLeft, match="Not enough space"):
        await unpacked(tmp_path, "large.zip", a_zip({"a.bin": os.urandom(90_000), "b.bin": os.urandom(90_000)}))
    assert list((tmp_path / "spool").iterdir()) == [], "what was written by then is gone"
    assert await unpacked(tmp_path, "small.zip", a_zip({"a.bin": os.urandom(90_000)}))


async def test_a_place_that_nobody_unpacked_is_not_found(world: World) -> None:
    for token in ("0" * 16, "../../etc", ""):
        with pytest.raises(NotFound):
            world.nailer.plans.archives.place(token)


def a_pax_tar(headers: dict[str, str], content: bytes = b"blue") -> bytes:
    """A tar whose one file carries extended headers as they are (POSIX pax)."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        info = tarfile.TarInfo("skin.css")
        info.size, info.pax_headers = len(content), headers
        archive.addfile(info, io.BytesIO(content))
    return out.getvalue()


def a_zip_with(at: str, value: bytes) -> bytes:
    """A zip with a field of its end record, or of its first entry, overwritten."""
    raw = bytearray(a_zip({"skin\xe9.css": b"blue"}))
    central, end = raw.index(b"PK\x01\x02"), raw.index(b"PK\x05\x06")
    place = {"directory": end + 16, "entry": central + 42, "date": central + 12}[at]
    raw[place : place + len(value)] = value
    return bytes(raw)


def a_zip_flagged_wrongly() -> bytes:
    """Its name is said to be UTF-8, and is not."""
    return a_zip({"skin\u00e9.css": b"blue"}).replace("\u00e9".encode(), b"\xe9\xe9")


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("x.tar", a_pax_tar({"GNU.sparse.major": "1", "GNU.sparse.minor": "0", "GNU.sparse.realsize": "x"})),
        ("x.tar", a_pax_tar({"GNU.sparse.map": "0,x", "GNU.sparse.size": "9"})),
        ("x.tar", a_pax_tar({"GNU.sparse.major": "1", "GNU.sparse.minor": "0"}, b"999999\nnot a map\n")),
        ("x.tar", a_tar({"/".join(["deep"] * 3000): b"x"}, "w")),
        ("x.tar", a_tar({"/".join(["w" * 250] * 20): b"x"}, "w")),
        ("x.zip", a_zip({"/".join(["deep"] * 3000): b"x"})),
        ("x.zip", a_zip_with("directory", b"\xff\xff\xff\x7f")),
        ("x.zip", a_zip_with("entry", b"\xff\xff\xff\x7f")),
        ("x.zip", a_zip_flagged_wrongly()),
    ],
)
async def test_what_is_made_to_break_the_reader_is_refused(tmp_path: Path, name: str, content: bytes) -> None:
    with pytest.raises(InvalidInput):
        await unpacked(tmp_path, name, content)
    assert list((tmp_path / "spool").iterdir()) == []


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("x.tar", a_pax_tar({"mtime": "nan"})),
        ("x.tar", a_pax_tar({"mtime": "inf"})),
        ("x.tar", a_pax_tar({"mtime": "1e300"})),
        ("x.zip", a_zip_with("date", b"\x00\x00\x00\x00")),
    ],
)
async def test_a_time_that_is_none_is_not_known_and_the_file_is_whole(
    tmp_path: Path, name: str, content: bytes
) -> None:
    made, folder = await unpacked(tmp_path, name, content)

    assert made.files == 1
    assert [one.read_bytes() for one in folder.iterdir()] == [b"blue"]


@pytest.mark.parametrize("name", ["x.zip", "x.tar", "x.tar.gz", "x.tar.zst"])
async def test_an_archive_with_any_bytes_changed_is_read_or_refused(tmp_path: Path, name: str) -> None:
    files = FILES | {"a\u00e9.txt": b"x" * 300}
    made = {"x.zip": a_zip(files), "x.tar": a_tar(files, "w"), "x.tar.gz": a_tar(files, "w:gz")}
    whole = made.get(name) or zstandard.compress(a_tar(files, "w"))
    chance = random.Random(name)
    read = 0
    for _ in range(100):
        raw = bytearray(whole)
        for _ in range(chance.randrange(1, 4)):
            raw[chance.randrange(len(raw))] = chance.choice([0, 1, 0x2F, 0x7F, 0x80, 0xFF, chance.randrange(256)])
        try:
            await unpacked(tmp_path, name, bytes(raw))
            read += 1
        except InvalidInput:
            continue
    assert read < 100
