"""Where the address of a Nailer and its token are kept: the system's keyring where there is one, else a file of mode 600."""

from __future__ import annotations

import contextlib
import json
import os
from dataclasses import dataclass, field
from pathlib import Path

_SERVICE = "nailer"


@dataclass(frozen=True, slots=True)
class Remembered:
    """A Nailer that was signed in to."""

    address: str
    token: str = field(repr=False)


def place() -> Path:
    """The file with the address, and the token where no keyring keeps it (XDG Base Directory)."""
    above = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(above) / "nailer" / "sign-in.json"


def known() -> Remembered | None:
    """The Nailer that was signed in to; None where none was. NAILER_ADDRESS and NAILER_TOKEN win, for pipelines."""
    if os.environ.get("NAILER_ADDRESS") and os.environ.get("NAILER_TOKEN"):
        return Remembered(os.environ["NAILER_ADDRESS"], os.environ["NAILER_TOKEN"])
    try:
        stored = json.loads(place().read_text())
        address = str(stored["address"])
    except (OSError, ValueError, KeyError, TypeError):
        return None
    token = stored.get("token") or _from_keyring(address)
    return Remembered(address, token) if token else None


def remember(address: str, token: str) -> str:
    """Keep an address and its token; return where the token is."""
    in_keyring = _to_keyring(address, token)
    file = place()
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    body = json.dumps({"address": address} if in_keyring else {"address": address, "token": token})
    descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as out:
        os.fchmod(out.fileno(), 0o600)
        out.write(body)
    return "the system's keyring" if in_keyring else f"{file}, which only you can read"


def forget() -> None:
    """Forget the Nailer that was signed in to."""
    found = known()
    if found is not None:
        with contextlib.suppress(Exception):
            import keyring

            keyring.delete_password(_SERVICE, found.address)
    place().unlink(missing_ok=True)


def _to_keyring(address: str, token: str) -> bool:
    """False where there is no keyring, or it is shut: what it says then has as many forms as there are keyrings."""
    try:
        import keyring

        keyring.set_password(_SERVICE, address, token)
        return bool(keyring.get_password(_SERVICE, address) == token)
    except Exception:
        return False


def _from_keyring(address: str) -> str:
    try:
        import keyring

        return keyring.get_password(_SERVICE, address) or ""
    except Exception:
        return ""
