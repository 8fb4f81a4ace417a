"""FTP over real sockets: encryption before secrets, data channels, limits, clocks, links, and what servers do badly."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import ssl
import time
from collections.abc import AsyncIterator, Awaitable
from contextlib import aclosing
from pathlib import Path

import pytest

from nailer.core.connecting.protocol import Protocol
from nailer.core.files.entry import NS, Kind, Stamp
from nailer.core.plans.room import Room
from nailer.errors import (
    ConnectionDropped,
    EncryptionMissing,
    FileMissing,
    HostUnreachable,
    IdentityChanged,
    IdentityUnknown,
    LoginRefused,
    NoSpaceLeft,
    NotSupported,
    ProtocolViolation,
    ServerFailed,
    TooManyConnections,
    TransferError,
)
from nailer.sides.connection import Lane, SignIn, Wanted
from nailer.sides.connection_log import ConnectionLog
from nailer.sides.dial import Endpoint
from nailer.sides.ftp.channels import _accepted
from nailer.sides.ftp.line import FtpLine
from nailer.sides.ftp.side import FtpConnection
from nailer.sides.ftp.tls import client_context
from nailer.sides.reach import reach
from nailer.sides.side import Side, once
from nailer.standins.certificates import make_certificate
from nailer.standins.faults import CutAfter, RefusesEverybody
from nailer.standins.ftp import FtpHost
from tests.builders import NOON_S, path, tree, write
from tests.contracts.sides import HOST, an_ftp_host, connected, wanted


@contextlib.asynccontextmanager
async def running(host: FtpHost) -> AsyncIterator[FtpHost]:
    await host.start()
    try:
        yield host
    finally:
        await host.stop()


@contextlib.asynccontextmanager
async def speaking(*lines: bytes, then_close: bool = True) -> AsyncIterator[Wanted]:
    """A server that says these lines one after another, each after something was heard; then it closes or goes silent."""

    writers: list[asyncio.StreamWriter] = []

    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writers.append(writer)
        with contextlib.suppress(OSError):
            for number, line in enumerate(lines):
                if number:
                    await reader.readline()
                writer.write(line)
                await writer.drain()
            if not then_close:
                await reader.read()
        writer.close()

    server = await asyncio.start_server(answer, "127.0.0.1", 0)
    port = server.sockets[0].getsockname()[1]
    try:
        yield Wanted(Protocol.FTP, Endpoint(HOST, 21, "127.0.0.1", port), SignIn("seedlib", "sow-and-reap"))
    finally:
        server.close()
        for writer in writers:
            writer.transport.abort()
        await server.wait_closed()
        await asyncio.sleep(0.02)


async def content(side: Side, name: str, *, start: int = 0) -> bytes:
    async with aclosing(side.read(path(name), start=start)) as chunks:
        return b"".join([chunk async for chunk in chunks])


@pytest.mark.parametrize("tls", ["explicit", "implicit"])
async def test_a_certificate_nobody_vouches_for_is_met_before_the_password(tmp_path: Path, tls: str) -> None:
    async with running(an_ftp_host(tmp_path, tmp_path, tls=tls)) as host:
        with pytest.raises(IdentityUnknown) as met:
            await reach(wanted(host, pinned=()))

        assert "self-signed" in met.value.doubts[0]
        assert not any(command.startswith(("USER", "PASS")) for command in host.commands)


async def test_a_changed_certificate_stops_before_the_password(tmp_path: Path) -> None:
    async with running(an_ftp_host(tmp_path, tmp_path, tls="explicit")) as host:
        before = wanted(host)
        host.certificate = tmp_path / "another.pem"
        make_certificate(host.certificate, HOST)
        await host.stop()
        await host.start()

        with pytest.raises(IdentityChanged):
            await reach(before)

        assert host.sign_ins == 0


async def test_no_password_goes_out_where_encryption_is_wanted_and_missing(tmp_path: Path) -> None:
    async with running(an_ftp_host(tmp_path, tmp_path)) as host:
        with pytest.raises(EncryptionMissing):
            await reach(wanted(host, protocol=Protocol.FTP_TLS))

        assert not any(command.startswith(("USER", "PASS")) for command in host.commands)


async def test_every_data_channel_resumes_the_session_of_the_line(tmp_path: Path) -> None:
    root = tmp_path / "root"
    root.mkdir()
    host = an_ftp_host(root, tmp_path, tls="explicit", demands_reuse=True)
    async with connected(host) as connection:
        side = await connection.channel(Lane.BROWSE)
        for number in range(5):
            await side.write(path(f"/{number}"), once(b"x" * 70_000))
            assert await content(side, f"/{number}") == b"x" * 70_000
        await side.list(path("/"))

    assert len(host.reused) >= 5
    assert all(host.reused)


async def test_files_without_protection_are_refused(tmp_path: Path) -> None:
    async with running(an_ftp_host(tmp_path, tmp_path, tls="explicit", lacks=("PROT",))) as host:
        with pytest.raises(EncryptionMissing, match="but not the file transfers"):
            await reach(wanted(host))


async def test_a_refused_sign_in_is_one_try_and_in_no_wire(tmp_path: Path) -> None:
    log = ConnectionLog()
    async with running(an_ftp_host(tmp_path, tmp_path)) as host:
        host.fault = fault = RefusesEverybody()
        with pytest.raises(LoginRefused):
            await reach(wanted(host, log=log))

    text = "\n".join(line.text for line in log.lines())
    assert fault.tries == 1
    assert "PASS" in text
    assert "sow-and-reap" not in text


async def test_a_private_address_in_the_reply_is_left_aside(tmp_path: Path) -> None:
    write(tmp_path, "a.txt", "reached")
    host = FtpHost.old_fashioned(tmp_path, "seedlib", "sow-and-reap", passive_address="10.1.2.3")
    async with connected(host) as connection:
        assert await content(await connection.channel(Lane.BROWSE), "/a.txt") == b"reached"

    assert "PASV" in host.commands


@pytest.mark.parametrize("old", [False, True], ids=["EPRT", "PORT"])
async def test_the_server_may_reach_back(tmp_path: Path, old: bool) -> None:
    write(tmp_path, "a.txt", "reached")
    lacks = ("EPRT",) if old else ()
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap", lacks=lacks)
    if old:
        # IPv4 has PORT; Nailer asks with it first, and with EPRT only over IPv6.
        assert "EPRT" in host.lacks
    async with connected(host, passive=False) as connection:
        side = await connection.channel(Lane.BROWSE)
        assert await content(side, "/a.txt") == b"reached"
        await side.write(path("/b.txt"), once(b"and back"))

    assert (tmp_path / "b.txt").read_bytes() == b"and back"
    assert any(command.startswith("PORT") for command in host.commands)


async def test_reading_and_writing_go_on_half_way(tmp_path: Path) -> None:
    write(tmp_path, "half", b"0123456789")
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap")) as connection:
        side = await connection.channel(Lane.BROWSE)

        assert await content(side, "/half", start=6) == b"6789"
        assert await side.write(path("/half"), once(b"abc"), start=4) == 3

    assert (tmp_path / "half").read_bytes()[:7] == b"0123abc"


async def test_many_files_go_over_as_many_lines_as_there_may_be(tmp_path: Path) -> None:
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap"), most=4) as connection:
        side = await connection.channel(Lane.TRANSFER)

        await asyncio.gather(*(side.write(path(f"/f{n}"), once(b"x" * 1000)) for n in range(30)))

        assert connection.lines == 3, "one is kept free for browsing"
    assert len(tree(tmp_path)) == 30


async def test_a_servers_limit_is_learned_and_kept(tmp_path: Path) -> None:
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap", most_lines=2)
    async with connected(host, most=6) as connection:
        assert isinstance(connection, FtpConnection)
        side = await connection.channel(Lane.TRANSFER)

        await asyncio.gather(*(side.write(path(f"/f{n}"), once(b"x")) for n in range(12)))

        assert connection.most_lines == 2
    assert len(tree(tmp_path)) == 12


async def test_browsing_goes_on_while_files_are_carried(tmp_path: Path) -> None:
    async def slowly() -> AsyncIterator[bytes]:
        yield b"x"
        async with asyncio.timeout(20):
            await listed.wait()
        yield b"y"

    listed = asyncio.Event()
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap"), most=2) as connection:
        carrying, browsing = await connection.channel(Lane.TRANSFER), await connection.channel(Lane.BROWSE)
        uploads = asyncio.gather(*(carrying.write(path(f"/{n}"), slowly()) for n in range(3)))

        await browsing.list(path("/"))
        listed.set()
        await uploads

    assert len(tree(tmp_path)) == 3


async def test_a_line_that_was_closed_while_idle_is_replaced(tmp_path: Path) -> None:
    write(tmp_path, "a.txt", "still here")
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap")
    async with connected(host) as connection:
        side = await connection.channel(Lane.BROWSE)
        await side.list(path("/"))
        host.cut()
        while connection.is_open:
            await asyncio.sleep(0.01)

        assert await content(side, "/a.txt") == b"still here"


@pytest.mark.parametrize("tls", ["", "explicit"])
async def test_a_command_on_a_line_that_ends_this_moment_is_a_cut_line(tmp_path: Path, tls: str) -> None:
    async with connected(an_ftp_host(tmp_path, tmp_path, tls=tls)) as connection:
        assert isinstance(connection, FtpConnection)
        async with connection.line(Lane.BROWSE) as line:
            line.abort()
            with pytest.raises(ConnectionDropped):
                await line.ask(b"NOOP")
            assert not line.is_clear


async def test_a_first_attempt_that_is_put_off_is_made_again(tmp_path: Path) -> None:
    """421 heals: the server is asked once more after a moment (RFC 959, 4.2.2)."""
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap", refuses_first=1)) as connection:
        assert connection.is_open


async def test_a_full_account_is_said(tmp_path: Path) -> None:
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap", quota_bytes=50_000)) as connection:
        side = await connection.channel(Lane.TRANSFER)

        assert await side.room(path("/")) == Room(0, 50_000)
        with pytest.raises(NoSpaceLeft, match="quota"):
            await side.write(path("/big"), once(b"x" * 3_000_000))


async def test_the_room_is_read_from_a_quota_in_words(tmp_path: Path) -> None:
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap", quota_bytes=10 * 1024**2, lacks=("AVBL", "FEAT"))
    async with connected(host) as connection:
        room = await (await connection.channel(Lane.BROWSE)).room(path("/"))

    assert room == Room(10_485_760, 10_485_760)


async def test_a_write_that_the_server_refuses_without_a_reason_is_no_success(tmp_path: Path) -> None:
    """A refusal with no more than a code, in a folder that is there: it must not pass for a file that landed."""
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap", refuses_files=True)) as connection:
        side = await connection.channel(Lane.TRANSFER)

        with pytest.raises(ServerFailed):
            await side.write(path("/a.txt"), once(b"x"))


async def test_a_cut_line_is_said_in_the_middle_of_a_file(tmp_path: Path) -> None:
    write(tmp_path, "big", b"x" * 3_000_000)
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap")
    async with connected(host) as connection:
        side = await connection.channel(Lane.TRANSFER)
        host.fault = CutAfter(400_000)

        with pytest.raises(ConnectionDropped):
            await content(side, "/big")
        host.fault = CutAfter(400_000)
        with pytest.raises(ConnectionDropped):
            await side.write(path("/up"), once(b"x" * 3_000_000))


async def test_a_reading_left_early_leaves_the_line_usable(tmp_path: Path) -> None:
    write(tmp_path, "big", b"x" * 20_000_000)
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap")
    async with connected(host, most=1) as connection:
        side = await connection.channel(Lane.BROWSE)
        async with aclosing(side.read(path("/big"))) as chunks:
            async for _ in chunks:
                break

        assert (await side.stat(path("/big"))).size == 20_000_000
    assert host.sign_ins <= 2


async def test_a_caller_that_is_cancelled_leaves_nothing_behind(tmp_path: Path) -> None:
    async def endless() -> AsyncIterator[bytes]:
        while True:
            yield b"x" * 1000
            await asyncio.sleep(0.01)

    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap"), most=1) as connection:
        side = await connection.channel(Lane.BROWSE)
        task = asyncio.create_task(side.write(path("/f"), endless()))
        await asyncio.sleep(0.1)
        task.cancel()
        with pytest.raises(asyncio.CancelledError):
            await task

        assert {entry.name for entry in (await side.list(path("/"))).entries} == {b"f"}


async def test_the_clock_of_listings_is_measured_and_reckoned_with(tmp_path: Path) -> None:
    minute_s = int(time.time()) // 60 * 60 - 3600
    write(tmp_path, "a.txt", "x", at_s=minute_s)
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap", lacks=("MLSD", "MLST", "FEAT"), clock_ahead_s=7200)
    async with connected(host) as connection:
        assert isinstance(connection, FtpConnection)
        side = await connection.channel(Lane.BROWSE)

        assert await connection.measure_offset(path("/")) == 7200
        (entry,) = (await side.list(path("/"))).entries

    assert entry.stamp is not None
    assert (entry.stamp.at_ns, entry.stamp.precision_ns) == (minute_s * NS, 60 * NS)


async def test_names_in_another_set_are_read_and_written(tmp_path: Path) -> None:
    (Path(tmp_path) / os.fsdecode(b"men\xfc.html")).write_text("soup")
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap"), charset="iso-8859-1") as connection:
        side = await connection.channel(Lane.BROWSE)

        assert [entry.name.decode() for entry in (await side.list(path("/"))).entries] == ["menü.html"]
        assert await content(side, "/menü.html") == b"soup"
        await side.write(path("/straße.html"), once(b"road"))
        with pytest.raises(NotSupported, match="does not contain"):
            await side.write(path("/船.html"), once(b"boat"))

    assert (tmp_path / os.fsdecode(b"stra\xdfe.html")).read_bytes() == b"road"


async def test_dos_listings_are_read(tmp_path: Path) -> None:
    write(tmp_path, "sub/a.txt", "x")
    write(tmp_path, "b.txt", "twelve bytes")
    host = FtpHost.old_fashioned(tmp_path, "seedlib", "sow-and-reap", dos_listing=True)
    async with connected(host) as connection:
        found = {entry.name: entry for entry in (await (await connection.channel(Lane.BROWSE)).list(path("/"))).entries}

    assert (found[b"sub"].kind, found[b"b.txt"].size) == (Kind.FOLDER, 12)


async def test_hidden_links_are_found_where_care_is_asked_for(tmp_path: Path) -> None:
    """A server that shows links as what they lead to: a removal that walked on would empty another folder."""
    write(tmp_path, "htdocs/a.txt", "x")
    (tmp_path / "www").symlink_to("htdocs")
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap", shows_links=False)
    async with connected(host) as connection:
        side = await connection.channel(Lane.BROWSE)

        plain = {entry.name: entry.kind for entry in (await side.list(path("/"))).entries}
        careful = {entry.name: entry.kind for entry in (await side.list(path("/"), careful=True)).entries}

    assert plain[b"www"] is Kind.FOLDER
    assert careful[b"www"] is Kind.LINK
    assert connection.abilities.links is False


async def test_what_a_server_cannot_do_is_learned(tmp_path: Path) -> None:
    write(tmp_path, "a", "x")
    host = FtpHost.old_fashioned(tmp_path, "seedlib", "sow-and-reap")
    async with connected(host) as connection:
        side = await connection.channel(Lane.BROWSE)
        with pytest.raises(NotSupported):
            await side.set_attributes(path("/a"), permissions=0o600)
        with pytest.raises(NotSupported, match="does not allow setting the permissions"):
            await side.set_attributes(path("/a"), permissions=0o600)

        abilities = connection.abilities

    assert (abilities.permissions, abilities.exact_times, abilities.resume) == (False, False, False)
    assert sum(command.startswith("SITE CHMOD") for command in host.commands) == 1, "not asked twice"


async def test_a_command_by_hand_is_answered(tmp_path: Path) -> None:
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap")) as connection:
        assert isinstance(connection, FtpConnection)
        reply = await connection.raw(b"SITE HELP")

    assert reply.code == 214


async def test_no_command_is_sent_that_is_not_needed(tmp_path: Path) -> None:
    write(tmp_path, "sub/a", "x")
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap")
    async with connected(host) as connection:
        side = await connection.channel(Lane.BROWSE)
        del host.commands[:]
        await side.list(path("/sub"))
        await content(side, "/sub/a")

    assert host.commands[:4] == ["EPSV", "MLSD /sub", "EPSV", "RETR /sub/a"]


@pytest.mark.parametrize(
    "greeting",
    [
        b"HTTP/1.1 400 Bad Request\r\n\r\n",
        b"SSH-2.0-made-up\r\n",
        b"\x15\x03\x03\x00\x02\r\n",
        b"garbage\xff\xfe\n",
        b"x" * 200_000,
    ],
    ids=["web", "ssh", "tls", "garbage", "endless line"],
)
async def test_a_greeting_of_something_else_is_said(greeting: bytes) -> None:
    async with speaking(greeting) as asked:
        with pytest.raises((ProtocolViolation, ConnectionDropped)):
            await reach(asked)


async def test_an_endless_banner_is_given_up() -> None:
    banner = b"220-" + b"welcome\r\n" * 200_000
    async with speaking(banner) as asked:
        with pytest.raises(ProtocolViolation, match="does not answer with FTP"):
            await reach(asked)


@pytest.mark.parametrize("lines", range(1, 4))
async def test_a_line_cut_in_any_step_of_the_sign_in_is_said(lines: int) -> None:
    said = [b"220 ready\r\n", b"331 password\r\n", b"230 in\r\n"]
    async with speaking(*said[:lines]) as asked:
        with pytest.raises(ConnectionDropped):
            await reach(asked)


async def test_a_server_with_too_many_guests_is_said_to_be_busy(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("nailer.sides.reach._FIRST_WAIT_S", 0.01)
    async with speaking(b"220 ready\r\n", b"331 password\r\n", b"530 Too many connections from your host\r\n") as asked:
        with pytest.raises(TooManyConnections):
            await reach(asked)


async def test_a_silent_server_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("nailer.sides.ftp.line.GREETING_S", 0.2)
    async with speaking(b"", then_close=False) as asked:
        with pytest.raises(TransferError, match="has not answered"):
            await reach(asked)


async def test_a_listing_that_cannot_be_read_is_no_empty_folder(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    host = FtpHost.old_fashioned(tmp_path, "seedlib", "sow-and-reap")
    write(tmp_path, "a", "x")
    monkeypatch.setattr("nailer.standins.ftp._list_line", lambda *_, **__: b"?? something of its own\r\n")
    async with connected(host) as connection:
        with pytest.raises(ProtocolViolation, match="cannot be read"):
            await (await connection.channel(Lane.BROWSE)).list(path("/"))


async def test_times_are_kept_where_the_server_can(tmp_path: Path) -> None:
    write(tmp_path, "a", "x")
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap")) as connection:
        side = await connection.channel(Lane.BROWSE)
        entry = await side.stat(path("/a"))

    assert entry.stamp is not None
    assert entry.stamp.at_ns == NOON_S * NS


async def test_a_port_where_nobody_listens(tmp_path: Path) -> None:
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap")
    await host.start()
    await host.stop()

    with pytest.raises(HostUnreachable, match="refuses"):
        await reach(wanted(host))


async def test_a_missing_file_is_told_on_a_server_with_few_words(tmp_path: Path) -> None:
    async with connected(FtpHost.old_fashioned(tmp_path, "seedlib", "sow-and-reap")) as connection:
        side = await connection.channel(Lane.BROWSE)
        with pytest.raises(FileMissing):
            await content(side, "/nowhere/at-all")


async def land(side: Side, name: str, data: bytes = b"x") -> None:
    stamp = Stamp(NOON_S * NS, NS)
    await side.land(path(name), once(data), permissions=0o644, stamp=stamp, free=path(f"{name}.free"))


async def test_a_renaming_goes_along_with_what_another_line_sends(tmp_path: Path) -> None:
    """One line carries: a renaming that would wait for it leaves together with the commands of the file on it."""
    write(tmp_path, "old.txt", "old")
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap")
    async with connected(host, most=2) as connection:
        side = await connection.channel(Lane.TRANSFER)
        await land(side, "/warm.txt")
        old = await side.stat(path("/old.txt"))
        host.commands.clear()

        async with asyncio.TaskGroup() as tasks:
            tasks.create_task(land(side, "/new.txt"))
            await asyncio.sleep(0)
            moved = side.rename(path("/old.txt"), path("/moved.txt"), looked=True, landed=old)
            tasks.create_task(moved)
            lost = side.rename(path("/gone.txt"), path("/lost.txt"), looked=True, landed=old)
            gone = tasks.create_task(outcome(lost))

        sent = " ".join(host.commands)
        with_looks = "RNFR /old.txt RNTO /moved.txt RNFR /gone.txt RNTO /lost.txt MLST /moved.txt MLST /lost.txt"
        assert f"MLST /new.txt.free {with_looks} EPSV" in sent
        assert isinstance(gone.result(), TransferError), "its own failure is its own"
        assert tree(tmp_path) == {"warm.txt": b"x", "new.txt": b"x", "moved.txt": b"old"}


async def test_a_renaming_that_went_along_hears_of_a_cut(tmp_path: Path) -> None:
    write(tmp_path, "old.txt", "old")
    host = FtpHost(tmp_path, "seedlib", "sow-and-reap")
    async with connected(host, most=2) as connection:
        side = await connection.channel(Lane.TRANSFER)
        await land(side, "/warm.txt")
        host.fault = CutAfter(50_000)

        file = asyncio.create_task(outcome(land(side, "/new.txt", b"x" * 200_000)))
        await asyncio.sleep(0)
        moved = await outcome(side.rename(path("/old.txt"), path("/moved.txt"), looked=True))

        assert isinstance(await file, ConnectionDropped)
        assert moved is None or isinstance(moved, ConnectionDropped)
        assert ("moved.txt" in tree(tmp_path)) is (moved is None)
        await side.stat(path("/warm.txt"))
        assert connection.moving == []


async def test_a_renaming_that_is_given_up_is_not_sent_later(tmp_path: Path) -> None:
    write(tmp_path, "old.txt", "old")
    async with connected(FtpHost(tmp_path, "seedlib", "sow-and-reap"), most=2) as connection:
        side = await connection.channel(Lane.TRANSFER)
        await land(side, "/warm.txt")
        async with connection.line(Lane.TRANSFER):
            waiting = asyncio.create_task(side.rename(path("/old.txt"), path("/moved.txt"), looked=True))
            await asyncio.sleep(0.01)
            waiting.cancel()
            await asyncio.gather(waiting, return_exceptions=True)
        await land(side, "/new.txt")

    assert "old.txt" in tree(tmp_path)


async def outcome(act: Awaitable[None]) -> TransferError | None:
    """What an act failed with; None where it did not."""
    try:
        await act
    except TransferError as failed:
        return failed
    return None


async def test_a_data_channel_with_another_certificate_is_refused(tmp_path: Path) -> None:
    """Somebody in the middle of the data alone."""

    def served(name: str) -> ssl.SSLContext:
        make_certificate(tmp_path / name, "ftp.mosslane.example")
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(tmp_path / name)
        return context

    async def nothing(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.read()
        writer.close()

    async with contextlib.AsyncExitStack() as stack:
        ports = []
        for name in ("own.pem", "other.pem"):
            server = await asyncio.start_server(nothing, "127.0.0.1", 0, ssl=served(name))
            stack.push_async_callback(server.wait_closed)
            stack.callback(server.close)
            ports.append(server.sockets[0].getsockname()[1])
        line = FtpLine(Endpoint("ftp.mosslane.example", 990, "127.0.0.1", ports[0]), ConnectionLog(), 1, passive=True)
        await line.open()
        stack.callback(line.abort)
        await line.start_tls(client_context(old_allowed=False))
        line.protected = True
        made = socket.create_connection(("127.0.0.1", ports[1]))
        made.setblocking(False)

        with pytest.raises(ProtocolViolation, match="different certificate"):
            await line.channels._channel(made)


async def test_only_the_server_may_reach_an_active_port() -> None:
    listener = socket.create_server(("127.0.0.1", 0))
    listener.setblocking(False)
    port = listener.getsockname()[1]
    with listener, socket.create_connection(("127.0.0.1", port), source_address=("127.0.0.2", 0)) as stranger:
        waiting = asyncio.create_task(_accepted(listener, "127.0.0.1"))
        await asyncio.sleep(0)
        with socket.create_connection(("127.0.0.1", port)) as server, await waiting as made:
            assert made.getpeername() == server.getsockname()
        stranger.settimeout(5)
        assert stranger.recv(1) == b"", "it was hung up on"


async def test_a_password_is_on_no_wire(tmp_path: Path) -> None:
    """Whatever the wire was told to hide."""
    host = an_ftp_host(tmp_path, tmp_path)
    log = ConnectionLog()

    async with connected(host, log=log):
        pass

    told = "\n".join(one.text for one in log.lines())
    assert "PASS" in told
    assert "sow-and-reap" not in told
