"""The one error tree, by what the reader can do about it.

    NailerError
    ├── InvalidInput            what was given cannot be used
    ├── Unreadable              a text that somebody else wrote cannot be read within its bounds
    ├── NotFound                the thing asked for is not here any more
    ├── NotAllowed              this person may not do that
    │   ├── RightTaken          they might when the job began, and no longer may
    │   └── ConfirmFirst        they may, once they have proved again who they are
    ├── SignedOut               nobody is signed in, or not any more
    ├── Locked                  a guarded folder that was not opened
    ├── Conflict                it changed meanwhile, or somebody else holds it
    │   └── UnderWay            one of its kind is under way on this site already
    ├── LeaseLost               another process does this now
    ├── SetupFailed             the machine lacks something Nailer needs to start
    ├── StoreUnavailable        the database does not answer               (retryable)
    │   └── OwnDiskFull         the machine Nailer runs on has no room left
    ├── Busy                    Nailer is asked for more than it does at once     (retryable)
    ├── RequestRefused          what came over HTTP is not looked at any further
    │   ├── TooLarge            more bytes than anything of its kind may have
    │   ├── CameTooLate         the rest did not come in time
    │   ├── WrongHost           it was sent to a name that is not Nailer's
    │   └── NoSuchMethod        the page does not do that
    ├── Unforeseen              a defect of Nailer's own
    ├── SendingStopped          the browser went away in the middle of a file
    └── TransferError           anything between two sides
        ├── HostUnreachable     no name, no route, nobody answers            (retryable)
        ├── ConnectionDropped   the line was cut, or went silent             (retryable)
        ├── TooManyConnections  the server asks to come back later           (retryable)
        ├── LoginRefused        the server does not accept this sign-in
        │   └── KeyUnusable     the private key cannot be read or opened
        ├── IdentityUnknown     first meeting: the person decides
        ├── IdentityChanged     the server shows another identity than before
        ├── EncryptionMissing   the server offers none, and a secret is not sent without
        ├── EncryptionDemanded  the server lets nobody in without encryption
        ├── WeakServer          only algorithms that are not safe any more
        ├── AnswerNeeded        the server asks the person something
        ├── PermissionRefused   the server or the file system says no
        ├── OutsideRoot         the path leads out of the allowed folders
        ├── FileMissing         the name is not there
        ├── NotKnown            nobody can tell whether the name is there
        ├── AlreadyThere        the name is taken
        ├── CannotReplace       a file does not take a taken name by renaming
        ├── RenameRefused       the server renames nothing here
        ├── WrongKind           a folder where a file was expected, or the reverse
        ├── FolderNotEmpty      a folder that still holds names
        ├── NoSpaceLeft         disk or quota is full
        ├── NotVerified         what landed is not what was sent
        │   └── LiveGone            nothing has the live name any more
        ├── NotDone             the server said yes, and everything is as it was
        ├── NotSupported        this side cannot do that
        ├── ServerFailed        the server only says that it failed
        └── ProtocolViolation   the server answered something nobody can read

Every error says what happened, in the server's own words where there are any, and what can be done.
This module imports nothing of Nailer, so that every layer may use it.
"""

from __future__ import annotations

import contextlib
import errno
from collections.abc import Iterable, Iterator
from enum import StrEnum


class NailerError(Exception):
    """Base of all errors that may reach a person.

    `what` is a sentence, made when it is shown: `{path}` in `sentence` stands for `path`, the name that it is about, where
    it is about one. `server_words` is the other end's own text, or None, and `reply_code` the number it began with;
    `advice` are next steps, each a sentence. `retryable` is True where trying the same again later can work.
    """

    retryable = False
    title = "The action failed"
    advice_default: tuple[str, ...] = ()

    def __init__(
        self,
        sentence: str,
        *,
        path: object = None,
        server_words: str | None = None,
        reply_code: int | None = None,
        advice: tuple[str, ...] = (),
    ) -> None:
        super().__init__(sentence)
        self.sentence = sentence
        self.path = None if path is None else str(path)
        self.server_words = server_words
        self.reply_code = reply_code
        self.advice = advice or self.advice_default

    @property
    def what(self) -> str:
        """What happened, as a sentence."""
        return self.sentence if self.path is None else self.sentence.replace("{path}", self.path)

    def __str__(self) -> str:
        return self.what

    def of_name(self, path: object, temporary: Iterable[str]) -> None:
        """Say it of `path` where it is about one of its temporary names: nobody knows the file by another. The server's
        words name it likewise."""
        for name in temporary:
            own = str(path).rpartition("/")[2]
            if self.path is not None and self.path.rpartition("/")[2] == name:
                self.path = str(path)
            if self.server_words:
                self.server_words = self.server_words.replace(name, own)

    @property
    def kind(self) -> str:
        """The name that is stored with a failed item, e.g. `NoSpaceLeft`."""
        return type(self).__name__

    @classmethod
    def is_named(cls, kind: str | None) -> bool:
        """True where a stored name is that of this class.

        >>> NoSpaceLeft.is_named("NoSpaceLeft"), NoSpaceLeft.is_named(None)
        (True, False)
        """
        return kind == cls.__name__


class InvalidInput(NailerError):
    title = "Invalid input"

    def __init__(self, what: str, *, fields: dict[str, str] | None = None) -> None:
        super().__init__(what)
        self.fields = fields or {}


class NotEditable(InvalidInput):
    title = "The editor cannot open this"
    advice_default = ("Preview it, or save it to your computer and open it there.",)


class Unreadable(NailerError):
    """A text that somebody else wrote cannot be read within its bounds of time, depth and memory."""

    title = "This cannot be read"


class NotFound(NailerError):
    title = "No longer exists"


class NotAllowed(NailerError):
    title = "Not allowed"


class RightTaken(NotAllowed):
    """What the person of a job may do was changed while it ran."""

    title = "The permission was taken away"


class ConfirmFirst(NotAllowed):
    """The person of this session has to prove once more who they are."""

    title = "Confirm it is you first"


class SignedOut(NailerError):
    title = "You are signed out"


class Locked(NailerError):
    title = "The folder is guarded"
    advice_default = ("Open the folder in the files view and unlock it.",)


class Conflict(NailerError):
    title = "Changed in the meantime"
    advice_default = ("Read both sides again and look at what changed.",)


class UnderWay(Conflict):
    title = "Already running"
    advice_default = ("Wait until it has finished, or stop it.",)


class SendingStopped(NailerError):
    title = "Upload interrupted"
    advice_default = ("Drop the files again. Files already uploaded are complete.",)


class LeaseLost(NailerError):
    """Whoever did this has been overtaken by another; it ends without a word to the person."""

    title = "Job already running"


class SetupFailed(NailerError):
    title = "Nailer cannot start"


class StoreUnavailable(NailerError):
    retryable = True
    title = "The database does not answer"
    advice_default: tuple[str, ...] = ("Wait a moment and try again; Nailer reconnects automatically.",)


class Busy(NailerError):
    retryable = True
    title = "Nailer is busy"
    advice_default = ("Try again in a moment.",)


class OwnDiskFull(StoreUnavailable):
    title = "The disk of Nailer's own machine is full"
    advice_default = (
        "Free up space on Nailer's machine, then try again.",
        "Kept copies usually use the most space. The Changes page shows how much and lets you limit them.",
    )


DISK_FULL = (errno.ENOSPC, errno.EDQUOT)


@contextlib.contextmanager
def own_disk() -> Iterator[None]:
    """Around whatever writes Nailer's own files: a full disk, or a quota, is raised as OwnDiskFull."""
    try:
        yield
    except OSError as error:
        if error.errno in DISK_FULL:
            raise OwnDiskFull("The disk of Nailer's machine is full.") from error
        raise


class Unforeseen(NailerError):
    title = "Error in Nailer"


class RequestRefused(NailerError):
    title = "Request rejected"


class TooLarge(RequestRefused):
    title = "The request is too large"


class CameTooLate(RequestRefused):
    title = "The upload is incomplete"
    advice_default = ("Send it again.",)


class WrongHost(RequestRefused):
    title = "Wrong host name"
    advice_default = ("Add the name to the setting `hosts` if it is Nailer's (docs/settings.md).",)


class NoSuchMethod(RequestRefused):
    title = "Not possible on this page"


class TransferError(NailerError):
    title = "Transfer failed"


class Unreached(StrEnum):
    """What was in the way to a server."""

    NO_NAME = "no-name"
    REFUSED = "refused"
    SILENT = "silent"
    NO_ROUTE = "no-route"
    PROXY = "proxy"


class HostUnreachable(TransferError):
    retryable = True
    title = "The server does not answer"
    advice_default = ("Check the server's name and port.", "Check that this machine is on the network, then try again.")

    def __init__(self, what: str, *, server_words: str | None = None, why: Unreached = Unreached.SILENT) -> None:
        super().__init__(what, server_words=server_words)
        self.why = why


class ConnectionDropped(TransferError):
    retryable = True
    title = "Connection lost"
    advice_default = ("Try again. Transferred files are complete and are not sent again.",)


class TooManyConnections(TransferError):
    retryable = True
    title = "The server is busy"
    advice_default = ("Wait a little and try again, or allow fewer connections for this site.",)


class LoginRefused(TransferError):
    title = "Sign-in rejected by the server"
    advice_default: tuple[str, ...] = (
        "Check user name and password. A common cause is a space copied along with the password.",
        "Nailer does not try again automatically, so that the account is not locked.",
    )


class KeyUnusable(LoginRefused):
    title = "The private key cannot be used"
    advice_default = ("Paste the whole file, from the line that says BEGIN to the line that says END.",)


class _IdentityError(TransferError):
    """Shared by first meeting and changed identity: what the server showed. `public_key` is a line as OpenSSH writes
    it, or a certificate in PEM; `doubts` are sentences that say why a certificate is not trusted by itself."""

    is_change = False

    def __init__(
        self,
        what: str,
        *,
        host: str,
        port: int,
        algorithm: str,
        fingerprint: str,
        public_key: str,
        doubts: tuple[str, ...] = (),
    ) -> None:
        super().__init__(what)
        self.host = host
        self.port = port
        self.algorithm = algorithm
        self.fingerprint = fingerprint
        self.public_key = public_key
        self.doubts = doubts


class IdentityUnknown(_IdentityError):
    title = "First connection to this server"
    advice_default = ("Compare the fingerprint with the one your hosting provider has published, then decide.",)


class IdentityChanged(_IdentityError):
    is_change = True
    title = "The server's identity has changed"
    advice_default = ("Ask your hosting provider whether they changed it before you trust the new one.",)


class EncryptionMissing(TransferError):
    title = "The server offers no encryption"
    advice_default = (
        "Ask your hosting provider for SFTP or for FTP over TLS.",
        (
            "If neither is available, you can choose plain FTP for this site. Anyone on the network path can then "
            "read your password and files."
        ),
    )


class EncryptionDemanded(TransferError):
    title = "The server requires encryption"
    advice_default = ("Choose FTP over TLS for this site, in its settings. The password was not the problem.",)


class WeakServer(TransferError):
    """`wanted` are the algorithms the server insists on, as far as it says."""

    title = "Only outdated encryption available"
    advice_default = (
        "Ask your hosting provider to update the server.",
        "Until then, you can allow outdated encryption for this site in its settings.",
    )

    def __init__(self, what: str, *, server_words: str | None = None, wanted: tuple[str, ...] = ()) -> None:
        super().__init__(what, server_words=server_words)
        self.wanted = wanted


class AnswerNeeded(TransferError):
    """The server asks something only the person knows. `prompts` are its questions, each with whether the answer may
    be seen while it is typed; `name` and `instructions` are what it said with them."""

    title = "The server asks a question"
    advice_default = ("Answer in the page; the answer goes to the server and is not kept.",)

    def __init__(self, what: str, *, prompts: tuple[tuple[str, bool], ...], instructions: str = "") -> None:
        super().__init__(what)
        self.prompts = prompts
        self.instructions = instructions


class PermissionRefused(TransferError):
    title = "Permission refused"
    advice_default = ("Check the permissions and the owner of the file and of its folder.",)


class OutsideRoot(TransferError):
    title = "Outside the allowed folders"
    advice_default = ("Choose a folder under one of the roots that Nailer may use on this machine.",)


class FileMissing(TransferError):
    title = "File or folder not found"
    advice_default = ("Reload the folder. Someone may have moved or removed it.",)


class NotKnown(TransferError):
    """Never to be taken for FileMissing: nothing is removed, made or replaced on the strength of it."""

    title = "Cannot check whether it exists"
    advice_default = ("Ask your hosting provider why the server does not list this folder.",)


class CannotReplace(TransferError):
    """Renaming over a name that is taken was refused, and nothing was changed."""

    title = "The server cannot replace a file by renaming"
    advice_default = ("Rename or remove the existing file first.",)


class RenameRefused(TransferError):
    title = "The server refuses to rename files"
    advice_default = (
        "Let Nailer overwrite files in place on this site: in the plan, or in the site's settings. The old content is kept.",
        "Or ask your hosting provider to allow renaming. Then visitors never get an incomplete file.",
    )


class AlreadyThere(TransferError):
    title = "The name already exists"
    advice_default = ("Choose another name.",)


class WrongKind(TransferError):
    title = "File instead of folder, or folder instead of file"
    advice_default = ("Rename one of the two first.",)


class FolderNotEmpty(TransferError):
    title = "The folder is not empty"
    advice_default = ("Read the folder again: something was added in the meantime.",)


class NoSpaceLeft(TransferError):
    title = "No space left"
    advice_default = ("Free up space, then retry the failed files.",)


class NotVerified(TransferError):
    title = "Upload verification failed"
    advice_default = ("Nothing was replaced. Try again.",)


class LiveGone(NotVerified):
    title = "Visitors get nothing there now"
    advice_default = ("Put the kept copy back: the job offers it.",)


class NotDone(TransferError):
    title = "The server said yes and did nothing"
    advice_default = (
        "Nothing was changed. Ask your hosting provider why the server confirms the command and does nothing.",
    )


class NotSupported(TransferError):
    title = "Not supported by the server"


class ServerFailed(TransferError):
    title = "Server error"
    advice_default = ("Try again. If it fails again, ask your hosting provider what the server log says.",)


class ProtocolViolation(TransferError):
    title = "Unreadable answer from the server"
    advice_default = ("Check the protocol and the port.",)


def every_error() -> Iterator[type[NailerError]]:
    """Every public class of the tree, for the page of patterns and for tests."""
    waiting: list[type[NailerError]] = [NailerError]
    while waiting:
        one = waiting.pop()
        waiting.extend(one.__subclasses__())
        if not one.__name__.startswith("_"):
            yield one
