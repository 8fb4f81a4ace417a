"""The contract of a side, over memory, the file system here, and SFTP over a real socket."""

from __future__ import annotations

import hashlib
import os
from collections.abc import AsyncIterator
from contextlib import aclosing
from pathlib import Path

import pytest

from nailer.core.files.entry import NS, Kind, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.errors import (
    AlreadyThere,
    CannotReplace,
    FileMissing,
    FolderNotEmpty,
    NotSupported,
    TransferError,
    WrongKind,
)
from nailer.sides.side import once, walk
from tests.builders import NOON_S
from tests.contracts.sides import KINDS, Ground
from tests.real.grounds import CONFIGURATIONS, RealHosts, real_ground

ODD_NAMES = [
    b"plain.html",
    b"with blank .html",
    b"-rf",
    b"--help",
    b'it\'s "quoted" `here` $(now)',
    b"two\nlines",
    b"bell\x07 and escape\x1b[31m",
    b"back\\slash",
    "für Ære – 船.html".encode(),
    b"caf\xe9 latin",
    b"\xff\xfe\x80",
    b"...",
    b"x" * 200,
    b"<img src=x onerror=alert(1)>",
    b"50%25.html",
    b"*?[a]",
]


@pytest.fixture(params=[*KINDS, *CONFIGURATIONS])
async def ground(request: pytest.FixtureRequest, tmp_path: Path, real_hosts: RealHosts) -> AsyncIterator[Ground]:
    kind = request.param
    async with KINDS[kind](tmp_path) if kind in KINDS else real_ground(real_hosts, kind) as made:
        yield made


async def content(ground: Ground, path: SitePath, *, start: int = 0) -> bytes:
    async with aclosing(ground.side.read(path, start=start)) as chunks:
        return b"".join([chunk async for chunk in chunks])


async def put(ground: Ground, name: bytes, data: bytes = b"content") -> SitePath:
    path = ground.top.child(name)
    await ground.side.write(path, once(data))
    return path


async def names(ground: Ground, folder: SitePath | None = None) -> set[bytes]:
    return {entry.name for entry in (await ground.side.list(folder or ground.top)).entries}


@pytest.mark.parametrize("name", ODD_NAMES, ids=repr)
async def test_every_name_survives_a_round_trip(ground: Ground, name: bytes) -> None:
    if b"\n" in name and "line breaks" in ground.lacks:
        with pytest.raises(NotSupported, match="line break"):
            await put(ground, name, name)
        return

    path = await put(ground, name, name)

    assert await names(ground) == {name}
    assert await content(ground, path) == name
    assert (await ground.side.stat(path)).name == name
    await ground.side.rename(path, ground.top.child(b"renamed"))
    await ground.side.rename(ground.top.child(b"renamed"), path)
    await ground.side.remove_file(path)
    assert await names(ground) == set()


@pytest.mark.parametrize("size", [0, 1, 262_143, 262_144, 262_145, 3_000_000])
async def test_contents_of_every_size_come_back(ground: Ground, size: int) -> None:
    data = bytes(range(256)) * (size // 256 + 1)
    path = await put(ground, b"data", data[:size])

    assert await content(ground, path) == data[:size]
    assert (await ground.side.stat(path)).size == size


async def test_reading_starts_where_it_is_told(ground: Ground) -> None:
    path = await put(ground, b"data", b"x" * 300_000 + b"tail")

    assert await content(ground, path, start=300_000) == b"tail"


async def test_a_reading_may_be_left_early(ground: Ground) -> None:
    path = await put(ground, b"data", b"x" * 3_000_000)

    async with aclosing(ground.side.read(path)) as chunks:
        async for _ in chunks:
            break

    assert (await ground.side.stat(path)).size == 3_000_000


async def test_writing_empties_what_was_there(ground: Ground) -> None:
    await put(ground, b"a", b"a long content")

    path = await put(ground, b"a", b"short")

    assert await content(ground, path) == b"short"


async def test_writing_goes_on_where_it_stopped(ground: Ground) -> None:
    path = await put(ground, b"cut", b"first half, and what was cut")

    written = await ground.side.write(path, once(b"second half"), start=11)

    assert written == 11
    if "start" in ground.lacks:
        return
    assert (await content(ground, path)).startswith(b"first half,second half")


async def test_writing_counts_its_bytes(ground: Ground) -> None:
    async def parts() -> AsyncIterator[bytes]:
        for _ in range(50):
            yield b"y" * 100_000

    assert await ground.side.write(ground.top.child(b"big"), parts()) == 5_000_000
    assert (await ground.side.stat(ground.top.child(b"big"))).size == 5_000_000


async def test_a_source_that_fails_is_heard(ground: Ground) -> None:
    async def parts() -> AsyncIterator[bytes]:
        yield b"half"
        raise FileMissing("The source went away.")

    with pytest.raises(FileMissing, match="went away"):
        await ground.side.write(ground.top.child(b"big"), parts())


async def test_folders_are_made_listed_and_removed(ground: Ground) -> None:
    folder = ground.top.child(b"img")
    await ground.side.make_folder(folder)

    (entry,) = (await ground.side.list(ground.top)).entries
    assert (entry.name, entry.kind, entry.size) == (b"img", Kind.FOLDER, 0)
    assert (await ground.side.list(folder)).entries == []
    await ground.side.remove_folder(folder)
    assert await names(ground) == set()


async def test_a_taken_name_is_said(ground: Ground) -> None:
    folder = ground.top.child(b"img")
    await ground.side.make_folder(folder)

    with pytest.raises(AlreadyThere):
        await ground.side.make_folder(folder)


async def test_a_full_folder_is_not_removed(ground: Ground) -> None:
    folder = ground.top.child(b"img")
    await ground.side.make_folder(folder)
    await ground.side.write(folder.child(b"a"), once(b"a"))

    with pytest.raises(FolderNotEmpty):
        await ground.side.remove_folder(folder)


@pytest.mark.parametrize("what", ["list", "stat", "read", "remove_file", "remove_folder", "resolve"])
async def test_what_is_not_there_is_said(ground: Ground, what: str) -> None:
    path = ground.top.child(b"nowhere")

    action = content(ground, path) if what == "read" else getattr(ground.side, what)(path)

    with pytest.raises(FileMissing):
        await action


async def test_a_folder_cannot_be_read_as_a_file(ground: Ground) -> None:
    await ground.side.make_folder(ground.top.child(b"img"))

    with pytest.raises(TransferError):
        await content(ground, ground.top.child(b"img"))


async def test_a_file_cannot_be_listed(ground: Ground) -> None:
    path = await put(ground, b"a")

    with pytest.raises(WrongKind):
        await ground.side.list(path)


async def test_renaming_never_replaces_unasked(ground: Ground) -> None:
    one, other = await put(ground, b"one", b"1"), await put(ground, b"other", b"2")

    with pytest.raises(AlreadyThere):
        await ground.side.rename(one, other)

    assert await content(ground, other) == b"2"


async def test_two_renames_follow_each_other_and_what_is_refused_is_told(ground: Ground) -> None:
    side, top = ground.side, ground.top
    for name in (b"old", b"new"):
        await side.make_folder(top.child(name))
        await side.write(top.child(name).child(name), once(name))
    place, fresh, kept = (top.child(name) for name in (b"old", b"new", b"kept"))
    assert await side.rename_both((place, kept), (fresh, place)) == (None, None)
    assert {one.name for one in (await side.list(place)).entries} == {b"new"}
    assert {one.name for one in (await side.list(kept)).entries} == {b"old"}
    away, into = await side.rename_both((top.child(b"none"), top.child(b"nowhere")), (kept, place))
    assert away is not None
    assert into is not None
    assert {one.name for one in (await side.list(place)).entries} == {b"new"}
    away, into = await side.rename_both((place, fresh), (top.child(b"none"), place))
    assert (away, into is not None) == (None, True)
    assert {one.name for one in (await side.list(fresh)).entries} == {b"new"}


async def test_renaming_replaces_where_asked(ground: Ground) -> None:
    one, other = await put(ground, b"one", b"1"), await put(ground, b"other", b"2")
    if "replacing" in ground.lacks:
        with pytest.raises(CannotReplace):
            await ground.side.rename(one, other, replace=True)
        assert (await content(ground, one), await content(ground, other)) == (b"1", b"2")
        return

    await ground.side.rename(one, other, replace=True)

    assert await content(ground, other) == b"1"
    assert await names(ground) == {b"other"}


async def test_permissions_and_time_are_set_and_read_back(ground: Ground) -> None:
    path = await put(ground, b"run.cgi")
    if "attributes" in ground.lacks:
        with pytest.raises(NotSupported):
            await ground.side.set_attributes(path, permissions=0o751)
        return

    await ground.side.set_attributes(path, permissions=0o751, stamp=Stamp.seconds(NOON_S))

    entry = await ground.side.stat(path)
    assert entry.permissions == 0o751
    assert entry.stamp is not None
    assert 0 <= NOON_S * NS - entry.stamp.at_ns < entry.stamp.precision_ns


async def test_links_say_where_they_lead(ground: Ground) -> None:
    await ground.side.make_folder(ground.top.child(b"htdocs"))
    await put(ground, b"file")
    for name, target in ((b"www", b"htdocs"), (b"to-file", b"file"), (b"broken", b"nowhere")):
        await ground.link(ground.top.child(name), target)

    found = {entry.name: entry for entry in (await ground.side.list(ground.top, careful=True)).entries}

    target = found[b"www"].target or b""
    if "own link targets" in ground.lacks:
        target = target.removeprefix(ground.top.raw + b"/")  # the server writes them out from its root
    assert (found[b"www"].kind, target, found[b"www"].leads_to) == (Kind.LINK, b"htdocs", Kind.FOLDER)
    assert found[b"www"].opens_as_folder
    assert found[b"to-file"].leads_to is Kind.FILE
    assert found[b"broken"].leads_to is None


async def test_a_link_is_followed_on_the_way_and_resolved(ground: Ground) -> None:
    await ground.side.make_folder(ground.top.child(b"htdocs"))
    await ground.side.write(ground.top.child(b"htdocs").child(b"a"), once(b"through"))
    await ground.link(ground.top.child(b"www"), b"htdocs")
    through = ground.top.join((b"www", b"a"))

    assert await content(ground, through) == b"through"
    assert await ground.side.resolve(through) == ground.top.join((b"htdocs", b"a"))
    assert await names(ground, ground.top.child(b"www")) == {b"a"}


async def test_removing_a_link_leaves_what_it_leads_to(ground: Ground) -> None:
    await put(ground, b"file", b"stays")
    await ground.link(ground.top.child(b"link"), b"file")

    await ground.side.remove_file(ground.top.child(b"link"))

    assert await names(ground) == {b"file"}


async def test_a_loop_of_links_ends(ground: Ground) -> None:
    await ground.side.make_folder(ground.top.child(b"a"))
    await ground.link(ground.top.join((b"a", b"again")), b"../a")
    await ground.link(ground.top.child(b"self"), b"self")

    readings = [reading async for reading in walk(ground.side, ground.top, careful=True)]

    assert {reading.below for reading in readings} == {(), (b"a",)}
    with pytest.raises(TransferError):
        await ground.side.list(ground.top.child(b"self"))


async def test_the_account_starts_in_a_folder_of_the_side(ground: Ground) -> None:
    mark = await put(ground, b"mark.txt")

    home = await ground.side.home()

    below = mark.below(home)
    assert below
    assert b"mark.txt" in {one.name for one in (await ground.side.list(home.join(below[:-1]))).entries}


async def test_a_walk_reads_every_folder_once(ground: Ground) -> None:
    for number in range(30):
        folder = ground.top.child(f"f{number}".encode())
        await ground.side.make_folder(folder)
        await ground.side.make_folder(folder.child(b"deep"))
        await ground.side.write(folder.join((b"deep", b"leaf")), once(b"x"))

    readings = [reading async for reading in walk(ground.side, ground.top)]

    assert len(readings) == len({reading.below for reading in readings}) == 61
    assert sum(entry.is_file for reading in readings for entry in reading.entries) == 30


async def test_leftovers_of_a_cut_carry_are_out_of_sight(ground: Ground) -> None:
    await put(ground, b".nailer-1-2.part")

    assert await names(ground) == set()
    assert (await ground.side.stat(ground.top.child(b".nailer-1-2.part"))).size == 7


async def test_removing_a_folder_as_a_file_is_refused(ground: Ground) -> None:
    await ground.side.make_folder(ground.top.child(b"img"))

    with pytest.raises((WrongKind, TransferError)):
        await ground.side.remove_file(ground.top.child(b"img"))

    assert await names(ground) == {b"img"}


async def test_deep_paths_and_many_names(ground: Ground) -> None:
    for number in range(300):
        await put(ground, f"plate-{number}".encode(), b"")

    assert len(await names(ground)) == 300


@pytest.mark.parametrize("size", [0, 5, 700_000])
async def test_a_file_lands_with_permissions_and_time_in_one_go(ground: Ground, size: int) -> None:
    path, data, stamp = ground.top.child(b"landed"), os.urandom(size), Stamp(NOON_S * NS, NS)

    # Twice: what a server can do is learned with the first, and reckoned with in the second.
    await ground.side.land(path, once(data), permissions=0o640, stamp=stamp)
    landed = await ground.side.land(path, once(data), permissions=0o640, stamp=stamp)

    looked = await ground.side.stat(path)
    assert (landed.name, landed.kind, landed.size) == (b"landed", Kind.FILE, size)
    assert (landed.permissions, landed.stamp) == (looked.permissions, looked.stamp)
    assert await content(ground, path) == data


async def test_landing_goes_on_behind_what_is_there(ground: Ground) -> None:
    path = await put(ground, b"half", b"0123456789")

    landed = await ground.side.land(path, once(b"abc"), start=7)

    assert landed.size == 10
    assert await content(ground, path) == b"0123456abc"


async def test_landing_beside_a_taken_name_is_noticed_at_the_latest_by_the_rename(ground: Ground) -> None:
    taken, part = await put(ground, b"taken", b"theirs"), ground.top.child(b"part")

    for _ in range(2):
        with pytest.raises(AlreadyThere):
            await ground.side.land(part, once(b"ours"), stamp=Stamp(NOON_S * NS, NS), free=taken)
            await ground.side.rename(part, taken)

    assert await content(ground, taken) == b"theirs"


async def test_a_small_file_is_read_whole_with_what_it_is(ground: Ground) -> None:
    for size in (0, 1, 300_000):
        path = await put(ground, b"whole-%d" % size, os.urandom(size))
        entry, data = await ground.side.read_all(path)
        assert (entry.size, data) == (size, await content(ground, path))
    with pytest.raises(FileMissing):
        await ground.side.read_all(ground.top.child(b"missing"))


async def test_little_is_read_ahead_where_so_asked(ground: Ground) -> None:
    data = os.urandom(900_000)
    path = await put(ground, b"slow", data)

    async with aclosing(ground.side.read(path, ahead=10_000)) as chunks:
        got = [chunk async for chunk in chunks]

    assert b"".join(got) == data


async def test_a_copy_within_the_side_is_whole_or_not_made(ground: Ground) -> None:
    source, target = await put(ground, b"source", b"x" * 400_000), ground.top.child(b"target")

    made = await ground.side.copy(source, target)

    assert (await names(ground) == {b"source", b"target"}) is made
    if made:
        assert await content(ground, target) == b"x" * 400_000


async def test_what_a_side_says_of_a_content_by_itself_is_true(ground: Ground) -> None:
    path = await put(ground, b"a.html", b"what it holds")

    said = await ground.side.own_hash(path)

    assert said is None or said.value == hashlib.new(said.algorithm, b"what it holds").digest()
