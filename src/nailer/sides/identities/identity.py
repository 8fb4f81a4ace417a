"""Who a server is: host keys and certificates, their fingerprints, and whether one was met before."""

from __future__ import annotations

from dataclasses import dataclass

import asyncssh

from nailer.errors import IdentityChanged, IdentityUnknown, InvalidInput


@dataclass(frozen=True, slots=True)
class Identity:
    """What a server shows: the algorithm of its key (or `certificate`), the SHA-256 fingerprint, and the thing itself:
    a line of OpenSSH's public key format (algorithm and base64), or a certificate in PEM."""

    algorithm: str
    fingerprint: str
    public_key: str

    @property
    def is_certificate(self) -> bool:
        """True for a certificate, False for a host key."""
        return self.algorithm == "certificate"

    @property
    def word(self) -> str:
        """What the identity is, in a word."""
        return "certificate" if self.is_certificate else "host key"

    @property
    def spaced(self) -> str:
        """The fingerprint in groups of four, for comparing by eye."""
        kind, _, digest = self.fingerprint.partition(":")
        digest = digest.replace(":", "")
        return f"{kind}: " + " ".join(digest[at : at + 4] for at in range(0, len(digest), 4))


def host_key(key: asyncssh.SSHKey) -> Identity:
    """The identity that a key of the SSH library stands for."""
    algorithm = key.get_algorithm()
    line = key.export_public_key("openssh").decode().split()
    return Identity(algorithm, key.get_fingerprint("sha256"), " ".join(line[:2]))


def key_of_line(public_key: str) -> Identity:
    """The identity behind one line of OpenSSH's public key format. Raises InvalidInput."""
    try:
        return host_key(asyncssh.import_public_key(public_key))
    except (asyncssh.KeyImportError, ValueError) as error:
        raise InvalidInput("This is not a public key.") from error


def judged(
    shown: Identity, pinned: tuple[Identity, ...], *, host: str, port: int, doubts: tuple[str, ...] = ("",)
) -> None:
    """Return where the shown identity is pinned, or where nothing is pinned and nothing is to be doubted.

    Raises IdentityUnknown at a first meeting, IdentityChanged otherwise. A host key always has a doubt: nobody vouches
    for it. Something pinned is held to even where an authority vouches for what is shown now.
    """
    if any(known.public_key == shown.public_key for known in pinned):
        return
    if not pinned and not doubts:
        return
    said = tuple(one for one in doubts if one)
    kind: type[IdentityUnknown] | type[IdentityChanged] = IdentityChanged if pinned else IdentityUnknown
    sentence = f"{host} shows another {shown.word} than the one that was trusted."
    raise kind(
        sentence if pinned else f"Nailer has not met {host} before.",
        host=host,
        port=port,
        algorithm=shown.algorithm,
        fingerprint=shown.fingerprint,
        public_key=shown.public_key,
        doubts=said,
    )


def published_fingerprint(text: str) -> str:
    """The fingerprint in what a host publishes: by itself, in a line of `ssh-keygen -lf`, or of a whole public key.

    >>> published_fingerprint("256 SHA256:abcd+/12 root@ftp (ED25519)")
    'SHA256:abcd+/12'
    """
    words = text.split()
    for word in words:
        if word.upper().startswith("SHA256:") and len(words) > 1 and len(word) > 20:
            return word
    for at, word in enumerate(words[:-1]):
        if word.startswith(("ssh-", "ecdsa-", "sk-")) and words[at + 1].startswith("AAAA"):
            try:
                return key_of_line(f"{word} {words[at + 1]}").fingerprint
            except InvalidInput:
                return text
    found = [word for word in words if word.upper().startswith("SHA256:")]
    return found[0] if len(found) == 1 and len(words) > 1 and words[0].isdigit() else text


def same_fingerprint(published: str, fingerprint: str) -> bool:
    """True where a pasted fingerprint is this one. Blanks, colons and the `SHA256:` before it do not matter; in a
    certificate's hexadecimal the case does not either; all else does.

    >>> same_fingerprint(" SHA256:abcd efgh= ", "SHA256:abcdefgh")
    True
    >>> same_fingerprint("abcdefgH", "SHA256:abcdefgh")
    False
    >>> same_fingerprint("ab cd ef 01", "SHA256:AB:CD:EF:01")
    True
    """

    def _bare(text: str) -> str:
        joined = "".join(text.split())
        return joined.removeprefix("SHA256:").removeprefix("sha256:").rstrip("=")

    one, other = _bare(published_fingerprint(published)), _bare(fingerprint)
    if ":" in other:
        one, other = one.replace(":", "").upper(), other.replace(":", "")
    return bool(one) and one == other
