"""Every foreign error has its place in the table."""

from __future__ import annotations

import errno
import inspect

import asyncssh
import pytest

from nailer.errors import ConnectionDropped, NailerError, NoSpaceLeft, ServerFailed, TransferError, every_error
from nailer.sides.translate import from_os, from_ssh, has_place

# Errors of channels and processes that Nailer never opens; asyncssh raises them to servers and shells only.
NOT_MET = {
    "BreakReceived",
    "SignalReceived",
    "SoftEOFReceived",
    "TerminalSizeChanged",
    "ChannelListenError",
    "ProcessError",
    "TimeoutError",
    "ConfigParseError",
    "KeyGenerationError",
    "KeyExportError",
}

FOREIGN = [
    one
    for _, one in inspect.getmembers(asyncssh, inspect.isclass)
    if issubclass(one, Exception) and one.__name__ not in NOT_MET
]


@pytest.mark.parametrize("foreign", FOREIGN, ids=lambda one: one.__name__)
def test_every_error_of_the_ssh_library_has_a_place(foreign: type[Exception]) -> None:
    assert has_place(foreign)


def test_the_table_is_not_trivially_full() -> None:
    assert len(FOREIGN) > 40
    assert not has_place(ValueError)
    with pytest.raises(LookupError):
        from_ssh(ValueError("stranger"))


def test_the_servers_own_words_are_kept() -> None:
    error = from_ssh(asyncssh.SFTPPermissionDenied("Access to /logs is reserved"), "/logs")

    assert error.server_words == "Access to /logs is reserved"
    assert "/logs" in error.what


def test_a_busy_server_is_told_from_a_cut_line() -> None:
    busy = asyncssh.DisconnectError(asyncssh.DISC_TOO_MANY_CONNECTIONS, "come back later")
    cut = asyncssh.DisconnectError(asyncssh.DISC_BY_APPLICATION, "bye")

    assert type(from_ssh(busy)).__name__ == "TooManyConnections"
    assert type(from_ssh(cut)) is ConnectionDropped


@pytest.mark.parametrize("code", sorted(errno.errorcode))
def test_every_error_of_the_system_becomes_ours(code: int) -> None:
    error = from_os(OSError(code, "words"), "/studio/a")

    assert isinstance(error, TransferError)
    assert error.what


def test_the_important_system_errors_are_told_apart() -> None:
    assert type(from_os(OSError(errno.ENOSPC, "x"), "/a")) is NoSpaceLeft
    assert type(from_os(ConnectionResetError(errno.ECONNRESET, "x"), "/a")) is ConnectionDropped
    assert type(from_os(OSError(errno.EMFILE, "x"), "/a")) is ServerFailed


def test_every_error_has_a_title_and_says_what_can_be_done() -> None:
    for kind in every_error():
        assert kind.title
        if issubclass(kind, TransferError) and kind.__name__ not in ("TransferError", "NotSupported"):
            assert kind.advice_default, kind.__name__


def test_an_error_that_heals_is_never_one_of_sign_in() -> None:
    healing = {kind.__name__ for kind in every_error() if kind.retryable}

    assert healing == {
        "HostUnreachable",
        "ConnectionDropped",
        "TooManyConnections",
        "StoreUnavailable",
        "OwnDiskFull",
        "Busy",
    }
    assert NailerError("x").kind == "NailerError"
