"""Secrets at rest: AES-256-GCM under a key that lies in a file of mode 600, outside the database.

A sealed secret is bound to its place (`credential:12:password`): moved to another row, it does not open. The key file
holds one key a line, the current one first; older ones still open what they sealed, so keys can be rotated.

    sealed = version (1 byte) | key id (4 bytes) | nonce (12 bytes) | ciphertext and tag
"""

from __future__ import annotations

import base64
import hashlib
import os
import secrets
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from nailer.errors import SetupFailed

_VERSION = b"\x01"
_KEY_BYTES = 32
_NONCE_BYTES = 12
_HEAD_BYTES = 1 + 4 + _NONCE_BYTES


class Seal:
    """Seals and opens secrets under the keys of one installation."""

    def __init__(self, keys: list[bytes]) -> None:
        self._current = keys[0]
        self._by_id = {_key_id(key): key for key in keys}

    @classmethod
    def at(cls, file: Path) -> Seal:
        """The seal whose keys lie in `file`; made with a new key where there is none.

        Raises SetupFailed where the file cannot be read, or where others may read it.
        """
        if not file.exists():
            file.parent.mkdir(parents=True, exist_ok=True)
            line = base64.b64encode(secrets.token_bytes(_KEY_BYTES)) + b"\n"
            descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "wb") as out:
                out.write(line)
                out.flush()
                os.fsync(out.fileno())
        if file.stat().st_mode & 0o077:
            raise SetupFailed(f"The key file {file} can be read by others. Set its permissions to 600.")
        try:
            keys = [base64.b64decode(line, validate=True) for line in file.read_bytes().split()]
        except ValueError as error:
            raise SetupFailed(
                f"The key file {file} is damaged. Without it, Nailer cannot decrypt the stored passwords. Restore "
                "it from a backup."
            ) from error
        if not keys or any(len(key) != _KEY_BYTES for key in keys):
            raise SetupFailed(
                f"The key file {file} is damaged. Without it, Nailer cannot decrypt the stored passwords. Restore "
                "it from a backup."
            )
        return cls(keys)

    def close(self, secret: str, place: str) -> bytes:
        """`secret` sealed for `place`."""
        nonce = os.urandom(_NONCE_BYTES)
        sealed = AESGCM(self._current).encrypt(nonce, secret.encode(), place.encode())
        return _VERSION + _key_id(self._current) + nonce + sealed

    def open(self, sealed: bytes, place: str) -> str:
        """The secret that was sealed for `place`. Raises SetupFailed where the key is another or the place is wrong."""
        key = self._by_id.get(sealed[1:5])
        if sealed[:1] != _VERSION or key is None:
            raise SetupFailed("A stored secret was sealed under a key that is not in this installation's key file.")
        nonce, body = sealed[5:_HEAD_BYTES], sealed[_HEAD_BYTES:]
        try:
            return AESGCM(key).decrypt(nonce, body, place.encode()).decode()
        except InvalidTag as error:
            raise SetupFailed(
                "A stored secret cannot be decrypted: it is damaged or was copied from another installation."
            ) from error


def _key_id(key: bytes) -> bytes:
    return hashlib.sha256(b"nailer key " + key).digest()[:4]
