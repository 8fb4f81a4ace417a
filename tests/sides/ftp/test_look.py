"""Looking by FTP at servers that misbehave: what is read, and why it may not be all."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import pytest

from nailer.core.connecting.protocol import Protocol
from nailer.core.files.completeness import Lack, Listing
from nailer.errors import FileMissing, NailerError
from nailer.sides.connection import ConnectionOptions, Lane, SignIn, Wanted
from nailer.sides.connection_log import ConnectionLog
from nailer.sides.dial import Endpoint
from nailer.sides.ftp.line import FtpLine
from nailer.sides.reach import reach
from nailer.sides.side import Side
from tests.builders import path, write
from tests.rough.server import RoughFtp

NAMES = {f"{letter}.html" for letter in "abcdef"}


@asynccontextmanager
async def a_side(root: Path, *faults: str) -> AsyncIterator[tuple[Side, RoughFtp]]:
    host = RoughFtp(root, faults)
    await host.start()
    where = Endpoint("ftp.mosslane.example", 21, host.address, host.port)
    try:
        connection = await reach(Wanted(Protocol.FTP, where, SignIn("any", "one"), (), ConnectionOptions(offset_s=0)))
        try:
            yield await connection.channel(Lane.BROWSE), host
        finally:
            await connection.close()
    finally:
        await host.stop()


async def listed(tmp_path: Path, *faults: str) -> Listing:
    for name in NAMES:
        write(tmp_path, f"site/{name}")
    async with a_side(tmp_path, *faults) as (side, _):
        return await side.list(path("/site"))


@pytest.mark.parametrize(
    ("faults", "why", "names"),
    [
        (["no-facts", "list-says-cut"], Lack.CUT, 3),
        (["no-facts", "list-cut-in-a-row"], Lack.UNREAD, 3),
        (["no-facts", "list-could-not-open"], Lack.DOUBTED, 0),
        (["no-facts", "list-empty"], Lack.UNPROVED, 0),
        (["no-facts", "list-no-files-found"], Lack.UNPROVED, 0),
        (["no-facts", "rows-unread"], Lack.UNREAD, 6),
        (["no-facts", "rows-too-large"], Lack.UNREAD, 5),
        (["no-facts", "rows-twice"], Lack.UNREAD, 6),
        (["no-facts", "option-refused"], Lack.DOTTED, 6),
        (["no-facts", "option-is-a-pattern"], Lack.DOTTED, 6),
        (["facts-say-cut"], Lack.CUT, 3),
        (["facts-without-type"], Lack.UNREAD, 5),
    ],
    ids=lambda value: "+".join(value) if isinstance(value, list) else "",
)
async def test_a_listing_says_why_it_may_not_be_all(tmp_path: Path, faults: list[str], why: Lack, names: int) -> None:
    found = await listed(tmp_path, *faults)

    assert found.lack is not None
    assert (found.lack.why, len(found.entries)) == (why, names)
    assert found.lack.sentence


@pytest.mark.parametrize(
    "faults",
    [
        ["no-facts", "rows-of-year-0000"],
        ["no-facts", "rows-in-another-language"],
        ["no-facts", "rows-with-blank-owners"],
        ["no-facts", "rows-iso"],
        ["no-facts", "rows-bare-lf"],
        ["no-facts", "shows-no-dot"],
        ["facts-of-year-0000"],
        ["facts-empty"],
        ["facts-500"],
        ["facts-550"],
        ["no-feat"],
    ],
    ids="+".join,
)
async def test_what_is_odd_and_can_be_read_is_whole(tmp_path: Path, faults: list[str]) -> None:
    found = await listed(tmp_path, *faults)

    assert {one.name.decode() for one in found.entries} == NAMES
    assert found.is_whole, found.lack


@pytest.mark.parametrize("fault", ["list-refused", "list-451"])
async def test_a_folder_that_is_there_is_never_called_missing(tmp_path: Path, fault: str) -> None:
    with pytest.raises(NailerError) as raised:
        await listed(tmp_path, "no-facts", fault)

    assert not isinstance(raised.value, FileMissing)


async def test_thirty_looks_into_a_large_folder_list_it_once(tmp_path: Path) -> None:
    """Without facts a name's permissions are only in its folder's listing: size and time are asked for by name."""
    for number in range(3000):
        write(tmp_path, f"site/{number}.html")
    async with a_side(tmp_path, "no-facts") as (side, host):
        for number in range(30):
            entry = await side.stat(path(f"/site/{number}.html"))
            assert entry.permissions == 0o644

        assert sum(line.startswith("LIST") for line in host.log) == 1


async def test_a_line_masks_what_it_signs_in_with_by_itself(tmp_path: Path) -> None:
    """Whatever the wire was told to hide."""
    host, log = RoughFtp(tmp_path), ConnectionLog()
    await host.start()
    line = FtpLine(Endpoint("ftp.mosslane.example", 21, host.address, host.port), log, 1, passive=True)
    try:
        await line.open()
        await line.greeting()
        await line.ask(b"PASS sow-and-reap")
        line.abort()
    finally:
        await host.stop()

    told = "\n".join(one.text for one in log.lines())
    assert "PASS" in told
    assert "sow-and-reap" not in told
