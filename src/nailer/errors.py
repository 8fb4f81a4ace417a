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
    ├── LeaseLost               another run carries this job now
    ├── SetupFailed             the machine lacks something Nailer needs to start
    ├── StoreUnavailable        the database does not answer               (heals)
    │   └── OwnDiskFull         the machine Nailer runs on has no room left
    ├── Busy                    Nailer is asked for more than it does at once     (heals)
    ├── RequestRefused          what came over HTTP is not looked at any further
    │   ├── TooLarge            more bytes than anything of its kind may have
    │   ├── CameTooLate         the rest did not come in time
    │   ├── WrongHost           it was sent to a name that is not Nailer's
    │   └── NoSuchMethod        the page does not do that
    ├── Unforeseen              a defect of Nailer's own
    ├── SendingStopped          the browser went away in the middle of a file
    └── TransferError           anything between two sides
        ├── HostUnreachable     no name, no route, nobody answers            (heals)
        ├── ConnectionDropped   the line was cut, or went silent             (heals)
        ├── TooManyConnections  the server asks to come back later           (heals)
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
    `advice` are next steps, each a sentence. `heals` is True where trying the same again later can work.
    """

    heals = False
    title = "That did not work"
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
    title = "That cannot be used"

    def __init__(self, what: str, *, fields: dict[str, str] | None = None) -> None:
        super().__init__(what)
        self.fields = fields or {}


class NotEditable(InvalidInput):
    title = "The editor cannot open this"
    advice_default = ("Look at it as it is, or save it to your computer and open it there.",)


class Unreadable(NailerError):
    """A text that somebody else wrote cannot be read within its bounds of time, depth and memory."""

    title = "This cannot be read"


class NotFound(NailerError):
    title = "Not here any more"


class NotAllowed(NailerError):
    title = "Not allowed"


class RightTaken(NotAllowed):
    """What the person of a job may do was changed while it ran."""

    title = "The permission was taken away"


class ConfirmFirst(NotAllowed):
    """The person of this session has to prove once more who they are."""

    title = "Confirm it is you first"


class SignedOut(NailerError):
    title = "Signed out"


class Locked(NailerError):
    title = "A guarded folder"
    advice_default = ("Open it for a while, where its folder is shown.",)


class Conflict(NailerError):
    title = "It changed meanwhile"
    advice_default = ("Read both sides again and look at what changed.",)


class UnderWay(Conflict):
    title = "It is under way already"
    advice_default = ("Wait until it has ended, or stop it.",)


class SendingStopped(NailerError):
    title = "The page stopped sending"
    advice_default = ("Drop the files again; what has landed is whole.",)


class LeaseLost(NailerError):
    """This run of a job has been overtaken by another; it ends without a word to the person."""

    title = "Another run carries this job"


class SetupFailed(NailerError):
    title = "Nailer cannot start"


class StoreUnavailable(NailerError):
    heals = True
    title = "The database does not answer"
    advice_default: tuple[str, ...] = ("Wait a moment and try again; Nailer reconnects by itself.",)


class Busy(NailerError):
    heals = True
    title = "Nailer is busy"
    advice_default = ("Try again in a moment.",)


class OwnDiskFull(StoreUnavailable):
    title = "The disk of Nailer's own machine is full"
    advice_default = (
        "Make room on the machine that Nailer runs on, then try again.",
        "Kept copies take the most: the changes page says how much, and lets old ones go.",
    )


DISK_FULL = (errno.ENOSPC, errno.EDQUOT)


@contextlib.contextmanager
def own_disk() -> Iterator[None]:
    """Around whatever writes Nailer's own files: a full disk, or a quota, is raised as OwnDiskFull."""
    try:
        yield
    except OSError as error:
        if error.errno in DISK_FULL:
            raise OwnDiskFull("There is no room left on the machine that Nailer runs on.") from error
        raise


class Unforeseen(NailerError):
    title = "Nailer itself failed"


class RequestRefused(NailerError):
    title = "Nailer did not look at this"


class TooLarge(RequestRefused):
    title = "What was sent is too large"


class CameTooLate(RequestRefused):
    title = "What was sent did not come whole"
    advice_default = ("Send it again.",)


class WrongHost(RequestRefused):
    title = "Nailer does not answer under this name"
    advice_default = ("Add the name to the setting `hosts` if it is Nailer's (docs/settings.md).",)


class NoSuchMethod(RequestRefused):
    title = "This page does not do that"


class TransferError(NailerError):
    title = "The two sides did not come together"


class Unreached(StrEnum):
    """What was in the way to a server."""

    NO_NAME = "no-name"
    REFUSED = "refused"
    SILENT = "silent"
    NO_ROUTE = "no-route"
    PROXY = "proxy"


class HostUnreachable(TransferError):
    heals = True
    title = "The server does not answer"
    advice_default = ("Check the server's name and port.", "Check that this machine is on the network, then try again.")

    def __init__(self, what: str, *, server_words: str | None = None, why: Unreached = Unreached.SILENT) -> None:
        super().__init__(what, server_words=server_words)
        self.why = why


class ConnectionDropped(TransferError):
    heals = True
    title = "The line was cut"
    advice_default = ("Try again: what has landed is whole and is not sent twice.",)


class TooManyConnections(TransferError):
    heals = True
    title = "The server is busy"
    advice_default = ("Wait a little and try again, or allow fewer connections for this site.",)


class LoginRefused(TransferError):
    title = "The server refused the sign-in"
    advice_default: tuple[str, ...] = (
        "Check user and password; a blank copied along is the most common cause.",
        "Nailer does not try again by itself, so that the host does not lock the account.",
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
    title = "You meet this server for the first time"
    advice_default = ("Compare the fingerprint with the one the host published, then decide.",)


class IdentityChanged(_IdentityError):
    is_change = True
    title = "The server shows another identity than before"
    advice_default = ("Ask the host whether it was changed before you trust the new one.",)


class EncryptionMissing(TransferError):
    title = "The server offers no encryption"
    advice_default = (
        "Ask the host for SFTP or for FTP over TLS.",
        "Where there is neither, choose plain FTP for this site yourself: everybody on the way can then read it.",
    )


class EncryptionDemanded(TransferError):
    title = "The server wants encryption"
    advice_default = ("Choose FTP over TLS for this site, in its settings. The password was not the trouble.",)


class WeakServer(TransferError):
    """`wanted` are the algorithms the server insists on, as far as it says."""

    title = "Only encryption that is not safe any more"
    advice_default = (
        "Ask the host to bring the server up to date.",
        "Until then, old algorithms can be allowed for this site alone, in its settings.",
    )

    def __init__(self, what: str, *, server_words: str | None = None, wanted: tuple[str, ...] = ()) -> None:
        super().__init__(what, server_words=server_words)
        self.wanted = wanted


class AnswerNeeded(TransferError):
    """The server asks something only the person knows. `prompts` are its questions, each with whether the answer may
    be seen while it is typed; `name` and `instructions` are what it said with them."""

    title = "The server asks you something"
    advice_default = ("Answer in the page; the answer goes to the server and is not kept.",)

    def __init__(self, what: str, *, prompts: tuple[tuple[str, bool], ...], instructions: str = "") -> None:
        super().__init__(what)
        self.prompts = prompts
        self.instructions = instructions


class PermissionRefused(TransferError):
    title = "Permission refused"
    advice_default = ("Look at the access and the owner of the file and of the folder it lies in.",)


class OutsideRoot(TransferError):
    title = "Outside the allowed folders"
    advice_default = ("Choose a folder under one of the roots that Nailer may use on this machine.",)


class FileMissing(TransferError):
    title = "The name is not there"
    advice_default = ("Read the folder again: somebody may have moved or removed it.",)


class NotKnown(TransferError):
    """Never to be taken for FileMissing: nothing is removed, made or replaced on the strength of it."""

    title = "Nobody can tell whether it is there"
    advice_default = ("Ask the host why its server does not list this folder.",)


class CannotReplace(TransferError):
    """Renaming over a name that is taken was refused, and nothing was changed."""

    title = "The server does not rename over a taken name"
    advice_default = ("Rename or remove what has the name first.",)


class RenameRefused(TransferError):
    title = "The server does not rename here"
    advice_default = (
        "Let Nailer overwrite files in place on this site: in the plan, or in the site's settings. The old content is kept.",
        "Or ask the host to allow renaming: with it no visitor can ever get half a file.",
    )


class AlreadyThere(TransferError):
    title = "The name is taken"
    advice_default = ("Choose another name.",)


class WrongKind(TransferError):
    title = "A file where a folder was expected, or the reverse"
    advice_default = ("Rename one of the two first.",)


class FolderNotEmpty(TransferError):
    title = "The folder is not empty"
    advice_default = ("Read the folder again: something was added meanwhile.",)


class NoSpaceLeft(TransferError):
    title = "No room left"
    advice_default = ("Make room, then try the failed files again.",)


class NotVerified(TransferError):
    title = "What landed is not what was sent"
    advice_default = ("Nothing was replaced. Try again.",)


class LiveGone(NotVerified):
    title = "Visitors get nothing there now"
    advice_default = ("Put the kept copy back: the job offers it.",)


class NotDone(TransferError):
    title = "The server said yes and did nothing"
    advice_default = ("Everything is as it was. Ask the host why its server says yes and does nothing.",)


class NotSupported(TransferError):
    title = "The server cannot do that"


class ServerFailed(TransferError):
    title = "The server says it failed"
    advice_default = ("Try again; where it fails the same way, ask the host what its log says.",)


class ProtocolViolation(TransferError):
    title = "The server's answer cannot be read"
    advice_default = ("Check the protocol and the port.",)


def every_error() -> Iterator[type[NailerError]]:
    """Every public class of the tree, for the page of patterns and for tests."""
    waiting: list[type[NailerError]] = [NailerError]
    while waiting:
        one = waiting.pop()
        waiting.extend(one.__subclasses__())
        if not one.__name__.startswith("_"):
            yield one
