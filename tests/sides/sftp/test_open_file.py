"""Open files over SFTP: closed once whatever happens, read whole whatever the server answers at once."""

from __future__ import annotations

import asyncio
import os
from collections.abc import AsyncIterator
from pathlib import Path
from typing import BinaryIO

import asyncssh
import pytest

from nailer.core.files.entry import Stamp
from nailer.errors import ConnectionDropped, FileMissing, NoSpaceLeft, TransferError
from nailer.sides.sftp.open_file import READING, WRITING, open_file
from nailer.sides.sftp.pipeline import DATA, Answer
from nailer.sides.sftp.side import SftpSide
from nailer.sides.sftp.writing import _blocks
from nailer.sides.side import once
from nailer.standins import sftp
from nailer.standins.faults import Slow
from nailer.standins.sftp import SftpHost
from tests.builders import path, write
from tests.contracts.sides import an_sftp_side


@pytest.fixture
async def served(tmp_path: Path) -> AsyncIterator[tuple[SftpSide, SftpHost]]:
    async with an_sftp_side(tmp_path) as (side, host):
        assert isinstance(side, SftpSide)
        yield side, host


async def none_open(host: SftpHost) -> None:
    async with asyncio.timeout(5):
        while host.open_files:
            await asyncio.sleep(0.01)


async def test_a_file_is_closed_once(served: tuple[SftpSide, SftpHost]) -> None:
    """The handle may be another file's by the time somebody closes again."""
    side, host = served
    file = await open_file(side.client, b"/a.txt", WRITING)
    await file.write(b"hello", 0)
    await file.close()
    await file.close()

    assert host.open_files == 0
    assert (await side.read_all(path("/a.txt")))[1] == b"hello"


@pytest.mark.parametrize("after_s", [0.05, 0.25])
async def test_whoever_stops_waiting_leaves_no_file_open(
    served: tuple[SftpSide, SftpHost], tmp_path: Path, after_s: float
) -> None:
    """While it is being opened, and while it is being read."""
    side, host = served
    write(tmp_path, "a.txt", "x" * 1000)
    host.fault = Slow(0.2)
    reading = asyncio.create_task(side.read_all(path("/a.txt")))
    await asyncio.sleep(after_s)
    reading.cancel()
    with pytest.raises(asyncio.CancelledError):
        await reading
    host.fault = Slow(0)

    await side.stat(path("/a.txt"))
    await asyncio.sleep(0.3)
    await none_open(host)


async def test_a_write_that_fails_leaves_no_file_open(served: tuple[SftpSide, SftpHost]) -> None:
    side, host = served

    async def failing() -> AsyncIterator[bytes]:
        yield b"some"
        raise FileMissing("The source is gone.")

    with pytest.raises(FileMissing):
        await side.land(path("/a.txt"), failing(), permissions=0o640)

    await none_open(host)


@pytest.mark.parametrize("landing", [True, False])
async def test_a_disk_that_is_found_full_only_at_the_close_is_said(
    served: tuple[SftpSide, SftpHost], monkeypatch: pytest.MonkeyPatch, landing: bool
) -> None:
    side, _ = served

    def full(_: object, file: BinaryIO) -> None:
        file.close()
        raise asyncssh.SFTPFailure("No space left on device")

    monkeypatch.setattr(sftp._Files, "close", full)
    content = once(b"x")

    with pytest.raises(NoSpaceLeft):
        await (side.land(path("/a.txt"), content) if landing else side.write(path("/a.txt"), content))


@pytest.mark.parametrize("most", [1, 7, 4096])
async def test_a_server_that_answers_with_less_than_was_asked_is_asked_on(
    served: tuple[SftpSide, SftpHost], tmp_path: Path, most: int
) -> None:
    side, host = served
    content = bytes(range(256)) * 2
    (tmp_path / "a.bin").write_bytes(content)
    host.most_read_bytes = most

    assert (await side.read_all(path("/a.bin")))[1] == content
    assert b"".join([chunk async for chunk in side.read(path("/a.bin"), start=3)]) == content[3:]


@pytest.mark.parametrize(
    ("sizes", "sent"),
    [
        ([10, 10, 10], [8, 8, 8, 6]),
        ([3, 3], [3, 3]),  # under a limit of speed: nothing is held back
        ([10, 3, 16], [8, 5, 8, 8]),
        ([8, 8], [8, 8]),
        ([], []),
    ],
)
async def test_large_chunks_fill_requests_and_small_ones_go_as_they_come(sizes: list[int], sent: list[int]) -> None:
    content = bytes(range(sum(sizes)))

    async def chunks() -> AsyncIterator[bytes]:
        at = 0
        for size in sizes:
            yield content[at : at + size]
            at += size

    blocks = [block async for block in _blocks(chunks(), 8)]

    assert [len(block) for block in blocks] == sent
    assert b"".join(blocks) == content


async def test_a_time_past_what_the_protocol_has_is_the_latest_it_has(
    served: tuple[SftpSide, SftpHost], tmp_path: Path
) -> None:
    side, _ = served
    late = Stamp.seconds(2**32 + 1000)

    landed = await side.land(path("/a.txt"), once(b"x"), stamp=late)
    await side.write(path("/b.txt"), once(b"x"))
    await side.set_attributes(path("/b.txt"), stamp=late)

    assert landed.stamp == Stamp.seconds(2**32 - 1)
    assert {os.stat(tmp_path / name).st_mtime for name in ("a.txt", "b.txt")} == {2**32 - 1}


async def test_an_answer_of_another_kind_is_a_broken_server(served: tuple[SftpSide, SftpHost]) -> None:
    side, _ = served
    file = await open_file(side.client, b"/a.txt", WRITING)

    with pytest.raises(asyncssh.SFTPBadMessage):
        await Answer(side.client._handler, DATA, 8, file._handle)
    with pytest.raises(TransferError, match=r"a\.txt"):
        await side.ask(Answer(side.client._handler, DATA, 4, file._handle), path("/a.txt"))


async def test_a_request_that_cannot_be_sent_waits_for_nothing(
    served: tuple[SftpSide, SftpHost], monkeypatch: pytest.MonkeyPatch
) -> None:
    side, _ = served
    file = await open_file(side.client, b"/a.txt", WRITING)
    handler = side.client._handler
    waiting = dict(handler._requests)

    def refuse(_: bytes) -> None:
        raise BrokenPipeError("Channel not open for sending")

    with monkeypatch.context() as patched:
        patched.setattr(handler._writer, "write", refuse)
        with pytest.raises(ConnectionDropped):
            await side.ask(file.write(b"x", 0), path("/a.txt"))

    assert handler._requests == waiting
    await file.close()


async def test_a_missing_file_is_said_when_it_is_heard(served: tuple[SftpSide, SftpHost]) -> None:
    side, _ = served
    with pytest.raises(asyncssh.SFTPNoSuchFile):
        await open_file(side.client, b"/nowhere", READING)
