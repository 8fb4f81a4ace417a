"""From the errors of the operating system and of the SSH library to our own, by table.

`tests/sides/test_translate.py` walks the library's exceptions and proves that each has its place here.
"""

from __future__ import annotations

import errno

import asyncssh

from nailer import errors
from nailer.errors import TransferError

_BY_ERRNO: dict[int, tuple[type[TransferError], str]] = {
    errno.ENOENT: (errors.FileMissing, "{path} does not exist."),
    errno.EACCES: (errors.PermissionRefused, "Permission refused for {path}."),
    errno.EPERM: (errors.PermissionRefused, "Permission refused for {path}."),
    errno.EROFS: (errors.PermissionRefused, "{path} is on a read-only file system."),
    errno.EEXIST: (errors.AlreadyThere, "{path} exists already."),
    errno.ENOTEMPTY: (errors.FolderNotEmpty, "The folder {path} is not empty."),
    errno.ENOTDIR: (errors.WrongKind, "A part of the path {path} is not a folder."),
    errno.EISDIR: (errors.WrongKind, "{path} is a folder, not a file."),
    errno.ELOOP: (errors.OutsideRoot, "{path} is a symbolic link, or its links form a loop."),
    errno.ENOSPC: (errors.NoSpaceLeft, "Not enough disk space for {path}."),
    errno.EDQUOT: (errors.NoSpaceLeft, "The disk quota does not allow {path}."),
    errno.EFBIG: (errors.NoSpaceLeft, "{path} is larger than this file system can hold."),
    errno.ENAMETOOLONG: (errors.NotSupported, "The name of {path} is too long for this file system."),
    errno.EILSEQ: (errors.NotSupported, "This file system cannot hold the name of {path}."),
    errno.EXDEV: (errors.NotSupported, "{path} cannot be moved to another file system in one step."),
    errno.EBUSY: (errors.PermissionRefused, "{path} is in use."),
    errno.ETXTBSY: (errors.PermissionRefused, "{path} is a program that is running."),
}

_LOST_LINE = (ConnectionResetError, ConnectionAbortedError, BrokenPipeError, TimeoutError)

# Reading the library's classes: what each means for the person. The first match wins, so the narrow come first.
_BY_SSH_CLASS: tuple[tuple[type[Exception], type[TransferError], str], ...] = (
    (asyncssh.SFTPNoSuchFile, errors.FileMissing, "{path} does not exist."),
    (asyncssh.SFTPNoSuchPath, errors.FileMissing, "{path} does not exist."),
    (asyncssh.SFTPPermissionDenied, errors.PermissionRefused, "The server refuses permission for {path}."),
    (asyncssh.SFTPWriteProtect, errors.PermissionRefused, "{path} is write-protected."),
    (asyncssh.SFTPCannotDelete, errors.PermissionRefused, "The server does not let {path} be removed."),
    (asyncssh.SFTPDeletePending, errors.PermissionRefused, "{path} is being removed by another user or program."),
    (asyncssh.SFTPLockConflict, errors.PermissionRefused, "{path} is locked by someone else."),
    (asyncssh.SFTPByteRangeLockConflict, errors.PermissionRefused, "A part of {path} is locked by someone else."),
    (asyncssh.SFTPByteRangeLockRefused, errors.PermissionRefused, "The server refuses to lock {path}."),
    (asyncssh.SFTPNoMatchingByteRangeLock, errors.ServerFailed, "The server reports that {path} is not locked."),
    (
        asyncssh.SFTPUnknownPrincipal,
        errors.PermissionRefused,
        "The requested owner of {path} does not exist on the server.",
    ),
    (asyncssh.SFTPOwnerInvalid, errors.PermissionRefused, "The server does not take the owner wanted for {path}."),
    (asyncssh.SFTPGroupInvalid, errors.PermissionRefused, "The server does not accept the requested group for {path}."),
    (asyncssh.SFTPFileAlreadyExists, errors.AlreadyThere, "{path} exists already."),
    (asyncssh.SFTPDirNotEmpty, errors.FolderNotEmpty, "The folder {path} is not empty."),
    (asyncssh.SFTPNotADirectory, errors.WrongKind, "A part of the path {path} is not a folder."),
    (asyncssh.SFTPFileIsADirectory, errors.WrongKind, "{path} is a folder, not a file."),
    (asyncssh.SFTPLinkLoop, errors.OutsideRoot, "Links lead round in a circle at {path}."),
    (asyncssh.SFTPNoSpaceOnFilesystem, errors.NoSpaceLeft, "The server has no space for {path}."),
    (asyncssh.SFTPQuotaExceeded, errors.NoSpaceLeft, "The quota on the server has no space for {path}."),
    (asyncssh.SFTPNoMedia, errors.ServerFailed, "The server's disk for {path} is not available."),
    (asyncssh.SFTPFileCorrupt, errors.ServerFailed, "The server says that {path} is damaged."),
    (asyncssh.SFTPOpUnsupported, errors.NotSupported, "Not supported by the server with {path}."),
    (asyncssh.SFTPInvalidFilename, errors.NotSupported, "The server does not accept the name of {path}."),
    (asyncssh.SFTPInvalidParameter, errors.NotSupported, "The server rejected the request for {path}."),
    (asyncssh.SFTPNoConnection, errors.ConnectionDropped, "The connection was cut at {path}."),
    (asyncssh.SFTPConnectionLost, errors.ConnectionDropped, "The connection was cut at {path}."),
    (asyncssh.SFTPInvalidHandle, errors.ConnectionDropped, "The server lost track of the open file {path}."),
    (asyncssh.SFTPBadMessage, errors.ProtocolViolation, "The server's answer about {path} cannot be read."),
    (asyncssh.SFTPEOFError, errors.ProtocolViolation, "{path} ended before it was complete."),
    (asyncssh.SFTPFailure, errors.ServerFailed, "The server reported an error for {path} without a reason."),
    (asyncssh.SFTPError, errors.ServerFailed, "The server failed at {path}."),
    (asyncssh.HostKeyNotVerifiable, errors.ProtocolViolation, "The server's host key could not be checked."),
    (asyncssh.IllegalUserName, errors.LoginRefused, "The server does not accept this user name."),
    (asyncssh.PermissionDenied, errors.LoginRefused, "The server refused this user and password or key."),
    (asyncssh.KeyExchangeFailed, errors.WeakServer, "Nailer and the server have no safe algorithm in common."),
    (asyncssh.MACError, errors.ConnectionDropped, "The data was damaged on the way, so the connection was closed."),
    (
        asyncssh.CompressionError,
        errors.ConnectionDropped,
        "The data was damaged on the way, so the connection was closed.",
    ),
    (asyncssh.ConnectionLost, errors.ConnectionDropped, "The connection was cut."),
    (asyncssh.ServiceNotAvailable, errors.NotSupported, "The server does not offer this service."),
    (asyncssh.ProtocolNotSupported, errors.ProtocolViolation, "The server does not use this protocol."),
    (asyncssh.ProtocolError, errors.ProtocolViolation, "What answers there does not speak this protocol properly."),
    (asyncssh.ChannelOpenError, errors.NotSupported, "The server does not allow file transfers for this account."),
    (asyncssh.PasswordChangeRequired, errors.LoginRefused, "The server wants the password to be changed first."),
    (asyncssh.DisconnectError, errors.ConnectionDropped, "The server closed the connection."),
    (asyncssh.KeyImportError, errors.LoginRefused, "The private key cannot be read."),
    (asyncssh.KeyEncryptionError, errors.LoginRefused, "The passphrase does not open the private key."),
    (asyncssh.Error, errors.ServerFailed, "The server failed."),
)


def from_os(error: OSError, shown_path: str) -> TransferError:
    """Our error for one of the operating system's, about a path on this machine."""
    if isinstance(error, _LOST_LINE):
        return errors.ConnectionDropped("The connection was cut.", server_words=error.strerror)
    kind, sentence = _BY_ERRNO.get(error.errno or 0, (errors.ServerFailed, "{path} could not be used."))
    return kind(sentence, path=shown_path, server_words=error.strerror or str(error) or None)


def from_ssh(error: Exception, shown_path: str = "") -> TransferError:
    """Our error for one of the SSH library's, with the server's own words. Raises LookupError for a stranger."""
    if isinstance(error, asyncssh.DisconnectError) and error.code == asyncssh.DISC_TOO_MANY_CONNECTIONS:
        return errors.TooManyConnections("The server has too many connections.", server_words=error.reason)
    if isinstance(error, asyncssh.KeyExchangeFailed):
        return _weak(str(error.reason or error))
    for foreign, ours, sentence in _BY_SSH_CLASS:
        if isinstance(error, foreign):
            words = None if isinstance(error, _LIBRARY_SAYS) else (getattr(error, "reason", None) or str(error)).strip()
            return ours(sentence, path=shown_path or "the server", server_words=words or None)
    raise LookupError(f"no place in the table for {type(error).__name__}") from error


# What these say is the library's sentence, not the server's.
_LIBRARY_SAYS = (
    asyncssh.PermissionDenied,
    asyncssh.ConnectionLost,
    asyncssh.HostKeyNotVerifiable,
    asyncssh.SFTPConnectionLost,
    asyncssh.SFTPNoConnection,
    asyncssh.SFTPBadMessage,
)

_MISSING = ("no such", "not found", "doesn't exist", "does not exist", "cannot find", "can't find", "nonexistent")
_DENIED = ("permission", "denied", "not permitted", "forbidden", "read-only", "not allowed", "privilege")
_FULL = ("no space", "quota", "disk full", "not enough space", "storage", "allocation")
_PLAIN_REFUSED = "The server requires encryption before signing in."
_ENCRYPT = (
    "encrypt",
    "must use tls",
    "tls required",
    "requires tls",
    "use ssl",
    "ssl required",
    "auth tls",
    "secure conn",
)
_BUSY = ("too many", "maximum", "limit", "try again later", "busy", "already connected")

# RFC 959, 4.2: what a code means; where servers use one code for many things, their words decide first.
_BY_WORDS: tuple[tuple[tuple[str, ...], type[TransferError], str], ...] = (
    (_MISSING, errors.FileMissing, "{path} does not exist."),
    (("not empty",), errors.FolderNotEmpty, "The folder {path} is not empty."),
    (("exists", "already there"), errors.AlreadyThere, "{path} exists already."),
    (
        ("is a directory", "not a directory", "not a plain file", "not a regular"),
        errors.WrongKind,
        "{path} is a different kind of file.",
    ),
    (_FULL, errors.NoSpaceLeft, "The server has no space for {path}."),
    (_DENIED, errors.PermissionRefused, "The server refuses permission for {path}."),
)
_BY_CODE: dict[int, tuple[type[TransferError], str]] = {
    425: (errors.ConnectionDropped, "The server could not open the channel for {path}."),
    426: (errors.ConnectionDropped, "The channel for {path} was cut."),
    430: (errors.LoginRefused, "The server rejected this user name and password."),
    450: (errors.ServerFailed, "{path} is in use on the server."),
    451: (errors.ServerFailed, "The server failed at {path}."),
    452: (errors.NoSpaceLeft, "The server has no space for {path}."),
    500: (errors.NotSupported, "The server does not know that command."),
    501: (errors.NotSupported, "The server rejected the request for {path}."),
    502: (errors.NotSupported, "Not supported by the server."),
    503: (errors.ProtocolViolation, "The server expected another command first."),
    504: (errors.NotSupported, "Not supported by the server in this way."),
    522: (errors.EncryptionMissing, "The server wants data channels encrypted in another way."),
    530: (errors.LoginRefused, "The server rejected this user name and password."),
    532: (errors.LoginRefused, "The server also asks for an account name."),
    534: (errors.EncryptionMissing, "The server refuses to encrypt."),
    550: (errors.ServerFailed, "The server refuses {path} and gives no reason."),
    551: (errors.ServerFailed, "The server refuses {path}."),
    552: (errors.NoSpaceLeft, "The quota on the server has no space for {path}."),
    553: (
        errors.PermissionRefused,
        "The server does not allow {path} to be created: no permission in this folder, or the name is not allowed.",
    ),
}


def demands_encryption(words: str) -> bool:
    """True where a refused sign-in is not about user or password: the line must be encrypted first.

    >>> demands_encryption("Non-anonymous sessions must use encryption.")
    True
    """
    lower = words.lower()
    return any(word in lower for word in _ENCRYPT)


def from_reply(code: int, words: str, shown_path: str) -> TransferError:
    """Our error for a reply of FTP that is no good one, with the server's own words."""
    lower = words.lower()
    said = f"{code} {words}".strip()
    if code in (421, 530) and any(word in lower for word in _BUSY):
        return errors.TooManyConnections("The server has too many connections.", server_words=said)
    if code == 530 and demands_encryption(words):
        return errors.EncryptionDemanded(_PLAIN_REFUSED, server_words=said)
    if code == 421:
        return errors.ConnectionDropped("The server closes the connection.", server_words=said)
    if code in (450, 451, 550, 551, 553):
        for known, kind, sentence in _BY_WORDS:
            if any(word in lower for word in known):
                return kind(sentence, path=shown_path, server_words=said, reply_code=code)
    if code not in _BY_CODE and 100 <= code < 400:
        return errors.ProtocolViolation("The server's answer came at the wrong time.", server_words=said)
    kind, sentence = _BY_CODE.get(code, (errors.ServerFailed, "The server failed at {path}."))
    return kind(sentence, path=shown_path, server_words=said, reply_code=code)


def _weak(words: str) -> TransferError:
    """The library says `No matching ... found, sent <ours> and received <theirs>`: theirs is what the server wants."""
    theirs = tuple(one for one in words.rpartition("received ")[2].replace(",", " ").split() if one)
    kind = words.partition("No matching ")[2].partition(" algorithm")[0] or "encryption"
    wanted = ", ".join(theirs[:4]) if "received" in words else "algorithms"
    sentence = f"The server supports only outdated {kind}: {wanted}."
    return errors.WeakServer(sentence, server_words=words, wanted=theirs)


def has_place(foreign: type[Exception]) -> bool:
    """True where the table names this class itself, not merely an ancestor; for the test of completeness."""
    return any(foreign is known for known, _, _ in _BY_SSH_CLASS)
