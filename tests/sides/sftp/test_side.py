"""Connecting by SFTP: identity before secrets, refusals told apart, and what servers do badly."""

from __future__ import annotations

import asyncio
import os
import socket
from contextlib import aclosing
from dataclasses import replace
from pathlib import Path

import asyncssh
import pytest

from nailer.core.connecting.protocol import Protocol
from nailer.errors import (
    AnswerNeeded,
    ConnectionDropped,
    HostUnreachable,
    IdentityChanged,
    IdentityUnknown,
    LoginRefused,
    NoSpaceLeft,
    ProtocolViolation,
    TransferError,
    Unreached,
    WeakServer,
)
from nailer.sides.connection import Connection, Lane, SignIn, Wanted
from nailer.sides.connection_log import ConnectionLog
from nailer.sides.dial import Endpoint
from nailer.sides.identities.identity import Identity, host_key, key_of_line, same_fingerprint
from nailer.sides.pool import Pool
from nailer.sides.reach import reach
from nailer.sides.sftp.side import connect
from nailer.sides.side import once
from nailer.standins.faults import CutAfter, Full, RefusesEverybody, Stuck
from nailer.standins.sftp import SftpHost
from tests.builders import path, tree, write
from tests.contracts.sides import an_sftp_side, shown_key, wanted

GOOD = SignIn("seedlib", "sow-and-reap")


@pytest.fixture
async def host(tmp_path: Path):  # type: ignore[no-untyped-def]
    made = SftpHost(tmp_path, "seedlib", "sow-and-reap")
    await made.start()
    yield made
    await made.stop()


async def test_a_first_meeting_shows_the_key_and_sends_nothing_secret(host: SftpHost) -> None:
    with pytest.raises(IdentityUnknown) as met:
        await reach(wanted(host, pinned=()))

    assert met.value.fingerprint == shown_key(host).fingerprint
    assert key_of_line(met.value.public_key) == shown_key(host)
    assert host.sign_ins == 0


async def test_a_changed_key_stops_before_the_password(host: SftpHost) -> None:
    former = host_key(asyncssh.generate_private_key("ssh-ed25519").convert_to_public())

    with pytest.raises(IdentityChanged):
        await reach(wanted(host, pinned=(former,)))

    assert host.sign_ins == 0


async def test_a_pinned_key_of_another_kind_still_counts_as_changed(host: SftpHost) -> None:
    former = host_key(asyncssh.generate_private_key("ecdsa-sha2-nistp256").convert_to_public())

    with pytest.raises(IdentityChanged):
        await reach(wanted(host, pinned=(former,)))


@pytest.mark.parametrize(
    "sign_in", [replace(GOOD, password="wrong"), replace(GOOD, user="sedlib")], ids=["password", "user"]
)
async def test_a_refused_sign_in_is_said_and_not_repeated(host: SftpHost, sign_in: SignIn) -> None:
    with pytest.raises(LoginRefused):
        await reach(wanted(host, sign_in=sign_in))


async def test_one_sign_in_is_one_try(host: SftpHost) -> None:
    host.fault = fault = RefusesEverybody()

    with pytest.raises(LoginRefused):
        await reach(wanted(host))

    assert fault.tries == 1


async def test_a_key_signs_in(host: SftpHost) -> None:
    key = asyncssh.generate_private_key("ssh-ed25519")
    host.password, host.authorized_key = None, key.export_public_key().decode()
    text = key.export_private_key("openssh", "passphrase").decode()

    connection = await reach(wanted(host, sign_in=SignIn("seedlib", None, text, "passphrase")))
    await connection.close()

    assert host.sign_ins == 1
    with pytest.raises(LoginRefused, match="passphrase"):
        await reach(wanted(host, sign_in=SignIn("seedlib", None, text, "wrong")))
    with pytest.raises(LoginRefused, match="cannot be read"):
        await reach(wanted(host, sign_in=SignIn("seedlib", None, "no key at all")))


async def test_questions_are_answered_from_what_is_stored(host: SftpHost) -> None:
    """The password and the one-time code by themselves; the wire shows neither."""
    host.one_time_secret = "JBSWY3DPEHPK3PXP"
    log = ConnectionLog()

    connection = await reach(wanted(host, sign_in=replace(GOOD, one_time_secret="jbsw y3dp ehpk 3pxp"), log=log))
    await connection.close()

    text = "\n".join(line.text for line in log.lines())
    assert host.sign_ins == 1
    assert "Verification code" in text
    assert "sow-and-reap" not in text


async def test_an_unknown_question_goes_to_the_person(host: SftpHost) -> None:
    host.question = ("Name of the harbour seal: ", "Umber")
    heard: list[tuple[str, tuple[tuple[str, bool], ...]]] = []

    async def ask(instructions: str, prompts: tuple[tuple[str, bool], ...]) -> list[str]:
        heard.append((instructions, prompts))
        return ["Umber"]

    connection = await reach(wanted(host, ask=ask))
    await connection.close()

    assert heard == [("One more thing.", (("Name of the harbour seal: ", False),))]
    with pytest.raises(AnswerNeeded) as needed:
        await reach(wanted(host))
    assert needed.value.prompts == (("Name of the harbour seal: ", False),)


async def test_old_algorithms_are_named_and_used_only_where_allowed(host: SftpHost, tmp_path: Path) -> None:
    old = SftpHost(tmp_path, "seedlib", "sow-and-reap", algorithms={"encryption_algs": ["aes128-cbc", "3des-cbc"]})
    await old.start()
    try:
        with pytest.raises(WeakServer, match="aes128-cbc") as weak:
            await reach(wanted(old))
        connection = await reach(wanted(old, old_allowed=True))
        await connection.close()
    finally:
        await old.stop()

    assert weak.value.wanted == ("aes128-cbc", "3des-cbc")
    assert old.sign_ins == 1


async def test_a_locked_key_says_that_it_needs_its_passphrase(host: SftpHost) -> None:
    text = asyncssh.generate_private_key("ssh-rsa", key_size=2048).export_private_key("pkcs8-pem", "locked").decode()

    with pytest.raises(LoginRefused, match="needs its passphrase"):
        await reach(wanted(host, sign_in=SignIn("seedlib", None, text)))


async def test_a_key_in_a_file_and_one_of_the_agent_sign_in(host: SftpHost, tmp_path: Path) -> None:
    key = asyncssh.generate_private_key("ssh-ed25519")
    host.password, host.authorized_key = None, key.export_public_key().decode()
    file = write(tmp_path / "keys", "id", key.export_private_key())

    connection = await reach(wanted(host, sign_in=SignIn("seedlib", key_file=str(file))))
    await connection.close()

    assert host.sign_ins == 1
    with pytest.raises(LoginRefused, match="cannot be read on this machine"):
        await reach(wanted(host, sign_in=SignIn("seedlib", key_file=str(tmp_path / "none"))))


async def test_only_a_regular_file_is_taken_for_a_key_and_never_waited_for(host: SftpHost, tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "endless").write_bytes(b"-" * 1_000_000)

    for file in (tmp_path / "pipe", Path("/dev/zero"), Path("/dev/tty"), tmp_path):
        with pytest.raises(LoginRefused, match=r"not a key file|cannot be read on this machine"):
            await reach(wanted(host, sign_in=SignIn("seedlib", key_file=str(file))))
    with pytest.raises(LoginRefused, match="private key cannot be read"):
        await reach(wanted(host, sign_in=SignIn("seedlib", key_file=str(tmp_path / "endless"))))


async def test_secrets_are_in_no_printed_form() -> None:
    assert "sow-and-reap" not in repr(GOOD)


async def test_nobody_answers() -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        where = Endpoint("gone.example", 22, "127.0.0.1", taken.getsockname()[1])
        with pytest.raises(HostUnreachable, match="refuses") as refused:
            await reach(Wanted(Protocol.SFTP, where, GOOD))
    with pytest.raises(HostUnreachable, match="was not found") as unknown:
        await reach(Wanted(Protocol.SFTP, Endpoint("gone.example", 22, "no-such-name.invalid", 22), GOOD))

    assert (refused.value.why, unknown.value.why) == (Unreached.REFUSED, Unreached.NO_NAME)


@pytest.mark.parametrize("greeting", [b"HTTP/1.1 400 Bad Request\r\n\r\n", b"220 ftp ready\r\n", b"\x15\x03\x03"])
async def test_another_protocol_answers(greeting: bytes) -> None:
    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(greeting * 30)
        writer.close()

    server = await asyncio.start_server(answer, "127.0.0.1", 0)
    port = server.sockets[0].getsockname()[1]
    try:
        with pytest.raises((ProtocolViolation, HostUnreachable, ConnectionDropped)):
            await connect(Wanted(Protocol.SFTP, Endpoint("web.example", 22, "127.0.0.1", port), GOOD), timeout_s=3)
    finally:
        server.close()
        await server.wait_closed()


async def test_a_silent_server_is_given_up() -> None:
    async def say_nothing(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.read()
        writer.close()

    server = await asyncio.start_server(say_nothing, "127.0.0.1", 0)
    port = server.sockets[0].getsockname()[1]
    try:
        with pytest.raises(TransferError):
            await connect(Wanted(Protocol.SFTP, Endpoint("slow.example", 22, "127.0.0.1", port), GOOD), timeout_s=0.3)
    finally:
        server.close()
        await server.wait_closed()


async def test_a_full_disk_is_read_from_a_plain_failure(tmp_path: Path) -> None:
    async with an_sftp_side(tmp_path) as (side, host):
        host.fault = Full(room_bytes=10_000)

        with pytest.raises(NoSpaceLeft):
            await side.write(path("/big"), once(b"x" * 50_000))


async def test_a_cut_line_is_said_in_the_middle_of_a_file(tmp_path: Path) -> None:
    write(tmp_path, "big", b"x" * 900_000)
    async with an_sftp_side(tmp_path) as (side, host):
        host.fault = CutAfter(400_000)

        async with aclosing(side.read(path("/big"))) as chunks:
            with pytest.raises(ConnectionDropped):
                [chunk async for chunk in chunks]


async def test_the_room_there_is_told(tmp_path: Path) -> None:
    async with an_sftp_side(tmp_path) as (side, _):
        room = await side.room(path("/"))

    assert room is not None
    assert 0 < room.free_bytes <= room.total_bytes


async def test_requests_of_many_files_are_in_flight_together(tmp_path: Path) -> None:
    """While the server answers nothing, requests of forty files are on their way: none waits for another."""
    async with an_sftp_side(tmp_path) as (side, host):
        answered = asyncio.Event()
        host.fault.before_request = answered.wait  # type: ignore[method-assign, assignment]

        writes = asyncio.gather(*(side.write(path(f"/f{n}"), once(b"x")) for n in range(40)))
        outstanding = side.client._handler._requests
        for _ in range(200):
            if len(outstanding) >= 40:
                break
            await asyncio.sleep(0.01)
        on_their_way = len(outstanding)
        answered.set()
        await writes

    assert on_their_way == 40
    assert len(tree(tmp_path)) == 40


def pool_of(host: SftpHost, dials: list[int]) -> Pool:
    async def dial(site_id: int) -> Connection:
        dials.append(site_id)
        return await reach(wanted(host))

    return Pool(dial, idle_s=0.05)


async def test_a_pool_dials_once_for_many(host: SftpHost) -> None:
    dials: list[int] = []
    pool = pool_of(host, dials)

    async def look() -> None:
        async with pool.side(7) as side:
            await side.list(path("/"))

    await asyncio.gather(*(look() for _ in range(20)))
    async with pool.side(7, Lane.TRANSFER) as side:
        await side.list(path("/"))

    assert dials == [7]
    assert pool.open_lines == 1
    await pool.close()


async def test_a_pool_dials_anew_after_a_cut(host: SftpHost) -> None:
    dials: list[int] = []
    pool = pool_of(host, dials)
    async with pool.side(7) as side:
        await side.list(path("/"))
    host.cut()

    with pytest.raises(ConnectionDropped):
        async with pool.side(7) as side:
            await side.list(path("/"))
    async with pool.side(7) as side:
        await side.list(path("/"))

    assert dials == [7, 7]
    await pool.close()


async def test_an_idle_connection_is_closed(host: SftpHost) -> None:
    pool = pool_of(host, [])
    async with pool.side(7):
        pass

    for _ in range(100):
        if not pool.open_lines:
            break
        await asyncio.sleep(0.02)

    assert pool.open_lines == 0
    await pool.close()


def test_a_published_fingerprint_is_compared_exactly() -> None:
    key = Identity("ssh-ed25519", "SHA256:AbCd1234", "ssh-ed25519 AAAA")

    assert same_fingerprint(" AbCd 1234 ", key.fingerprint)
    assert not same_fingerprint("abcd1234", key.fingerprint)
    assert not same_fingerprint("", key.fingerprint)
    assert key.spaced == "SHA256: AbCd 1234"


async def test_closing_frees_whoever_waits_even_where_the_library_does_not(host: SftpHost) -> None:
    connection = await connect(replace(wanted(host), pinned=(shown_key(host),)))
    side = await connection.channel(Lane.TRANSFER)
    host.fault = Stuck(0, silent=True)
    waiting = asyncio.create_task(side.stat(path("/htdocs")))
    await asyncio.sleep(0.1)
    library = connection._connection
    end = library.abort
    library.abort = library.close = lambda: None  # type: ignore[method-assign]

    await connection.close()

    with pytest.raises(ConnectionDropped):
        async with asyncio.timeout(2):
            await waiting
    end()
    await library.wait_closed()


async def test_what_is_asked_in_the_moment_of_a_cut_is_a_cut_line(host: SftpHost) -> None:
    connection = await connect(replace(wanted(host), pinned=(shown_key(host),)))
    side = await connection.channel(Lane.TRANSFER)
    assert connection._connection._transport is not None
    connection._connection._transport.abort()

    with pytest.raises(ConnectionDropped):
        async with asyncio.timeout(2):
            await side.stat(path("/htdocs"))
    await connection.close()


async def test_what_we_lean_on_in_the_library_is_there(host: SftpHost) -> None:
    """`sides.inner` uses names the library does not promise; this fails when a new version moves them."""
    connection = await connect(replace(wanted(host), pinned=(shown_key(host),)))
    client = await connection._connection.start_sftp_client()
    handler = client._handler
    for name in (
        "_writer",
        "_logger",
        "_requests",
        "_supports_posix_rename",
        "opendir",
        "_next_pktid",
        "_send_request",
        "_packet_handlers",
        "close",
        "_make_request",
        "_return_types",
    ):
        assert hasattr(handler, name), name
    assert handler._logger is handler.logger
    assert {"_send", "_transport"} <= set(dir(connection._connection))
    client.exit()
    await connection.close()
