"""What proves who somebody is beside a password: a sealed secret for one-time codes, recovery codes, passkeys."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from nailer.errors import NotFound
from nailer.seal import Seal
from nailer.store.database import Database, Work, utc_now


@dataclass(frozen=True, slots=True)
class Passkey:
    """A passkey as its owner sees it, and what it takes to check it (WebAuthn, 4)."""

    id: int
    name: str
    created_at: datetime
    used_at: datetime | None
    credential: bytes = field(repr=False)
    public_key: bytes = field(repr=False)
    sign_count: int = field(repr=False)


@dataclass(frozen=True, slots=True)
class Proofs:
    """What somebody has: one-time codes, how many recovery codes are left, passkeys."""

    has_codes: bool
    recovery_left: int
    passkeys: tuple[Passkey, ...]
    required: bool

    @property
    def any(self) -> bool:
        """True where a second proof is asked for at the sign-in."""
        return self.has_codes or bool(self.passkeys)


class ProofStore:
    def __init__(self, database: Database, seal: Seal) -> None:
        self._db = database
        self._seal = seal

    async def of(self, account_id: int) -> Proofs:
        """What an account has. Raises NotFound."""

        def _read(work: Work) -> Proofs:
            row = work.one("proofs.of_account", account_id=account_id)
            if row is None:
                raise NotFound("This account no longer exists.")
            keys = tuple(Passkey(**one) for one in work.rows("proofs.passkeys", account_id=account_id))
            return Proofs(bool(row["has_codes"]), row["recovery_left"], keys, bool(row["needs_second"]))

        return await self._db.read(_read)

    async def secret(self, account_id: int) -> str | None:
        """The secret of an account's one-time codes; None where it has none."""
        row = await self._db.read(lambda work: work.one("proofs.secret", account_id=account_id))
        sealed = row["code_secret"] if row else None
        return self._seal.open(sealed, _place(account_id)) if sealed is not None else None

    async def set_codes(self, account_id: int, secret: str, step: int, recovery: Sequence[str]) -> None:
        """Store the secret of one-time codes, the step of the one just used, and new recovery codes."""
        sealed = self._seal.close(secret, _place(account_id))

        def _change(work: Work) -> None:
            work.run("proofs.set_secret", account_id=account_id, secret=sealed, step=step)
            work.run("proofs.forget_recovery", account_id=account_id)
            for code in recovery:
                work.run("proofs.add_recovery", account_id=account_id, code_hash=_hash(code))

        await self._db.write(_change)

    async def use_step(self, account_id: int, step: int) -> bool:
        """True where a code of this step, or a later one, has not been used yet; then it is used now (RFC 6238, 5.2)."""
        return await self._db.write(lambda work: work.run("proofs.use_step", account_id=account_id, step=step)) == 1

    async def use_recovery(self, account_id: int, code: str) -> bool:
        """True where it is a recovery code that was not used; then it is used now."""
        values = {"account_id": account_id, "code_hash": _hash(code)}
        return await self._db.write(lambda work: work.run("proofs.use_recovery", **values)) == 1

    async def forget_codes(self, account_id: int) -> None:
        """Forget one-time codes and recovery codes."""

        def _change(work: Work) -> None:
            work.run("proofs.set_secret", account_id=account_id, secret=None, step=0)
            work.run("proofs.forget_recovery", account_id=account_id)

        await self._db.write(_change)

    async def add_passkey(
        self, account_id: int, credential: bytes, public_key: bytes, sign_count: int, name: str
    ) -> None:
        """Store a passkey."""
        values = {
            "account_id": account_id,
            "credential_hash": hashlib.sha256(credential).digest(),
            "credential": credential,
            "public_key": public_key,
            "sign_count": sign_count,
            "name": name,
            "now": utc_now(),
        }
        await self._db.write(lambda work: work.run("proofs.add_passkey", **values))

    async def passkey_used(self, passkey_id: int, sign_count: int) -> None:
        """A passkey has proved its owner."""
        values = {"id": passkey_id, "sign_count": sign_count, "now": utc_now()}
        await self._db.write(lambda work: work.run("proofs.passkey_used", **values))

    async def forget_passkey(self, account_id: int, passkey_id: int) -> None:
        """Forget one of somebody's passkeys."""
        await self._db.write(lambda work: work.run("proofs.forget_passkey", account_id=account_id, id=passkey_id))

    async def forget_all(self, account_id: int) -> None:
        """Forget every second proof of an account, for somebody who has lost them."""
        await self.forget_codes(account_id)
        await self._db.write(lambda work: work.run("proofs.forget_passkeys", account_id=account_id))

    async def require(self, account_id: int, *, required: bool) -> None:
        """Require a second proof of an account, or not."""
        await self._db.write(lambda work: work.run("proofs.require", account_id=account_id, required=required))

    async def complete_sign_in(self, session_key: bytes) -> None:
        """A session whose second proof was given."""
        await self._db.write(lambda work: work.run("proofs.complete_sign_in", token_hash=session_key))


def _place(account_id: int) -> str:
    return f"account {account_id} one-time codes"


def _hash(code: str) -> bytes:
    return hashlib.sha256(code.encode("utf-8", "surrogatepass")).digest()
