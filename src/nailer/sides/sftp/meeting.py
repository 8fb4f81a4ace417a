"""Meeting an SSH server: judging its key, and signing in by whatever it accepts (RFC 4252, RFC 4256).

Keys come first, then the password, then the server's questions. A question for the password or for a one-time code is
answered from what is stored; any other is put to the person.
"""

from __future__ import annotations

import asyncio
import base64
import binascii
import os
import re
import stat
import time
from collections.abc import Sequence
from pathlib import Path

import asyncssh
from cryptography.hazmat.primitives.hashes import SHA1
from cryptography.hazmat.primitives.twofactor.totp import TOTP

from nailer.errors import AnswerNeeded, InvalidInput, KeyUnusable, LoginRefused, TransferError
from nailer.sides.connection import SignIn, Stage, Wanted
from nailer.sides.identities.identity import Identity, host_key, judged
from nailer.sides.sftp.pipeline import hear_refusals, write_nothing_after_a_cut
from nailer.unbroken import in_thread

# How long a person may take to answer a question; servers themselves wait about two minutes.
PERSON_S = 110.0

_CODE = re.compile(r"\b(code|token|otp|one[- ]time|verification|authenticator|2fa|factor|passcode)\b", re.IGNORECASE)
_PASSWORD = re.compile(r"passw|kennwort|mot de passe|contrase|wachtwoord|senha|has[lł]o", re.IGNORECASE)

# How each way to sign in is called for a person (RFC 4252, RFC 4256).
_METHODS = {
    "publickey": "a key",
    "password": "the password",
    "keyboard-interactive": "an answer to its questions, such as a one-time code",
}

Key = asyncssh.SSHKey | asyncssh.SSHKeyPair


class Meeting(asyncssh.SSHClient):
    """One attempt. `refusal` is our own error where there is a better one than the library's; `how` says what let us in."""

    def __init__(self, wanted: Wanted, keys: list[Key]) -> None:
        self._wanted = wanted
        self._keys = list(keys)
        self._password = wanted.sign_in.password
        self._code_used = False
        self._ways: list[str] = []
        self._tried = ""
        self._accepted: list[str] = []
        self._left: list[str] = []
        self._password_given = False
        self.met = False
        self._shown: Identity | None = None
        self.refusal: TransferError | None = None
        self.limit: asyncio.Timeout | None = None
        self.step_s = 20.0

    @property
    def silence(self) -> str:
        """What to say where the server went silent."""
        where = self._wanted.where
        if self.met:
            return f"{where.host} said nothing more while signing in."
        return f"{where.host} accepts connections on port {where.port} but sends nothing."

    @property
    def how(self) -> str:
        """By which ways the sign-in went."""
        return " and ".join(dict.fromkeys(self._ways)) or "without a question"

    def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
        """The library's line stands."""
        self._connection = conn
        write_nothing_after_a_cut(conn)
        hear_refusals(conn, self._refused)

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        """Judge the server's key before anything secret is sent (RFC 4253, 8)."""
        where = self._wanted.where
        shown = host_key(key)
        if self._shown is not None:
            # Fresh keys under way (RFC 4253, 9): it must be who it was when the line was made.
            return shown == self._shown
        self._wanted.heard(Stage.ENCRYPTION, "SSH")
        self._wanted.log.note(f"the server shows {shown.algorithm} {shown.fingerprint}")
        try:
            judged(shown, self._wanted.pinned, host=where.host, port=where.port)
        except TransferError as refusal:
            self.refusal = refusal
            return False
        self._wanted.heard(Stage.IDENTITY, f"{shown.algorithm}, known")
        self.met = True
        self._shown = shown
        self._next_step(self.step_s)
        return True

    def _refused(self, left: list[str], partly: bool) -> None:
        """A sign-in was refused, or accepted as one step of several; `left` are the methods that can go on."""
        self._left = left
        if partly and self._tried:
            self._accepted.append(self._tried)
            # What was one step is good for the next one, too: some ask for the password twice.
            self._password, self._password_given = self._wanted.sign_in.password, False
        self._tried = ""

    def explained(self, refusal: LoginRefused) -> LoginRefused:
        """A refusal that says what the server accepted, and what it still wants."""
        wants = [_METHODS[name] for name in self._left if name in _METHODS]
        words = " or ".join(wants)
        if self._accepted and wants:
            how = " and ".join(dict.fromkeys(self._accepted))
            lacks = [word for name, word in _METHODS.items() if name in self._left and not self._has(name)]
            missing = f" None is stored for this site: {' and '.join(lacks)}." if lacks else " That one was refused."
            return LoginRefused(
                f"The server accepted {how} and also asks for {words}.{missing}",
                advice=("Add what is missing in the site's settings. The server requires both steps.",),
            )
        if wants and not any(self._has(name) for name in self._left):
            return LoginRefused(
                f"The server does not accept the stored sign-in details. It accepts {words}.",
                advice=("Add it in the site's settings.",),
            )
        return refusal

    def _has(self, method: str) -> bool:
        sign_in = self._wanted.sign_in
        match method:
            case "publickey":
                return bool(sign_in.private_key or sign_in.key_file or sign_in.agent)
            case "password":
                return sign_in.password is not None
            case _:
                return sign_in.password is not None or sign_in.one_time_secret is not None

    def auth_banner_received(self, msg: str, lang: str) -> None:
        """Show what the server says before the sign-in (RFC 4252, 5.4)."""
        self._wanted.log.heard(msg)

    def public_key_auth_requested(self) -> Key | None:
        """The next key to offer; None where none is left (RFC 4252, 7)."""
        if not self._keys:
            return None
        self._offered("by key", "the key")
        return self._keys.pop(0)

    def password_auth_requested(self) -> str | None:
        """The password, offered once (RFC 4252, 8)."""
        password, self._password = self._password, None
        if password is not None:
            self._password_given = True
            self._offered("by password", "the password")
        return password

    def password_change_requested(  # type: ignore[override]  # the library takes None for giving up, and does not say so
        self, prompt: str, lang: str
    ) -> None:
        """A new password is asked for here: the sign-in ends, and the person hears of it."""
        self.refusal = LoginRefused(
            "The server wants the password to be changed first.",
            server_words=prompt or None,
            advice=(
                (
                    "Change the password in your hosting provider's customer area, then enter the new one in the "
                    "site's settings."
                ),
            ),
        )

    def kbdint_auth_requested(self) -> str | None:
        """Let the server put its questions (RFC 4256)."""
        return ""

    async def kbdint_challenge_received(
        self, name: str, instructions: str, lang: str, prompts: Sequence[tuple[str, bool]]
    ) -> list[str] | None:
        """Answers to the server's questions (RFC 4256, 3.2), or None to give up."""
        for prompt, _ in prompts:
            self._wanted.log.heard(f"asks: {prompt}")
        if self._password_given and any(_asks_password(prompt) for prompt, _ in prompts):
            # It asks for what it was given: that was the refusal.
            self.refusal = LoginRefused("The server rejected this user name and password.")
            return None
        answers = [self._known_answer(prompt) for prompt, _ in prompts]
        unknown = tuple(prompt for prompt, answer in zip(prompts, answers, strict=True) if answer is None)
        if unknown:
            self._next_step(self.step_s + PERSON_S)
            said = "\n".join(part for part in (name, instructions) if part.strip())
            try:
                async with asyncio.timeout(PERSON_S):
                    given = await self._wanted.ask(said, unknown)
            except TimeoutError:
                given = []
            if len(given) != len(unknown):
                self.refusal = AnswerNeeded(
                    "The server asks something only you know.", prompts=unknown, instructions=said
                )
                return None
            self._wanted.log.hide(given)
            rest = iter(given)
            answers = [next(rest) if answer is None else answer for answer in answers]
        self._next_step(self.step_s)
        if prompts:
            self._offered("by answering its questions", "the answers")
        return [answer or "" for answer in answers]

    def _known_answer(self, prompt: str) -> str | None:
        sign_in = self._wanted.sign_in
        # A code is good for one sign-in; asked again, the person must say.
        if sign_in.one_time_secret and _CODE.search(prompt) and not self._code_used:
            self._code_used = True
            code = one_time_code(sign_in.one_time_secret)
            self._wanted.log.hide([code])
            return code
        if self._password is not None and _asks_password(prompt):
            password, self._password = self._password, None
            self._password_given = True
            return password
        return None

    def _next_step(self, within_s: float) -> None:
        if self.limit is not None:
            self.limit.reschedule(asyncio.get_running_loop().time() + within_s)

    def _offered(self, way: str, what: str) -> None:
        self._ways.append(way)
        self._tried = what
        self._wanted.log.out(f"sign in as {self._wanted.sign_in.user} {way}")


def _asks_password(prompt: str) -> bool:
    return _PASSWORD.search(prompt) is not None and _CODE.search(prompt) is None


def one_time_code(secret: str, at_s: float | None = None) -> str:
    """The code of a moment (RFC 6238: six digits, thirty seconds, SHA-1), now if None is given. Short secrets are taken:
    many hosts still hand out 80 bits. Raises InvalidInput where the secret is no base 32.

    >>> one_time_code("GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ", 59)
    '287082'
    """
    bare = bare_secret(secret)
    try:
        key = base64.b32decode(bare + "=" * (-len(bare) % 8))
        made = TOTP(key, 6, SHA1(), 30, enforce_key_length=False)  # noqa: S303  # what RFC 6238 and every host uses
        return made.generate(time.time() if at_s is None else at_s).decode()
    except (binascii.Error, ValueError) as error:
        raise InvalidInput("The one-time secret cannot be read: it is letters A to Z and digits 2 to 7.") from error


def bare_secret(text: str) -> str:
    """The base 32 letters of a one-time secret, as typed in groups or pasted as an `otpauth:` address."""
    if found := re.search(r"[?&]secret=([A-Za-z2-7]+)", text):
        text = found[1]
    return re.sub(r"[\s-]", "", text).upper()


async def keys_of(sign_in: SignIn) -> list[Key]:
    """The keys to offer: the stored one, one in a file of this machine, those of its agent. Raises KeyUnusable."""
    keys: list[Key] = []
    if sign_in.private_key:
        keys.append(private_key(sign_in.private_key, sign_in.passphrase))
    if sign_in.key_file:
        keys.append(private_key(await in_thread(_file_text, sign_in.key_file), sign_in.passphrase))
    if sign_in.agent:
        keys += await _agent_keys()
    return keys


def private_key(text: str, passphrase: str | None) -> asyncssh.SSHKey:
    """A private key from its text, OpenSSH's own format or PEM. Raises KeyUnusable, which says what is wrong with it."""
    try:
        return asyncssh.import_private_key(text, passphrase or None)
    except asyncssh.KeyEncryptionError as error:
        raise KeyUnusable("The passphrase does not open the private key.", advice=_PASSPHRASE) from error
    except asyncssh.KeyImportError as error:
        if "passphrase" in str(error).lower():
            raise KeyUnusable("The private key is locked: it needs its passphrase.", advice=_PASSPHRASE) from error
        raise KeyUnusable("The private key cannot be read.", server_words=str(error), advice=_KEY_FORMS) from error


_PASSPHRASE = (
    "Type the passphrase again. It was chosen when the key was created; it is not the password of the account.",
)
_KEY_FORMS = (
    "Paste the whole file, from the line that says BEGIN to the line that says END, in OpenSSH's form or PEM.",
)


def _file_text(path: str) -> str:
    """A key file, if it is a regular file: a pipe or a device would hold whoever opens it, or never end."""
    try:
        descriptor = os.open(Path(path).expanduser(), os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY)
    except (OSError, ValueError, RuntimeError) as error:
        words = getattr(error, "strerror", None)
        raise KeyUnusable(f"The key file {path} cannot be read on this machine.", server_words=words) from error
    try:
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            raise KeyUnusable(f"{path} is not a key file.")
        return os.read(descriptor, _KEY_BYTES).decode("ascii", "replace")
    finally:
        os.close(descriptor)


_KEY_BYTES = 64 * 1024


async def _agent_keys() -> list[Key]:
    try:
        agent = await asyncssh.connect_agent()
        return list(await agent.get_keys()) if agent else []
    except (OSError, ValueError) as error:
        words = getattr(error, "strerror", None)
        raise KeyUnusable("This machine's SSH agent does not answer.", server_words=words) from error
